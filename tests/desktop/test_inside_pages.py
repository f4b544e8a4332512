"""Path's pages on what the network itself tells: queues that stood, the air, streams with a period."""

from dataclasses import replace

import numpy as np
from PySide6.QtWidgets import QInputDialog

from tests.desktop.test_examine import load, settle, window  # noqa: F401
from tests.frames import pcap
from tests.hops.test_reports import MS, S0, US, Switches, about
from tests.radio import air
from tests.radio.test_air import RADIOTAP, life
from yaffle.demo.linkspan import make_linkspan
from yaffle.desktop.path.station import CYCLIC, QUEUES, RADIO
from yaffle.desktop.window.station_rail import PATH
from yaffle.hops.report_scan import QUEUED


def reports(path):
    own = Switches()
    for k in range(100):
        own.postcard(1, S0 + k * 100 * US, 300, about(k, 64))
        own.postcard(2 if k < 50 else 3, S0 + k * 100 * US + 20 * US, 300, about(k, 63))
    burst = S0 + 20 * MS
    for k in range(60):
        own.postcard(1, burst + k * 10 * US, 200 * US + k * US, about(k, 64, sport=2000), 90_000, QUEUED)
    own.postcard(1, burst + 300 * US, 250 * US, about(500, 64), 80_000)
    own.drop(1, burst + 400 * US, about(600, 64, sport=2000))
    return pcap(path, sorted(own.frames))


def test_a_queue_over_time_with_who_filled_it(window, qtbot, tmp_path, monkeypatch):  # noqa: F811
    load(window, qtbot, [reports(tmp_path / "reports.pcap")])
    finding = next(one for one in window.investigation.findings if one.cause == "queue at a node")
    assert "98 % of it was" in finding.sentence or "99 % of it was" in finding.sentence
    window.follow(finding)
    window.resize(1280, 800)
    settle(window, qtbot)
    page = window.path.queues
    assert window.stations.currentIndex() == PATH and window.path.parts.currentIndex() == QUEUES
    (one,) = page.picture.queues
    assert (one.node, one.egress, one.dropped) == (1, 2, 1) and len(one.victims) == 1
    qtbot.waitUntil(lambda: page._course is not None, timeout=10_000)
    course = page._course
    assert course.arrived_ns.size >= 61 and course.dropped_ns.size == 1 and course.fillers[-1] == "all others"
    assert course.octets.sum() > 0 and "waited" in page._read(float((one.first_ns - course.first_ns) / 1e9), 0)
    window.investigation.look(window.investigation.focus.with_period(None))
    settle(window, qtbot)
    (change,) = page.picture.changes
    assert (change.before, change.after) == ((1, 2), (1, 3))
    qtbot.waitUntil(lambda: page.changes.course is not None, timeout=10_000)
    course = page.changes.course
    assert [one.node for one in course.before] == [1, 2] and [one.node for one in course.after] == [1, 3]
    assert course.before[1].packets == course.after[1].packets == 50 and course.before[0].median_ns == 300
    assert course.median_ns(after=True) == course.median_ns(after=False) == 600
    assert "in nodes" in page.changes._read(0.001, 0) and page.changes.after.columns.rowCount() == 2
    page.flows.selectRow(0)
    assert page.line.hops[0][0] == "node 1" and len(page.line.hops) <= 2 and "p95" in page.line.accessibleDescription()
    page.line.grab()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("leaf west", True))
    dict(page.queues.row_offers(0))["Name of the node…"]()
    settle(window, qtbot)
    assert page.picture.nodes[1] == "leaf west" and page.queues.model().index(0, 0).data() == "leaf west"
    assert any("The queue at leaf west, egress 2 stood" in one.sentence for one in window.investigation.findings)
    window.investigation.undo()
    settle(window, qtbot)
    assert page.picture.nodes[1] == "node 1"
    page.changes.changes.entered.emit(0)
    settle(window, qtbot)
    first, last = window.investigation.focus.period
    assert first <= change.time_ns <= last


def test_a_station_over_time_with_its_moves(window, qtbot, tmp_path):  # noqa: F811
    path = tmp_path / "air.pcap"
    head = air.radiotap(-60, -95, rate=108)
    pcap(path, [(S0 + int(at * MS), head + frame) for at, frame in life(fast=True)], RADIOTAP)
    load(window, qtbot, [path])
    window.go(PATH)
    window.path.parts.setCurrentIndex(RADIO)
    settle(window, qtbot)
    page = window.path.radio
    (row,) = page.picture.stations
    assert len(row.roams) == 1 and "1 station at 2 access points; 1 move, 0 failures" in page.words.text()
    qtbot.waitUntil(lambda: page.drawn.course is not None, timeout=10_000)
    assert np.nanmedian(page.drawn.course.signal) == -60 and page.events.columns.rowCount() == 1
    assert page.events.model().index(0, 1).data() == "fast transition"
    course = page.drawn.course
    page.drawn.show_course(replace(course, row=replace(course.row, roams=[])))
    page.drawn.show_course(course)
    assert "moved from" in page.drawn._read((row.roams[0].time_ns - int(course.starts_ns[0])) / 1e9, 0)
    page.points.listing.selectRow(0)
    qtbot.waitUntil(lambda: page.points.course is not None, timeout=10_000)
    course = page.points.course
    assert course.stations.max() == 1 and np.nansum(course.airtime) > 0 and "stations" in page.points._read(0.0, 0)
    assert page.sites.columns.rowCount() == 1 and "Sites" in page.sites.model().index(0, 0).data()
    page.stations.clearSelection()
    page.sites.entered.emit(0)
    assert page.stations.currentIndex().row() == 0
    page.events.entered.emit(0)
    settle(window, qtbot)
    assert window.investigation.focus.period[0] <= row.roams[0].time_ns
    window.switch_theme()
    window.switch_theme()


def test_cyclic_streams_rough_ones_first_and_one_over_time(window, qtbot, tmp_path):  # noqa: F811
    load(window, qtbot, [make_linkspan(tmp_path / "linkspan.pcapng")])
    window.resize(1280, 800)
    window.follow(next(one for one in window.investigation.findings if one.cause == "unsteady cycle"))
    settle(window, qtbot)
    page = window.path.cyclic
    assert window.stations.currentIndex() == PATH and window.path.parts.currentIndex() == CYCLIC
    window.investigation.look(window.investigation.focus.with_period(None))
    settle(window, qtbot)
    rows = page.picture.rows
    assert [row.trouble is not None for row in rows] == [True, True, False, False]
    assert page.shown in (rows[0].stream, rows[1].stream) and "2 of them steady but for a time" in page.words.text()
    assert "missed" in page._words_at(31.0, 0.0) and page.jitter.getPlotItem().viewRange()[1][1] > 0
    page.streams.entered.emit(0)
    settle(window, qtbot)
    first, last = window.investigation.focus.period
    assert first <= rows[0].trouble.first_ns <= last
    window.switch_theme()
    window.switch_theme()


def test_without_telemetry_the_pages_say_what_would_bring_it(window, qtbot):  # noqa: F811
    window.go(PATH)
    for number, page in ((QUEUES, window.path.queues), (RADIO, window.path.radio), (CYCLIC, window.path.cyclic)):
        window.path.parts.setCurrentIndex(number)
        settle(window, qtbot)
        assert ("capture" in page.words.text() or "24 packets" in page.words.text()) and page.picture is None
