"""The whole story in the real window: open, select the period, follow a finding, reach the packet, save, open again."""

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from tests.desktop.test_examine import settle
from yaffle.desktop.examine.packet_bytes import hex_lines
from yaffle.desktop.shared import theme
from yaffle.desktop.window.main_window import MainWindow
from yaffle.session.investigation import Investigation


@pytest.fixture
def window(qtbot):
    theme.apply(QApplication.instance(), theme.LIGHT)
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    return window


def load(window, qtbot, paths):
    window.load(paths)
    settle(window, qtbot)


def test_an_empty_window_teaches_what_to_do(window):
    welcome = window.gather.welcome
    assert "Open captures" in welcome.words.text() and welcome.open.isVisible() and welcome.demo.isVisible()
    for station in range(4):
        window.go(station)
    assert window.apportion.tree_model.rowCount() == 0


def test_from_the_captures_to_the_packet_and_back(window, qtbot, morning, tmp_path, monkeypatch):
    load(window, qtbot, morning)
    model = window.investigation
    assert window.gather.table_model.rowCount() == 3
    assert len(window.findings.cards) == 5
    assert window.stations.currentWidget() is window.apportion  # There are findings: straight to who waits on what.

    # Drag over the period strip: everything narrows to it.
    everything = model.rows.size
    strip = window.strip
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(strip.width() * 4 // 10, 40))
    qtbot.mouseMove(strip, QPoint(strip.width() * 7 // 10, 40))
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(strip.width() * 7 // 10, 40))
    assert model.focus.period is not None
    assert 0 < model.rows.size < everything
    qtbot.mouseDClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(200, 40))
    assert model.focus.period is None

    # A finding's button leads to its grounds.
    qtbot.mouseClick(window.findings.cards[0], Qt.MouseButton.LeftButton)
    assert model.focus.trail[0] == "ticket database"
    assert model.focus.period is not None
    settle(window, qtbot)
    group = window.apportion.selected()
    assert group is not None and group.exchanges > 50

    # Down the tree by keyboard to a connection, and into it.
    tree, levels = window.apportion.tree, window.apportion.tree_model
    tree.setFocus()
    index = tree.currentIndex()
    for _ in range(3 - group.level):
        tree.expand(index)
        settle(window, qtbot)
        below = [levels.index(row, 0, index) for row in range(levels.rowCount(index))]
        index = next(child for child in below if not levels.group(child).beside)
        tree.setCurrentIndex(index)
    assert window.apportion.selected().level == 3
    qtbot.keyClick(tree, Qt.Key.Key_Return)
    assert window.stations.currentWidget() is window.examine
    assert model.connection is not None
    assert len(model.focus.trail) == 4

    # The longest silence somebody waited for: its packet is selected in ladder, plot and table alike.
    qtbot.keyClick(window.examine.ladder, Qt.Key.Key_N)
    assert model.segment >= 0
    silence = window.examine._silences[0]
    assert silence.owed_by == "server"
    assert model.segment == silence.after
    assert window.examine.packet_table.currentIndex().row() == window.examine.packet_model.place_of(silence.after)
    qtbot.keyClick(window.examine.ladder, Qt.Key.Key_Down)
    assert model.segment == silence.after + 1

    # Its bytes, only when asked.
    assert not window.examine.bytes.isVisible()
    window.examine.toggle_bytes()
    assert "   0  " in window.examine.bytes.text.toPlainText()

    # Back, and forward again.
    trail = model.focus.trail
    window.menus.by_name["Focus"].actions()[0].trigger()
    assert model.focus.trail != trail
    window.menus.by_name["Focus"].actions()[1].trigger()
    assert model.focus.trail == trail

    # Save, close, open again: focus and notes are there, and no capture is read.
    window.go(0)
    window.gather.notes.setPlainText("desks at Northpoint")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "tuesday"), ""))
    window.files.save_dialog()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    window.investigation.close()
    monkeypatch.setattr("yaffle.workforce.read_captures", None)
    load(window, qtbot, [tmp_path / "tuesday.yaffle"])
    assert model.focus.trail == trail
    assert model.kept.notes == "desks at Northpoint"
    assert "tuesday" in window.windowTitle()


