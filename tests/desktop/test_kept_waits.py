"""Apportion on what a history keeps: down to an hour, and on to its packets where a ring still holds them."""

from datetime import UTC, datetime

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog

from tests.session.kept_history import EVENING, START_NS, write_kept
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.capture.ring_folder import KEPT, STAMP, is_ring, keep_stretch, packets_of_period, stretch
from yaffle.desktop.window.main_window import MainWindow
from yaffle.desktop.window.station_rail import APPORTION
from yaffle.errors import YaffleError
from yaffle.history.layout import HOUR_NS
from yaffle.session.investigation import Investigation

AT_NS = START_NS + EVENING * HOUR_NS + 600 * 10**9


@pytest.fixture
def ring(tmp_path):
    folder = tmp_path / "ring"
    folder.mkdir()
    for k in range(3):  # One file an hour, the second in the evening.
        begin = AT_NS + (k - 1) * HOUR_NS
        stamp = datetime.fromtimestamp(begin // 10**9, UTC).strftime(STAMP)
        frames = [(begin + n * 10**9, 60, bytes(12) + b"\x08\x00" + bytes(46)) for n in range(k + 1)]
        write_pcapng(folder / f"{k + 1:08d}-{stamp}.pcapng", frames)
    return folder


def opened(qtbot, paths):
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    window.load(paths)
    qtbot.waitUntil(lambda: window.investigation.evidence is not None, timeout=60_000)
    settle(qtbot, window)
    return window


def settle(qtbot, window):
    qtbot.wait(50)
    qtbot.waitUntil(lambda: not window.busy and window.task.job is None, timeout=60_000)


def packets(window):
    return window.investigation.evidence.analysis.capture.packets.time_ns.size


def worst_hour(qtbot, window):
    window.go(APPORTION)
    settle(qtbot, window)
    tree = window.apportion.tree
    for _ in range(3):
        tree.setCurrentIndex(tree.model().index(0, 0, tree.currentIndex()))
        settle(qtbot, window)
        tree.expand(tree.currentIndex())
        settle(qtbot, window)
    return tree


def test_an_hour_leads_to_its_packets_where_a_ring_holds_them(qtbot, tmp_path, ring):
    window = opened(qtbot, [write_kept(tmp_path / "h", [ring])])
    tree = worst_hour(qtbot, window)
    group = window.apportion.selected()
    assert group.level == 3 and group.period is not None and not tree.model().hasChildren(tree.currentIndex())
    assert "remote desktop › 203.0.113.9 3389 › 198.51.100.7 › 2026-03-1" in window.apportion._of.text()
    text = tree.copied()
    assert "remote desktop" in text and "198.51.100.7" in text
    first = window.apportion.tree_model.find((*group.trail[:3], str(AT_NS // HOUR_NS * HOUR_NS)))
    tree.setCurrentIndex(first)
    settle(qtbot, window)
    qtbot.keyClick(tree, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: packets(window) > 0, timeout=60_000)
    settle(qtbot, window)
    assert window.investigation.focus.period[0] == AT_NS // HOUR_NS * HOUR_NS
    assert window.investigation.evidence.analysis.history is not None


def test_where_no_ring_holds_them_it_is_said_what_remains(qtbot, tmp_path):
    window = opened(qtbot, [write_kept(tmp_path / "h", [tmp_path / "gone"])])
    tree = worst_hour(qtbot, window)
    qtbot.keyClick(tree, Qt.Key.Key_Return)
    settle(qtbot, window)
    assert "what remains" in window.statusBar().currentMessage() and packets(window) == 0


def test_a_stretch_is_kept_under_a_name(qtbot, ring, monkeypatch):
    names = sorted(path.name for path in ring.glob("*.pcapng"))
    assert [path.name for path in stretch(ring, AT_NS + 60 * 10**9, AT_NS + 61 * 10**9)] == names[1:2]
    window = opened(qtbot, [ring])
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("slow evening", True))
    window.investigation.look(window.investigation.focus.with_period((AT_NS + 60 * 10**9, AT_NS + 61 * 10**9)))
    window.files.keep_stretch()
    kept = ring / KEPT / "slow evening"
    assert is_ring(kept) and [path.name for path in kept.iterdir()] == names[1:2]
    window.files.keep_stretch()
    assert "already" in window.statusBar().currentMessage()
    for path in ring.glob("*.pcapng"):
        path.unlink()
    assert packets_of_period([ring], AT_NS + 60 * 10**9, AT_NS + 61 * 10**9) == [kept / names[1]]
    for name, words in (("", "no name"), ("a/b", "no name"), ("x", "holds nothing")):
        with pytest.raises(YaffleError, match=words):
            keep_stretch(ring, name, AT_NS, AT_NS + 1)
