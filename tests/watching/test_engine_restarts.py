"""What a run watched before it was killed counts for the next one, if that begins soon."""

import pytest

from yaffle.history.layout import PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.watching.book import Book
from yaffle.watching.engine import Engine
from yaffle.watching.watch import ABSENT, Watch

S = 10**9
NOW = 1_795_860_000 * S
MINUTE_NS = 60 * S
SLOW = Watch("slow", "test_round_trip", "test", over_ns=10 * MINUTE_NS, limit=100.0)
GONE = Watch("gone", "test_round_trip", "test", over_ns=10 * MINUTE_NS, rule=ABSENT)


@pytest.fixture
def run(tmp_path):
    writer = HistoryWriter(tmp_path, settle=False)
    told = [
        {"kind": "reach", "target": "192.0.2.9", "at_ns": NOW + k * MINUTE_NS, "ok": True, "why": "",
         "round_trip_ms": 250.0}
        for k in range(120)
    ]  # fmt: skip
    writer.append_rows(PROBES, rows_of("pier", told))
    writer.close()

    def looked(first_minute, last_minute, watch=SLOW):
        """Minutes in which a run that begins and ends so tells of something."""
        book = Book(tmp_path)
        engine = Engine(History(tmp_path), book, [watch], NOW + int(first_minute * MINUTE_NS), lambda *_: [])
        found = []
        for half in range(int(2 * first_minute) + 1, int(2 * last_minute) + 1):
            found += [(half / 2, one.state) for one in engine.look(NOW + half * MINUTE_NS // 2)]
        book.close()
        return found

    return looked


def test_nothing_is_judged_before_one_interval_was_watched(run):
    assert run(0, 9.5) == []
    [(minute, state)] = run(10, 30)
    assert state == "raised" and 10 <= minute <= 12  # The first run's nine minutes count.


def test_a_run_that_begins_much_later_begins_anew(run):
    assert run(0, 9.5) == []
    [(minute, state)] = run(60, 75)
    assert state == "raised" and 70 <= minute <= 71


def test_many_kills_keep_no_watch_from_being_judged(run):
    found = []
    for k in range(8):
        found += run(2 * k, 2 * k + 1.5)
    [(minute, state)] = found
    assert state == "raised" and 10 <= minute <= 15


def test_what_was_not_watched_is_not_called_gone(run):
    assert run(100, 119, GONE) == []
    assert [minute >= 129 for minute, _ in run(120.5, 140, GONE)] == [True]  # The last came at 119.
