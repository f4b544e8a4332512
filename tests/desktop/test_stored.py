"""A history of a store in the window: opened by its address, followed, and what is told when the store goes."""

import pytest
from PySide6.QtWidgets import QInputDialog

from tests.cluster.object_store import fetch_to, object_store
from tests.desktop.test_examine import settle, window  # noqa: F401  (the fixture)
from tests.history.two_weeks import write_two_weeks
from yaffle.desktop.survey.station import INTERFACES
from yaffle.history.layout import USUAL_DAYS
from yaffle.history.shipping import Shipper

URL = "s3://ferries/kept"


@pytest.fixture(scope="module")
def server():
    with object_store("ferries") as made:
        yield made


@pytest.fixture
def store(server, tmp_path, monkeypatch):
    fetch_to(tmp_path / "cache", monkeypatch)
    monkeypatch.setattr("yaffle.file_store._PAUSE_S", 0.01)
    yield server
    server.down = False


def test_it_is_opened_and_told_when_the_store_goes(store, tmp_path, window, qtbot, monkeypatch):  # noqa: F811
    write_two_weeks(tmp_path / "own", days=2)
    Shipper(tmp_path / "own", URL, USUAL_DAYS).ship([])
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: (f" {URL} ", True))
    window.files.open_stored_dialog()
    qtbot.waitUntil(lambda: window.investigation.evidence is not None, timeout=60_000)
    settle(window, qtbot)
    history = window.investigation.evidence.analysis.history
    assert history.address == URL
    window.go(0)
    assert f"kept in {URL}" in window.gather._words.toPlainText()
    window.go(1)
    window.survey.parts.setCurrentIndex(INTERFACES)
    settle(window, qtbot)
    assert window.survey.interfaces.model.rowCount() > 0
    window.go(0)
    store.down = True
    window.live.look()
    qtbot.waitUntil(lambda: "what came of late is not here" in window.gather._words.toPlainText(), timeout=60_000)
    store.down = False
    window.live.look()
    qtbot.waitUntil(lambda: "what came of late" not in window.gather._words.toPlainText(), timeout=60_000)


def test_an_address_without_anything_is_said_in_a_line(store, window, qtbot, monkeypatch):  # noqa: F811
    told = []
    window.task.failed.connect(told.append)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("s3://ferries/nothing", True))
    window.files.open_stored_dialog()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    assert window.investigation.evidence is None
    assert "this is neither" in told[0]
