"""Three whole investigations in the real window, with keyboard and mouse, on cases used for nothing else."""

import pyarrow.parquet as pq
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QFileDialog, QInputDialog, QMessageBox

from tests.desktop.cases import BEGAN_NS, rainy_mast, slow_reader, stock_room
from tests.desktop.test_examine import settle
from yaffle.analysis import analyse
from yaffle.desktop.gather.complaint_dialog import ComplaintDialog
from yaffle.desktop.window.main_window import MainWindow
from yaffle.desktop.window.naming_dialog import NamingDialog
from yaffle.session.investigation import Investigation
from yaffle.transport import kinds


@pytest.fixture
def window(qtbot):
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    yield window
    window.task.stop()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)


def load(window, qtbot, path):
    window.load([path])
    settle(window, qtbot)


def dialog_of(window, kind):
    return next(d for d in window.findChildren(kind) if d.isVisible())


def accept(qtbot, dialog):
    qtbot.mouseClick(
        dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Ok), Qt.MouseButton.LeftButton
    )


def answer_file(monkeypatch, path, *, mask=False):
    def sure(box):
        box.checkBox().setChecked(mask)
        return QMessageBox.StandardButton.Ok

    monkeypatch.setattr(QMessageBox, "exec", sure)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))


def test_the_stock_room_waits_on_its_register(window, qtbot, tmp_path, monkeypatch):
    """Complaint, ranked finding, period, dearest exchanges, the packet; the evidence goes out as a table and a
    report.
    """
    load(window, qtbot, stock_room(tmp_path / "monday.pcapng"))
    model = window.investigation
    window.go(0)
    qtbot.mouseClick(window.gather.complain, Qt.MouseButton.LeftButton)
    dialog = dialog_of(window, ComplaintDialog)
    qtbot.keyClicks(dialog.who, "stock-room")
    qtbot.keyClicks(dialog.what, "register")
    qtbot.keyClicks(dialog.when, "at noon")
    accept(qtbot, dialog)
    assert dialog.isVisible()  # "at noon" is no period: it says so and stays.
    dialog.when.clear()
    qtbot.keyClicks(dialog.when, "first 3 min")
    accept(qtbot, dialog)
    assert len(model.kept.complaints) == 1
    assert window.gather.complaint_model.index(0, 0).data() == "stock-room"
    finding, score = model.ranked[0]
    assert finding.party == "server" and score >= 0.5
    assert "Stock Room" in finding.sentence

    # Enter on the first card leads to its grounds.
    window.findings.cards[0].setFocus()
    qtbot.keyClick(window.findings.cards[0], Qt.Key.Key_Return)
    settle(window, qtbot)
    assert window.stations.currentWidget() is window.apportion
    assert model.focus.trail[0] == "register"
    # The period as it is typed, and kept under a name.
    line = window.focus_line
    line.period.setFocus()
    line.period.selectAll()
    qtbot.keyClicks(line.period, "first 2 min")
    qtbot.keyClick(line.period, Qt.Key.Key_Return)
    assert model.focus.period == (model.evidence.first_ns, model.evidence.first_ns + 120 * 10**9)
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("the slow minutes", True))
    line.keep_period()
    assert model.kept.periods[0].name == "the slow minutes"
    settle(window, qtbot)
    # Who paid most for the server's working it out? Enter takes the connection apart there.
    plots = window.apportion.plots
    plots.choose_cause(5)
    settle(window, qtbot)
    assert plots.model.rowCount() >= 10
    plots.table.selectRow(0)
    qtbot.keyClick(plots.table, Qt.Key.Key_Return)
    assert window.stations.currentWidget() is window.examine
    assert model.segment >= 0
    assert model.connection.client == "198.51.100.20" or model.connection.client.startswith("198.51.100.2")
    window.examine.owed.setCurrentText("server")
    qtbot.keyClick(window.examine.ladder, Qt.Key.Key_N)
    silence = window.examine._silences[0]
    assert silence.owed_by == "server" and 0.8e9 < silence.span_ns < 1.0e9
    # Out: exchanges as Parquet, masked; the report with the complaint as PDF.
    answer_file(monkeypatch, tmp_path / "out.parquet", mask=True)
    window.exports.waits()
    qtbot.waitUntil(lambda: window.task.job is None)
    assert not any(
        str(a).startswith("198.51.100.") for a in pq.read_table(tmp_path / "out.parquet").column("client").to_pylist()
    )
    answer_file(monkeypatch, tmp_path / "out.html")
    window.exports.report()
    qtbot.waitUntil((tmp_path / "out.html").exists, timeout=30_000)
    assert "stock-room" in (tmp_path / "out.html").read_text()
    answer_file(monkeypatch, tmp_path / "out.pdf")
    qtbot.waitUntil(lambda: not window.busy, timeout=30_000)
    window.exports.report()
    qtbot.waitUntil((tmp_path / "out.pdf").exists, timeout=60_000)
    assert (tmp_path / "out.pdf").read_bytes().startswith(b"%PDF")


