import shutil

import pytest

from yaffle.programs.case import Case
from yaffle.programs.case import open as open_evidence
from yaffle.session.investigation import Opened


@pytest.fixture(scope="package")
def morning_case(analysed_morning):
    return Case(Opened(analysed_morning), "morning")


@pytest.fixture(scope="package")
def weeks_case(two_weeks, tmp_path_factory):
    folder = tmp_path_factory.mktemp("weeks") / two_weeks.name
    shutil.copytree(two_weeks, folder)
    return open_evidence(folder)
