"""The path in the window: segments, lost packets, what waits cost; streams; ways of flow records; classes and rules;
the map by hand.
"""

import json
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from tests.path.test_shared import translated_packets, two_points
from yaffle.desktop.path.expected_dialog import ExpectedDialog
from yaffle.desktop.path.station import CLASSES, MAP, SEGMENTS, STREAMS, WAYS
from yaffle.desktop.window.station_rail import PATH
from yaffle.inventory.expected_markings import Expected
from yaffle.session.map_edits import BY_HAND


def texts(listing, row):
    model = listing.columns
    return [str(model.data(model.index(row, k))) for k in range(model.columnCount())]


def test_the_morning_over_its_three_points(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning)
    truth = json.loads((morning[0].parent / "truth.json").read_text())
    finding = next(f for f in window.investigation.findings if f.cause == "loss")
    assert "Lost between capture points:" in finding.sentence
    assert "network time is" in finding.sentence
    assert finding.confidence == 0.99
    assert finding.grounds["segments"][0]["from"] in ("Isle of Wren", "Quay House data centre")
    marked = next(f for f in window.investigation.findings if f.cause == "marking")
    assert "voice is re-marked between Quay House data centre and Saltmarsh" in marked.sentence
    window.investigation.look(window.investigation.focus.with_trail(()).with_period(None))
    window.go(PATH)
    settle(window, qtbot)
    station = window.path
    page = station.segments
    assert [(s.near, s.far) for s in station.picture.segments] == [
        (near, "Quay House data centre") for near in ("Saltmarsh", "Isle of Wren")
    ]
    page.line.choose(1)
    up, down = page.segment.ways
    assert (up.lost, down.lost) == (truth["lost_packets"]["up"], truth["lost_packets"]["down"])
    assert abs(up.least_ns - 9e6) < 3e5
    clocks = [texts(page.clocks, row) for row in range(page.clocks.columns.rowCount())]
    assert ["Isle of Wren", "Quay House data centre", "+7.900 ms"] in [row[:3] for row in clocks]
    assert page.model.rowCount() == up.lost + down.lost
    waited = station.picture.waited
    assert sum(one.ns for one in waited) == int(
        window.investigation.evidence.waits.parties[window.investigation.rows, 1].sum()
    )
    assert "between Isle of Wren and Quay House data centre" in [
        texts(page.waits, row)[0] for row in range(page.waits.columns.rowCount())
    ]
    place = next(k for k, one in enumerate(page.segment.lost) if one.connection >= 0)
    page.table.entered.emit(place)
    settle(window, qtbot)
    assert window.stations.currentIndex() == 3
    assert window.investigation.connection.number == page.segment.lost[place].connection
    window.go(PATH)
    window.switch_theme()
    settle(window, qtbot)
    assert "median" in page.words_at(0, 600.0)
    window.switch_theme()
    rain = station.picture.edges_ns[0]
    window.investigation.look(
        window.investigation.focus.with_trail(()).with_period((int(rain), int(rain) + 120 * 10**9))
    )
    settle(window, qtbot)
    assert page.segment.ways[0].packets < up.packets


def test_streams_ways_and_classes_of_the_morning(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning)
    window.go(PATH)
    settle(window, qtbot)
    station = window.path
    station.parts.setCurrentIndex(STREAMS)
    rows = [texts(station.streams.streams, row) for row in range(station.streams.streams.columns.rowCount())]
    assert any(row[3] == "Saltmarsh" and "DSCP EF becomes CS0, default" in " ".join(row) for row in rows)
    assert any(row[3] == "Isle of Wren" and "lost since Quay House data centre" in " ".join(row) for row in rows)
    station.parts.setCurrentIndex(WAYS)
    ways = [texts(station.ways.ways, row) for row in range(station.ways.ways.columns.rowCount())]
    assert any("EF becomes CS0" in row[6] for row in ways)
    assert "none changed" in station.ways.words.text()
    station.parts.setCurrentIndex(CLASSES)
    settle(window, qtbot)
    page = station.classes
    page.way.setCurrentText("Quay House data centre → Saltmarsh")
    page.wanted.emit()
    settle(window, qtbot)
    assert [texts(page.table, row)[0] for row in range(2)] == ["CS0, default", "EF"]
    assert page.script.toPlainText().startswith("#!/bin/sh")
    page.line.setValue(20.0)
    settle(window, qtbot)
    assert window.investigation.kept.line_bps == 20e6
    assert "20000kbit" in page.script.toPlainText()
    page.device.setText("eth0; x")
    assert page.script.toPlainText() == ""
    assert "no name of an interface" in page.wrong.text()
    page.device.setText("wan0")
    assert "DEV=wan0" in page.script.toPlainText()
    assert texts(page.violations, 0)[:3] == ["voice", "EF", "CS0, default"]
    window.switch_theme()
    settle(window, qtbot)
    window.switch_theme()
    page.violations.entered.emit(0)  # A datagram has no connection to be examined.
    assert "bit/s" in page._words_at(600.0, 0.0)
    station.parts.setCurrentIndex(STREAMS)
    settle(window, qtbot)
    assert station.streams.shown.lost > 0
    assert "jitter" in station.streams._words_at(3.0, 0.0)
    card = next(k for k, f in enumerate(window.investigation.findings) if f.cause == "marking")
    window.follow(window.investigation.findings[card])
    settle(window, qtbot)
    assert (window.stations.currentIndex(), station.parts.currentIndex(), page.right.currentIndex()) == (
        PATH,
        CLASSES,
        1,
    )
    assert window.investigation.filter_error is None
    assert window.investigation.focus.filter == ""