def test_a_filter_is_typed_and_errors_stand_under_it(window, qtbot, morning):
    load(window, qtbot, morning[1:2])
    line = window.focus_line
    window.focus_line.type_filter()
    line.filter.setText("wait_ms > 500")
    qtbot.keyClick(line.filter, Qt.Key.Key_Return)
    settle(window, qtbot)
    assert 0 < window.investigation.rows.size < window.investigation.evidence.waits.connection.size
    line.filter.setText("wait_ms > nonsense")
    qtbot.keyClick(line.filter, Qt.Key.Key_Return)
    settle(window, qtbot)
    assert line._error.isVisible()
    line.filter.clear()
    assert not line._error.isVisible()
    qtbot.keyClicks(line.filter, "serv")
    assert line.filter.completer_.completionCount() >= 2


def test_every_station_shows_in_dark_too_and_tables_copy(window, qtbot, morning):
    load(window, qtbot, morning[2:])
    window.switch_theme()
    for station in range(4):
        window.go(station)
        QTest.qWait(20)
        assert not window.grab().isNull()
    assert "packets" in window.gather.table.copied()
    window.go(2)
    settle(window, qtbot)
    assert "ticket desk" in window.apportion.tree.copied()
    window.switch_theme()
    assert theme.current().name == "light"


def test_reading_can_be_stopped_and_bad_files_are_told(window, qtbot, morning, tmp_path):
    window.load(morning)
    window.task.stop()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    bad = tmp_path / "bad.pcap"
    bad.write_bytes(b"no capture")
    said = []
    window.complain = said.append
    load(window, qtbot, [bad])
    assert said and "bad.pcap" in said[0]


def test_the_interface_answers_while_the_morning_is_read(window, qtbot, morning):
    window.load(morning)
    answered, job = 0, window.task.job
    while window.task.job is not None:
        QApplication.processEvents()
        answered += 1
    assert job is not None
    assert answered > 20  # It came back to its events again and again while another thread read.


def test_the_period_is_moved_and_sized_by_keys(window, qtbot, morning):
    load(window, qtbot, morning[1:2])
    strip, model = window.strip, window.investigation
    qtbot.keyClick(strip, Qt.Key.Key_Plus)
    first, last = model.focus.period
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert model.focus.period[0] > first
    qtbot.keyClick(strip, Qt.Key.Key_Minus)
    assert model.focus.period is None or model.focus.period[1] - model.focus.period[0] > last - first
    qtbot.keyClick(strip, Qt.Key.Key_Home)
    assert model.focus.period is None


def test_findings_fold_pin_and_the_sheet_lists_every_key(window, qtbot, morning):
    load(window, qtbot, morning[1:2])
    window.findings.cards[0].pin.setChecked(True)
    assert window.investigation.kept.pinned == (window.investigation.findings[0].key,)
    window.findings.set_folded(True)
    assert window.findings.width() < 100
    window.show_shortcuts()
    keys = {k for _, _, k in window.menus.shortcuts}
    assert {"Ctrl+O", "Ctrl+1", "Ctrl+4", "F1"} <= keys
    assert all(k for _, _, k in window.menus.shortcuts)
    window._sheet.close()


def test_bytes_read_as_hexadecimal_and_text():
    assert hex_lines(b"GET /\x00").split("  ")[-1] == "GET /·"


def test_the_demo_opens_at_a_click_and_stands_among_what_was_open(window, qtbot, morning, tmp_path, monkeypatch):
    monkeypatch.setattr("yaffle.desktop.window.case_files.platformdirs.user_data_path", lambda _name: tmp_path)
    (tmp_path / "demo").symlink_to(morning[0].parent)  # Made before.
    qtbot.mouseClick(window.gather.welcome.demo, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.investigation.opened is not None, timeout=120_000)
    settle(window, qtbot)
    assert len(window.investigation.evidence.analysis.capture.sources) == 3
    window.investigation.close()
    window.load(morning[1:2])
    settle(window, qtbot)
    window.investigation.close()
    assert window.gather.welcome._recent.count() >= 1
