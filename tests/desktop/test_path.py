"""The path in the window: the segment that loses, when, and which packets; from one of them to its connection."""

import json

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from yaffle.desktop.main_window import PATH


def test_the_morning_over_its_three_points(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning)
    truth = json.loads((morning[0].parent / "truth.json").read_text())
    finding = next(f for f in window.investigation.findings if f.cause == "loss")
    assert "Lost on the way:" in finding.sentence
    assert finding.confidence == 0.99
    assert finding.grounds["segments"][0]["from"] in ("isle-of-wren.pcapng", "quay-house-data-centre.pcapng")
    window.investigation.look(window.investigation.focus.with_trail(()).with_period(None))
    window.go(PATH)
    settle(window, qtbot)
    station = window.path
    assert [(s.near, s.far) for s in station.picture.segments] == [(f"{near}.pcapng", "quay-house-data-centre.pcapng") for near in ("northpoint", "isle-of-wren")]
    station.segments.line.choose(1)
    up, down = station.segments.segment.ways
    assert (up.lost, down.lost) == (truth["lost_packets"]["up"], truth["lost_packets"]["down"])
    assert abs(up.least_ns - 9e6) < 3e5
    assert "isle-of-wren.pcapng: +7.900 ms against quay-house-data-centre.pcapng" in station.segments.words.text()
    assert station.segments.model.rowCount() == up.lost + down.lost
    place = next(k for k, one in enumerate(station.segments.segment.lost) if one.connection >= 0)
    station.segments.table.entered.emit(place)
    settle(window, qtbot)
    assert window.stations.currentIndex() == 3
    assert window.investigation.connection.number == station.segments.segment.lost[place].connection
    window.go(PATH)
    window.switch_theme()
    settle(window, qtbot)
    assert "median" in station.segments.words_at(0, 600.0)
    window.switch_theme()
    rain = station.picture.edges_ns[0]
    window.investigation.look(window.investigation.focus.with_trail(()).with_period((int(rain), int(rain) + 120 * 10**9)))
    settle(window, qtbot)
    assert station.segments.segment.ways[0].packets < up.packets


def test_one_point_is_told_what_to_open(window, qtbot, morning):  # noqa: F811
    window.go(PATH)
    assert "two or more points" in window.path.segments.words.text()
    load(window, qtbot, morning[:1])
    settle(window, qtbot)
    assert "two or more points" in window.path.segments.words.text()
