"""The Watch station: members worst first, evidence on Enter, events, and a new watch from what a history offers."""

import json

import numpy as np
import pytest

from tests.desktop.test_examine import load, settle, window  # noqa: F401
from yaffle.collector.configuration import read_configuration
from yaffle.desktop.window.station_rail import SURVEY, WATCH
from yaffle.history.layout import EVENTS
from yaffle.history.probe_rows import rows_of
from yaffle.history.writer import HistoryWriter
from yaffle.watching.book import Book, Entry
from yaffle.watching.event_rows import Event, table_of
from yaffle.watching.states import FINE, RAISED, Standing
from yaffle.watching.watch import Watch

S, NOW = 10**9, 1_795_860_000 * 10**9
WATCH_OF = Watch("desks", "test_failures", "test", over_ns=60 * S, limit=50.0, severity="critical")


@pytest.fixture
def history(tmp_path):
    folder = tmp_path / "history"
    writer = HistoryWriter(folder, now_ns=lambda: NOW + 3600 * S, settle=False)
    for name, bad in (("desk", range(20, 40)), ("gate", ())):
        tests = [
            {"kind": "connect", "target": f"{name}:80", "at_ns": NOW + k * 60 * S + S, "ok": k not in bad, "why": "",
             "round_trip_ms": 3.0}
            for k in range(60)
        ]  # fmt: skip
        writer.append_rows("probes", rows_of(name, tests))
    writer.close()
    return folder


def watched(folder):
    raised = Event(NOW + 21 * 60 * S, "desks", "desk", "raised", "critical", 100.0, 50.0, "%", "it fails")
    over = Event(NOW + 41 * 60 * S, "desks", "desk", "cleared", "critical", 0.0, 50.0, "%", "over", about=raised.id)
    effect = Event(NOW + 45 * 60 * S, "desks", "desk", "effect", "critical", words="open helped", about=raised.id)
    writer = HistoryWriter(folder, now_ns=lambda: NOW + 3600 * S, settle=False)
    writer.append_rows(EVENTS, table_of([raised, over, effect]))
    writer.close()
    book = Book(folder)
    with book.together():
        book.hold("watches", [WATCH_OF.as_json()])
        book.stand([("desks", "gate", Entry(Standing(RAISED, NOW + 50 * 60 * S, NOW), "x", NOW, 80.0)),
                    ("desks", "desk", Entry(Standing(FINE, NOW + 41 * 60 * S, NOW), "y", NOW, 0.0))])  # fmt: skip
    book.close()


def test_members_stand_worst_first_and_enter_leads_to_the_evidence(window, qtbot, history):  # noqa: F811
    watched(history)
    load(window, qtbot, [history])
    window.go(WATCH)
    settle(window, qtbot)
    station = window.watch
    assert [(row.subject, row.state) for row in station.picture.rows] == [("gate", RAISED), ("desk", FINE)]
    assert station.picture.rows[1].stretches == ((NOW + 21 * 60 * S, NOW + 41 * 60 * S, RAISED),)
    assert [one.state for one in station.picture.events] == ["effect", "cleared", "raised"]
    assert "1 raised" in station.words.text() and station.acknowledge.isEnabled()
    station.table.selectRow(1)
    settle(window, qtbot)
    assert station.drawn.row.subject == "desk" and np.nanmax(station.drawn.values) == 100 and station.drawn.marks
    station.table.entered.emit(1)
    settle(window, qtbot)
    assert window.stations.currentIndex() == SURVEY
    first, last = window.investigation.focus.period
    assert first <= NOW + 21 * 60 * S < NOW + 41 * 60 * S <= last


def test_what_could_be_watched_is_offered_tried_and_added(window, qtbot, history, tmp_path):  # noqa: F811
    config = tmp_path / "collector.toml"
    config.write_text('history = "history"  # mine\n')
    (history / "collector.json").write_text(json.dumps({"tasks": [], "config": str(config)}))
    load(window, qtbot, [history])
    window.go(WATCH)
    settle(window, qtbot)
    station = window.watch
    offered = [one.watch.name for one in station.picture.offers]
    assert offered == ["tests that fail"] and "Nothing is watched" in station.words.text()
    station.table.entered.emit(0)
    dialog = station.dialog
    dialog.try_it()
    qtbot.waitUntil(lambda: "raised" in dialog.found.text(), timeout=10_000)
    assert "raised 1 times, of 2 watched: desk" in dialog.found.text()
    dialog.where.setText("nonsense = 1")
    dialog.accept()
    assert "nonsense" in dialog._wrong.text() and config.read_text() == 'history = "history"  # mine\n'
    dialog.where.setText("target <> 'x'")
    dialog.accept()
    told = read_configuration(config)
    assert [one.name for one in told.watch] == ["tests that fail"] and "# mine" in config.read_text()
    assert told.watch[0].watch().limit == 50 and told.watch[0].where == "target <> 'x'"


def test_availability_is_asked_for_in_the_dialog_and_understood_again(window, qtbot, history, tmp_path):  # noqa: F811
    config = tmp_path / "collector.toml"
    config.write_text('history = "history"\n')
    (history / "collector.json").write_text(json.dumps({"tasks": [], "config": str(config)}))
    load(window, qtbot, [history])
    window.go(WATCH)
    settle(window, qtbot)
    window.watch.edit(Watch("desks", "test_round_trip", "test", over_ns=3600 * S))
    dialog = window.watch.dialog
    assert not dialog.share.isEnabled()
    dialog.rule.setCurrentText("not above, too seldom")
    dialog.limit.setValue(40)
    dialog.share.setValue(99)
    asked = dialog.watch()
    dialog.accept()
    (told,) = read_configuration(config).watch
    assert told.watch() == asked and (asked.rule, asked.limit, asked.minute_above) == ("available", 99.0, 40.0)
    window.watch.edit(asked)
    again = window.watch.dialog
    assert again.rule.currentText() == "not above, too seldom" and again.watch() == asked
    again.reject()


def test_without_a_history_it_says_what_to_do(window, qtbot):  # noqa: F811
    window.go(WATCH)
    settle(window, qtbot)
    assert "[[watch]]" in window.watch.words.text() and not window.watch.new.isEnabled()


def test_chosen_sets_of_flows_tell_who_suffers_and_from_what(window, qtbot, tmp_path):  # noqa: F811
    from tests.session.kept_history import EVENING, START_NS, write_kept
    from yaffle.history.layout import HOUR_NS
    from yaffle.session.focus import Focus
    from yaffle.watching.flow_sets import FlowSet, keep_sets

    folder = write_kept(tmp_path / "kept")
    load(window, qtbot, [folder])
    window.go(WATCH)
    settle(window, qtbot)
    assert "No set of flows is chosen" in window.watch.health.words.text()
    keep_sets(folder, [FlowSet(site, f"site = '{site}'", "waits", HOUR_NS) for site in ("pier", "quay")])
    window.investigation.look(Focus((START_NS, START_NS + (EVENING + 1) * HOUR_NS - 1)))
    settle(window, qtbot)
    panel = window.watch.health
    assert "Network at fault: yes" in panel.words.text() and "pier" in panel.words.text()
    assert [(row.of.name, row.words) for row in panel.picture.rows] == [("pier", "degraded"), ("quay", "ok")]
