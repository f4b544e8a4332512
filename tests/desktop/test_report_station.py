"""Report: the pages as they will look; sections moved, left out, reworded; all of it undone; the file that goes out."""

import json
import zipfile

import pytest
from PySide6.QtCore import Qt

from tests.report.test_report import slow_talk
from yaffle.analysis import analyse
from yaffle.desktop.window.main_window import MainWindow
from yaffle.desktop.window.station_rail import REPORT
from yaffle.errors import YaffleError
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Complaint, Kept


def shown(qtbot, opened):
    made = MainWindow(Investigation())
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    made.investigation.open(opened)
    made.go(REPORT)
    settle(qtbot, made)
    return made


@pytest.fixture
def window(qtbot, tmp_path, monkeypatch):
    """A small capture with one finding, a complaint and notes."""
    monkeypatch.setenv("YAFFLE_CONFIG_DIR", str(tmp_path / "config"))
    analysis = analyse([slow_talk().write(tmp_path / "desk.pcap")])
    kept = Kept(notes="see the lock", complaints=(Complaint("Northpoint", "desk", "slow", 0, 10**18),))
    return shown(qtbot, Opened(analysis, memory=kept.as_json()))


def settle(qtbot, window):
    qtbot.wait(50)
    qtbot.waitUntil(lambda: not window.busy, timeout=60_000)


def titles(window):
    return [window.report.sections.item(k).text() for k in range(window.report.sections.count())]


def test_pages_show_what_will_go_out(qtbot, analysed_morning, tmp_path, monkeypatch):
    monkeypatch.setenv("YAFFLE_CONFIG_DIR", str(tmp_path))
    window = shown(qtbot, Opened(analysed_morning))
    report = window.report
    assert len(report.picture.pages) >= 4 and "findings" in report.words.text()
    assert titles(window)[0] == "Answer" and titles(window)[-1].startswith("Method")
    first = report.picture.shown.sections[1]
    assert len(first.content["figures"]) == 3  # waits over time, tiers, the ladder
    report.sections.setCurrentRow(4)
    assert report.view.verticalScrollBar().value() > 500  # The page of that section is in view.
    assert report.text.isEnabled() and report.text.toPlainText() == report.sections.current.usual


def test_sections_are_moved_left_out_and_reworded_and_everything_is_undone(window, qtbot):
    report, model = window.report, window.investigation
    usual = titles(window)
    assert usual[:2] == ["Complaint", "Answer"] and usual[2].startswith("1. ") and usual[3] == "Notes"
    report.sections.setFocus()
    report.sections.setCurrentRow(3)
    qtbot.keyClick(report.sections, Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier)
    if report.sections.currentRow() == 3:  # Where a platform without a screen sends no shortcut.
        report.sections.move_current(-1)
    settle(qtbot, window)
    assert titles(window)[:4] == [usual[0], usual[1], "Notes", usual[2]] and report.sections.currentRow() == 2
    report.sections.item(2).setCheckState(Qt.CheckState.Unchecked)
    settle(qtbot, window)
    assert "1 section left out" in report.words.text() and titles(window)[-1] == "Notes"
    report.sections.setCurrentRow(1)
    report.text.setPlainText("It is the database.")
    settle(qtbot, window)
    assert model.kept.report.words == {"answer": "It is the database."}
    assert report.usual.isEnabled()
    report.title.setText("For the database team")
    report.title.editingFinished.emit()
    settle(qtbot, window)
    assert model.kept.report.title == "For the database team"
    for _ in range(4):
        model.undo()
    settle(qtbot, window)
    assert titles(window) == usual and report.title.text() == ""
    assert report.text.toPlainText() == report.sections.current.usual


