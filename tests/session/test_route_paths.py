"""Routes over a period: paths and when they changed, what a hop only did not answer and what was lost."""

import numpy as np
import pytest

from yaffle.history.layout import HOUR_NS, PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.inventory.places import Places, Site
from yaffle.session.route_paths import path_words, route_courses

START_NS = 1_773_100_800 * 10**9
NEAR, ONE, OTHER, TARGET = "192.0.2.1", "198.51.100.1", "198.51.100.2", "203.0.113.9"


def run(minute, *hops, ok=True):
    """hops: (address or None, answered of 3, median ms)."""
    told = [
        {
            "ttl": ttl, "address": address, "sent": 3, "answered": answered,
            "round_trip_ms": {"min": ms, "median": ms, "max": ms} if answered else None,
        }
        for ttl, (address, answered, ms) in enumerate(hops, 1)
    ]  # fmt: skip
    return {
        "kind": "route", "target": TARGET, "at_ns": START_NS + minute * 60 * 10**9, "ok": ok,
        "why": "" if ok else "the target does not answer", "round_trip_ms": hops[-1][2] if ok else None,
        "hops": told, "over": "udp",
    }  # fmt: skip


def courses(tmp_path, *runs):
    writer = HistoryWriter(tmp_path / "h", now_ns=lambda: START_NS + 3 * HOUR_NS, settle=False)
    writer.append_rows(PROBES, rows_of("pier", list(runs)))
    writer.close()
    places = Places(names={NEAR: "gate.example.net"}, sites=(Site("Harbour", "198.51.100.0/24"),))
    return route_courses(History(tmp_path / "h"), places, START_NS, START_NS + HOUR_NS)


WAY = ((NEAR, 3, 1.0), (ONE, 3, 5.0), (TARGET, 3, 9.0))


def test_a_path_that_changes_and_comes_back(tmp_path):
    other = (WAY[0], (OTHER, 3, 8.0), (TARGET, 3, 12.0))
    [one] = courses(tmp_path, run(0, *WAY), run(5, *WAY), run(10, *other), run(15, *WAY))
    assert [path_words(path.addresses) for path in one.paths] == [
        f"{NEAR} → {ONE} → {TARGET}", f"{NEAR} → {OTHER} → {TARGET}",
    ]  # fmt: skip
    assert [(c.time_ns - START_NS) // (60 * 10**9) for c in one.changes] == [10, 15]
    assert [(c.before, c.after, c.ttl) for c in one.changes] == [(0, 1, 2), (1, 0, 2)]
    assert [path.runs for path in one.paths] == [3, 1] and one.last_path == (NEAR, ONE, TARGET)
    hops = {hop.address: hop for hop in one.hops}
    assert (hops[NEAR].name, hops[NEAR].site, hops[ONE].site) == ("gate", "", "Harbour")
    assert hops[ONE].added_ms == 4.0 and np.isnan(hops[OTHER].trips_ms[0]) and hops[OTHER].trips_ms[2] == 8.0


def test_silence_and_a_path_cut_short_are_no_other_paths(tmp_path):
    silent = (WAY[0], (None, 0, 0.0), WAY[2])
    short = run(5, *WAY[:2], ok=False)
    [one] = courses(tmp_path, short, run(10, *silent), run(15, *WAY), run(20, *WAY[:1], ok=False))
    assert not one.changes and [path.addresses for path in one.paths] == [(NEAR, ONE, TARGET)]
    assert one.failed_share == 0.5 and "does not answer" in one.last_why
    assert list(one.path_of) == [0, 0, 0, 0]
    assert one.hops[0].sent == 6  # Of two runs; behind the end of the others nobody knows what was lost.


def test_what_did_not_come_to_its_target_says_nothing_of_loss(tmp_path):
    [one] = courses(tmp_path, run(0, (NEAR, 3, 1.0), (ONE, 1, 5.0), ok=False))
    assert np.isnan(one.hops[1].lost_share) and np.isnan(one.hops[1].limited_share)


def test_what_a_hop_keeps_to_itself_is_not_lost(tmp_path):
    lazy = ((NEAR, 3, 1.0), (ONE, 1, 5.0), (TARGET, 3, 9.0))
    lossy = ((NEAR, 3, 1.0), (ONE, 1, 5.0), (TARGET, 2, 9.0))
    [one] = courses(tmp_path, run(0, *lazy), run(5, *lossy))
    hops = {hop.address: hop for hop in one.hops}
    assert hops[NEAR].lost_share == 0 and hops[TARGET].lost_share == pytest.approx(1 / 6)
    assert hops[ONE].lost_share == pytest.approx(1 / 6) and hops[ONE].limited_share == pytest.approx(4 / 6 - 1 / 6)


def test_without_routes_there_is_nothing(tmp_path):
    assert route_courses(None, Places({}), 0, 1) is None
    HistoryWriter(tmp_path / "none", settle=False).close()
    assert route_courses(History(tmp_path / "none"), Places({}), 0, 1) is None
