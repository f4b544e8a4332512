"""What several tests share: the demo morning (made once), small simulated worlds, frames built by hand."""

import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

pytest_plugins = ["tests.calm"]

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("XDG_STATE_HOME", "/tmp/yaffle-tests-state")
os.environ["YAFFLE_CONFIG_DIR"] = tempfile.mkdtemp(prefix="yaffle-tests-")


settings.register_profile(
    "calm", deadline=None, suppress_health_check=[HealthCheck.too_slow]
)  # Machines are shared: time decides nothing.
settings.load_profile("calm")


@pytest.fixture(scope="session")
def morning(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """The demo's three captures, at full size."""
    from yaffle.demo.morning import make_morning

    return make_morning(tmp_path_factory.mktemp("morning"))


@pytest.fixture(scope="session")
def analysed_morning(morning: list[Path]):
    """The demo, analysed once."""
    from yaffle.analysis import analyse

    return analyse(morning)


@pytest.fixture(scope="session")
def two_weeks(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A history of two weeks, made once for all tests that only read it."""
    from tests.history.two_weeks import write_two_weeks

    return write_two_weeks(tmp_path_factory.mktemp("weeks") / "history")