def test_text_that_is_being_written_is_left_alone_and_undone_text_is_shown(window, qtbot):
    report, model = window.report, window.investigation
    report.sections.setCurrentRow(1)
    usual = report.text.toPlainText()
    report.text.setPlainText("It is the")
    report._lay_out_pages()  # Pages of what was told before come while somebody writes.
    qtbot.waitUntil(lambda: not report._latest.busy, timeout=60_000)
    assert report.text.toPlainText() == "It is the" or not report._typed.isActive()
    report.text.setPlainText("It is the database.\n")
    settle(qtbot, window)
    assert report.text.toPlainText() == "It is the database.\n"  # The cursor stays where it is.
    assert model.kept.report.words == {"answer": "It is the database."}
    model.undo()
    model.undo()
    settle(qtbot, window)
    assert report.text.toPlainText() == usual


def test_a_figure_that_cannot_be_had_is_missing_and_no_more(window, qtbot, monkeypatch, caplog):
    from yaffle.desktop.report import figure_work

    def broken(*_args):
        raise YaffleError("the packets are gone")

    monkeypatch.setattr(figure_work, "picture", broken)
    opened = window.investigation.opened
    made = figure_work.figures_at_once(opened.evidence, opened.findings, lambda *_: True)
    (figures,) = made.values()
    assert len(figures) == 1 and "the packets are gone" in caplog.text  # The ladder is there.


def test_only_what_the_report_tells_lays_it_out_again(window, qtbot):
    former = window.report.picture
    window.investigation.look(window.investigation.focus.with_trail(("ticket desk",)))
    settle(qtbot, window)
    assert window.report.picture is former
    window.report.pinned.click()
    settle(qtbot, window)
    assert window.report.picture is not former
    assert any("Findings" in text for text in titles(window))  # None is pinned, and that is said.


def test_a_letterhead_stands_above_it(window, qtbot):
    window.report.edit_letterhead()
    dialog = window.report.dialog
    dialog.address.setPlainText("Harbourline Ferries")
    dialog.accept()
    settle(qtbot, window)
    assert window.report.letterhead.address == "Harbourline Ferries"


def test_nothing_open_says_what_to_do(qtbot):
    made = MainWindow(Investigation())
    qtbot.addWidget(made)
    made.show()
    made.go(REPORT)
    assert "Open a capture" in made.report.words.text() and not made.report.isEnabled()


def test_report_and_bundle_are_written_masked_where_wished(window, qtbot, tmp_path):
    from yaffle.capture.masking import Masker

    model, writer = window.investigation, window.exports.writer
    writer.report(model.opened, model.kept, tmp_path / "r.html", Masker(b"k" * 16))
    qtbot.waitUntil((tmp_path / "r.html").exists, timeout=60_000)
    page = (tmp_path / "r.html").read_text()
    assert page.count("<figure>") >= 2 and "198.51.100." not in page and "desk.pcap" not in page
    settle(qtbot, window)
    writer.bundle(model.opened, model.kept, tmp_path / "b.zip", None)
    qtbot.waitUntil((tmp_path / "b.zip").exists, timeout=90_000)
    with zipfile.ZipFile(tmp_path / "b.zip") as held:
        assert json.loads(held.read("manifest.json"))["figures"]
        assert held.read("report.html").count(b"<figure>") >= 2


def test_a_period_of_a_history_is_written_and_wrong_words_are_said(qtbot, tmp_path, monkeypatch):
    from PySide6.QtWidgets import QFileDialog

    from tests.session.kept_history import write_kept
    from yaffle.programs.case import open as open_evidence

    made = MainWindow(Investigation())
    qtbot.addWidget(made)
    made.show()
    made.exports.period()
    assert "open one with Ctrl+H" in made.statusBar().currentMessage()
    made.investigation.open(open_evidence(write_kept(tmp_path / "h")).opened)
    made.exports.period()
    dialog = made.exports.dialog
    dialog.when.setEditText("the day before")
    dialog.accept()
    assert dialog.isVisible()
    dialog.when.setEditText("last 24 h")
    dialog.name.setText("A day")
    out = tmp_path / "day.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(out), ""))
    dialog.accept()
    qtbot.waitUntil(lambda: made.task.job is None and out.exists(), timeout=90_000)
    assert "<title>A day</title>" in out.read_text()
    settle(qtbot, made)
