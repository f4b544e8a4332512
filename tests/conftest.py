"""What several tests share: the demo morning (made once), small simulated worlds, frames built by hand."""

import fcntl
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("XDG_STATE_HOME", "/tmp/yaffle-tests-state")
os.environ["YAFFLE_CONFIG_DIR"] = tempfile.mkdtemp(prefix="yaffle-tests-")


# Files that take long, first: of two processes none is left alone with one of them at the end.
LONG = (
    "desktop/test_walk.py", "cluster/test_cluster.py", "watching/test_collected.py", "session/test_bundle.py",
    "watching/test_closed_loop.py", "watching/test_player.py", "desktop/test_kept_waits.py", "desktop/test_weeks.py",
    "probing/test_route.py", "programs/test_web.py", "capture/test_larger_than_memory.py",
)  # fmt: skip


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Keeps the order of all else."""
    items.sort(key=lambda item: not item.nodeid.partition("::")[0].endswith(LONG))


settings.register_profile(
    "calm", deadline=None, suppress_health_check=[HealthCheck.too_slow]
)  # Machines are shared: time decides nothing.
settings.load_profile("calm")


@pytest.fixture(scope="session")
def made_once(
    tmp_path_factory: pytest.TempPathFactory, worker_id: str
) -> Callable[[str, Callable[[Path], object]], Path]:
    """Makes a folder that only is read, once for all processes that run tests: who comes later waits for it."""
    base = tmp_path_factory.getbasetemp()
    root = base if worker_id == "master" else base.parent

    def make(name: str, fill: Callable[[Path], object]) -> Path:
        folder = root / name
        with (root / f"{name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not folder.exists():
                part = root / f"{name}.part"
                part.mkdir()
                fill(part)
                part.rename(folder)
        return folder

    return make


@pytest.fixture(scope="session")
def morning(made_once) -> list[Path]:
    """The demo's three captures, at full size."""
    from yaffle.demo.morning import make_morning

    return make_morning(made_once("morning", make_morning))  # It is found again.


@pytest.fixture(scope="session")
def analysed_morning(morning: list[Path]):
    """The demo, analysed once."""
    from yaffle.analysis import analyse

    return analyse(morning)


@pytest.fixture(scope="session")
def two_weeks(made_once) -> Path:
    """A history of two weeks, made once for all tests that only read it."""
    from tests.history.two_weeks import write_two_weeks

    return made_once("weeks", lambda folder: write_two_weeks(folder / "history")) / "history"