def test_the_mast_loses_packets_and_a_service_gets_its_name(window, qtbot, tmp_path, monkeypatch):
    """Survey down and back, an unknown application named, a filter from a cell, the ladder to scale, packets out and
    in again.
    """
    load(window, qtbot, rainy_mast(tmp_path / "rain.pcapng"))
    model = window.investigation
    window.go(1)
    settle(window, qtbot)
    panel = window.survey.make_up
    labels = [panel.model.index(r, 0).data() for r in range(panel.model.rowCount())]
    assert labels == ["intranet", "port 7443"]
    assert panel.model.index(1, 5).data().startswith("not known")
    # The unknown one gets a name; undo takes it back, redo gives it again.
    window.naming.name_application("port 7443", "", 7443)
    dialog = dialog_of(window, NamingDialog)
    dialog.table.item(0, 0).setText("roster")
    accept(qtbot, dialog)
    settle(window, qtbot)
    assert "roster" in model.evidence.application.texts
    model.undo()
    settle(window, qtbot)
    assert "port 7443" in model.evidence.application.texts
    model.redo()
    settle(window, qtbot)
    # Into a line by keyboard, and out of it.
    panel.table.selectRow(0)
    qtbot.keyClick(panel.table, Qt.Key.Key_Return)
    settle(window, qtbot)
    assert panel.by == "host" and panel.inside == (("application", "intranet"),)
    assert panel.model.rowCount() == 7
    qtbot.keyClick(panel.table, Qt.Key.Key_Backspace)
    settle(window, qtbot)
    assert panel.by == "application" and not panel.inside
    # Repeats are the trouble; its worst stretch becomes the period.
    troubles = window.survey.troubles
    names = [troubles.columns.index(r, 0).data() for r in range(troubles.columns.rowCount())]
    troubles.selectRow(names.index("retransmissions"))
    qtbot.keyClick(troubles, Qt.Key.Key_Return)
    assert model.focus.period is not None
    model.back()
    # The finding leads on; not this site shows the others are well.
    window.follow_first()
    settle(window, qtbot)
    assert "Mast" in model.findings[0].sentence and model.findings[0].party == "network"
    model.look(model.focus.with_filter("site <> 'Mast'").with_trail(()).with_period(None))
    settle(window, qtbot)
    assert model.rows.size > 50
    assert all(
        g.repeats == 0
        for g in (
            window.apportion.tree_model.group(window.apportion.tree_model.index(r, 0))
            for r in range(window.apportion.tree_model.rowCount())
        )
    )
    # One of its connections, with time to scale.
    model.look(model.focus.with_filter("site = 'Mast' and retransmissions > 3"))
    settle(window, qtbot)
    window.go(3)
    model.examine(model.worst_connection())
    ladder = window.examine.ladder
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    qtbot.keyClick(ladder, Qt.Key.Key_T)
    assert ladder.ns_per_pixel > 0
    times = model.connection.segments["t"]
    assert ladder._tops[-2] == (times.max() - times[0]) // ladder.ns_per_pixel
    ladder.zoom(0.25)
    assert not ladder.grab().isNull()
    qtbot.keyClick(ladder, Qt.Key.Key_T)
    repeat = next(i for i, k in enumerate(model.connection.segments["kind"]) if kinds.is_repeat(int(k)))
    model.select_segment(repeat)
    # Its header fields light its bytes.
    window.examine.toggle_bytes()
    tree = window.examine.bytes.tree
    top = [tree.topLevelItem(k).text(0) for k in range(tree.topLevelItemCount())]
    assert top[:3] == ["Ethernet", "IPv4", "TCP"]
    tree.setCurrentItem(tree.topLevelItem(2).child(2))
    assert tree.currentItem().text(0) == "sequence"
    assert len(window.examine.bytes.text.extraSelections()) >= 2
    # The packets of this connection for someone else: they tell the same story.
    answer_file(monkeypatch, tmp_path / "some.pcapng")
    window.exports.packets()
    qtbot.waitUntil(lambda: window.task.job is None)
    again = analyse([tmp_path / "some.pcapng"]).account
    assert again.flow.size == 1
    side = [int(again.side(s, "retransmitted_packets")[0]) for s in (0, 1)]
    assert side == [
        int(model.evidence.analysis.account.side(s, "retransmitted_packets")[model.connection.number]) for s in (0, 1)
    ]


