"""A history of a store in the window: opened by its address, followed, and what is told when the store goes."""

from PySide6.QtWidgets import QInputDialog, QPushButton

from tests.cluster.object_store import server, store  # noqa: F401  (the fixtures)
from tests.desktop.test_examine import settle, window  # noqa: F401  (the fixture)
from tests.history.two_weeks import write_two_weeks
from yaffle.desktop.survey.station import INTERFACES
from yaffle.desktop.window.station_rail import WATCH
from yaffle.history.layout import USUAL_DAYS
from yaffle.history.shipping import Shipper

URL = "s3://ferries/kept"


def test_it_is_opened_and_told_when_the_store_goes(store, tmp_path, window, qtbot, monkeypatch):  # noqa: F811
    write_two_weeks(tmp_path / "own", days=2)
    Shipper(tmp_path / "own", URL, USUAL_DAYS).ship([])
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: (f" {URL} ", True))
    window.files.open_stored_dialog()
    qtbot.waitUntil(lambda: window.investigation.evidence is not None, timeout=60_000)
    settle(window, qtbot)
    history = window.investigation.evidence.analysis.history
    assert history.address == URL
    assert window.preferences.recent[0] == URL  # By its address it is found again, not by where it lies here.
    window.go(WATCH)
    settle(window, qtbot)
    assert "known where its collectors run" in window.watch.words.text()
    window.go(0)
    assert f"kept in {URL}" in window.gather._words.toPlainText()
    window.go(1)
    window.survey.parts.setCurrentIndex(INTERFACES)
    settle(window, qtbot)
    assert window.survey.interfaces.model.rowCount() > 0
    window.go(0)
    store.down = True
    window.live.look()
    qtbot.waitUntil(lambda: "is not here: s3://" in window.gather._words.toPlainText(), timeout=60_000)
    store.down = False
    window.live.look()
    qtbot.waitUntil(lambda: "is not here: s3://" not in window.gather._words.toPlainText(), timeout=60_000)


def test_an_address_without_anything_is_said_in_a_line(store, window, qtbot, monkeypatch):  # noqa: F811
    told = []
    window.task.failed.connect(told.append)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("s3://ferries/nothing", True))
    window.files.open_stored_dialog()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    assert window.investigation.evidence is None
    assert "this is neither" in told[0]


def test_what_was_open_before_is_opened_by_its_address(store, tmp_path, window, qtbot):  # noqa: F811
    write_two_weeks(tmp_path / "own", days=1)
    Shipper(tmp_path / "own", URL, USUAL_DAYS).ship([])
    window.gather.welcome.show_recent((URL, str(tmp_path / "gone.pcap"), str(tmp_path / "own")))
    named = [button.text() for button in window.gather.welcome.findChildren(QPushButton)][-2:]
    assert named == [URL, "own"]
    window.gather.welcome.recent_wanted.emit(URL)
    qtbot.waitUntil(lambda: window.investigation.evidence is not None, timeout=60_000)
    assert window.investigation.evidence.analysis.history.address == URL


def test_all_words_of_the_empty_window_are_seen(window):  # noqa: F811
    words = window.gather.welcome.words
    assert words.height() >= words.heightForWidth(words.width())
    assert "Ctrl+Shift+H" in words.text()