def test_rules_of_markings_are_kept_and_taken_back(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning)
    window.go(PATH)
    window.path.parts.setCurrentIndex(CLASSES)
    settle(window, qtbot)
    dialog = ExpectedDialog(window.investigation.kept.expected, window.path.classes.picture.applications)
    qtbot.addWidget(dialog)
    dialog.add_line(["ticket desk", "gold"])
    dialog.accept()
    assert "is no marking" in dialog._wrong.text()
    dialog.table.item(1, 1).setText("AF31")
    dialog.accept()
    assert dialog.rules == (Expected("voice", 46), Expected("ticket desk", 26))
    model = window.investigation
    model.keep(replace(model.kept, expected=dialog.rules), "expected markings")
    settle(window, qtbot)
    assert any(f.cause == "marking" and f.subject.startswith("ticket desk") for f in model.findings)
    model.undo()
    settle(window, qtbot)
    assert not any(f.subject.startswith("ticket desk") for f in model.findings if f.cause == "marking")


def test_the_map_is_changed_by_hand_and_saved(window, qtbot, morning, tmp_path, monkeypatch):  # noqa: F811
    load(window, qtbot, morning)
    window.go(PATH)
    window.path.parts.setCurrentIndex(MAP)
    settle(window, qtbot)
    page, canvas, model = window.path.map, window.path.map.canvas, window.investigation
    assert "1 of them lose packets" in page.words.text()
    page.flows.setCurrentText("Isle of Wren → ticket desk")
    assert canvas._boxes["edge: Isle of Wren"].marked
    box = canvas._boxes["clients: Northpoint"]
    box.setSelected(True)
    before = box.pos()
    qtbot.keyClick(canvas, Qt.Key.Key_Down)
    box = canvas._boxes["clients: Northpoint"]
    assert box.pos().y() == before.y() + 10
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("boarding hall", True))
    page.rename("clients: Northpoint")
    assert canvas._boxes["clients: Northpoint"].place.label == "boarding hall"
    page.add_place()
    page.join("clients: Northpoint", BY_HAND + "boarding hall")
    assert any(line.link.key == ("clients: Northpoint", BY_HAND + "boarding hall") for line in canvas._lines)
    page.leave_out(["edge: Saltmarsh"])
    assert "1 hidden" in page.words.text()
    kept = model.kept
    model.undo()
    assert "hidden" not in page.words.text()
    model.redo()
    assert model.kept == kept
    case = tmp_path / "map.yaffle"
    model.save(case)
    for suffix in ("svg", "png"):
        assert canvas.write(tmp_path / f"map.{suffix}")
    svg = (tmp_path / "map.svg").read_text()
    assert "boarding hall" in svg
    assert not canvas.write(tmp_path / "nowhere" / "map.svg")
    qtbot.keyClick(canvas, Qt.Key.Key_Tab)
    assert len(canvas.chosen) == 1
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_Escape)
    assert canvas.chosen == []
    assert window.focusWidget() is not canvas
    page.unjoin("clients: Northpoint", BY_HAND + "boarding hall")
    page.lay_out_anew()
    assert "hidden" not in page.words.text()
    assert canvas._boxes["clients: Northpoint"].place.label == "boarding hall"
    load(window, qtbot, [case])
    settle(window, qtbot)
    assert canvas._boxes["clients: Northpoint"].place.label == "boarding hall"
    assert BY_HAND + "boarding hall" in canvas._boxes


def test_translated_addresses_can_be_said_not_to_be_the_same(window, qtbot, tmp_path):  # noqa: F811
    load(window, qtbot, two_points(tmp_path, translated_packets()))
    window.go(PATH)
    settle(window, qtbot)
    page, model = window.path.segments, window.investigation
    assert page.right.tabText(2) == "NAT (1)"
    assert len({int(s) for s in model.opened.analysis.speaker.tolist()}) == model.opened.analysis.speaker.size // 2
    row = texts(page.addresses, 0)
    assert "198.51.100.7 → 192.0.2.77" in row[0]
    page.addresses.entered.emit(0)
    settle(window, qtbot)
    assert not window.path.picture.segments
    assert "marked as different" in texts(page.addresses, 0)[3]
    assert len(set(model.opened.analysis.speaker.tolist())) == model.opened.analysis.speaker.size
    model.save(tmp_path / "apart.yaffle")
    load(window, qtbot, [tmp_path / "apart.yaffle"])
    settle(window, qtbot)
    assert not window.path.picture.segments
    page.addresses.entered.emit(0)
    settle(window, qtbot)
    assert len(window.path.picture.segments) == 1
    assert model.kept.apart == ()


def test_one_point_is_told_what_to_open(window, qtbot, morning):  # noqa: F811
    window.go(PATH)
    window.path.parts.setCurrentIndex(SEGMENTS)
    assert "two or more points" in window.path.segments.words.text()
    load(window, qtbot, morning[1:2])
    settle(window, qtbot)
    assert "two or more points" in window.path.segments.words.text()
    window.path.parts.setCurrentIndex(CLASSES)
    settle(window, qtbot)
    assert "two capture points" in window.path.classes.words.text()


@pytest.mark.parametrize("page", [SEGMENTS, STREAMS, WAYS, CLASSES, MAP])
def test_nothing_open_says_what_to_do(window, qtbot, page):  # noqa: F811
    window.go(PATH)
    window.path.parts.setCurrentIndex(page)
    settle(window, qtbot)
    parts = {SEGMENTS: "segments", STREAMS: "streams", WAYS: "ways", CLASSES: "classes", MAP: "map"}
    words = getattr(window.path, parts[page]).words.text()
    assert len(words) > 60