def test_the_handheld_holds_itself_up_and_not_the_server(window, qtbot, tmp_path, monkeypatch):
    """By mouse: drag a period, its edge, the wheel; a measure of one's own; dismiss and take back; save and open
    again.
    """
    load(window, qtbot, slow_reader(tmp_path / "gate.pcapng"))
    model, strip = window.investigation, window.strip
    assert model.findings[0].party == "client"
    assert "handheld" in model.findings[0].sentence
    # Drag a period, then one of its edges.
    left, right = QPoint(strip.width() // 5, 40), QPoint(strip.width() * 3 // 5, 40)
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=left)
    qtbot.mouseMove(strip, right)
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=right)
    first, last = model.focus.period
    further = QPoint(strip.width() * 4 // 5, 40)
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=right)
    qtbot.mouseMove(strip, further)
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=further)
    assert model.focus.period[0] == pytest.approx(first, abs=3_000_000)
    assert model.focus.period[1] > last
    qtbot.keyClick(strip, Qt.Key.Key_M)
    assert strip.measure == "packets"
    qtbot.keyClick(strip, Qt.Key.Key_M)
    assert strip.measure == "concurrent waits"
    assert not strip.grab().isNull()
    qtbot.keyClick(strip, Qt.Key.Key_Home)
    # A measure of one's own, on a log scale, in intervals of a second, and the line's rate.
    window.go(1)
    window.survey.edit_measures()
    dialog = window.survey.findChildren(type(window.survey.findChild(QDialogButtonBox).parent()))[0]
    from yaffle.session.measures import Measure

    dialog.add(Measure("handheld waits", "concurrent waits", "client_name like 'handheld%'", "stacked"))
    dialog.add(Measure("broken", "volume", "wait_ms >", "line"))
    accept(qtbot, dialog)
    assert dialog.isVisible() and "broken" in dialog._wrong.text()
    dialog.table.selectRow(dialog.table.rowCount() - 1)
    dialog._remove()
    accept(qtbot, dialog)
    assert [m.name for m in model.kept.measures] == ["volume", "TCP issues", "handheld waits"]
    window.survey.interval.setCurrentText("1 s")
    window.survey.line.setValue(1.0)
    settle(window, qtbot)
    picture = window.survey.picture
    assert len(window.survey.plots.plots) == 3
    assert int(picture.edges_ns[1] - picture.edges_ns[0]) == 10**9
    assert picture.full_ms.size and window.survey.plots.full.isVisible()
    assert picture.lines[2][1].sum() > 1
    window.survey.logarithmic.setChecked(True)
    words = window.survey.plots._words_at(1.5, 0)
    assert "handheld waits" in words and "volume" in words
    # Filter by typing, with completion of a value that was seen.
    window.focus_line.type_filter()
    qtbot.keyClicks(window.focus_line.filter, "client_name like 'hand")
    assert window.focus_line.filter.suggestions()[1] == ["handheld-1.gate.tarn.example'"]
    window.focus_line.filter._insert("handheld-1.gate.tarn.example'")
    qtbot.keyClick(window.focus_line.filter, Qt.Key.Key_Return)
    settle(window, qtbot)
    assert model.rows.size == 6
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("the handheld", True))
    window.focus_line.keep_filter()
    assert window.preferences.filters == (("the handheld", "client_name like 'handheld-1.gate.tarn.example'"),)
    # The window of the client stays shut: that is in the packets.
    window.go(3)
    model.examine(model.worst_connection())
    assert window.examine._verdict.text().startswith("client:")
    # Dismissed with a reason; taken back by undo.
    finding = model.findings[0]
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("it will be replaced", True))
    window.findings.dismiss(finding)
    assert finding not in model.findings
    assert model.dismissed == [(finding, "it will be replaced")]
    model.undo()
    assert model.findings[0] is finding
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *a, **k: ("ordered a new one", True))
    window.findings.remark(finding)
    # Saved and opened again: all of it is there.
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "gate"), ""))
    window.files.save_dialog()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    kept, focus = model.kept, model.focus
    window.investigation.close()
    load(window, qtbot, tmp_path / "gate.yaffle")
    assert model.kept == kept
    assert model.focus == focus
    assert window.preferences.recent[0].endswith("gate.yaffle")
    assert model.evidence.first_ns >= BEGAN_NS
    QApplication.processEvents()
