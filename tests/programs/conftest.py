import pytest

from tests.history.two_weeks import write_two_weeks
from yaffle.programs.case import Case
from yaffle.programs.case import open as open_evidence
from yaffle.session.investigation import Opened


@pytest.fixture(scope="package")
def morning_case(analysed_morning):
    return Case(Opened(analysed_morning), "morning")


@pytest.fixture(scope="package")
def weeks_case(tmp_path_factory):
    """Three days are enough for what programs ask."""
    return open_evidence(write_two_weeks(tmp_path_factory.mktemp("weeks") / "history", days=3))
