"""Ways of flows that change in time: told once, with the moment and both sides."""

import numpy as np

from yaffle.findings.flow_changes import way_changes
from yaffle.findings.flow_source import HeldFlows
from yaffle.records.flow_table import V9, Exporter, empty_flows

S = 10**9
EXPORTERS = [Exporter(f"192.0.2.{k}", 0, V9, interfaces={1: "in", 2: "out"}) for k in range(1, 5)]


def held(plan, sums=0):
    """plan: (exporter, first second, last second, packets) of records of one second each, from one host to another."""
    every = [(e, t, n) for e, first, last, n in plan for t in range(first, last)]
    rows = empty_flows(len(every))
    rows["exporter"], rows["ingress"], rows["egress"] = [e for e, _, _ in every], 1, 2
    rows["src_lo"], rows["dst_lo"], rows["transport"] = 3325256711, 3405803785, 6
    rows["src_port"], rows["dst_port"] = 40000, 443
    rows["first_ns"] = [t * S for _, t, _ in every]
    rows["last_ns"] = [t * S + S // 2 for _, t, _ in every]
    rows["packets"] = rows["octets"] = [n for _, _, n in every]
    rows["sampling"], rows["highest_ttl"] = 1, [60 - e for e, _, _ in every]
    return HeldFlows(rows, EXPORTERS, width_ns=sums)


def test_the_middle_of_the_way_moves():
    (change,) = way_changes(held([(0, 0, 100, 10), (1, 0, 40, 10), (2, 40, 100, 8), (3, 0, 100, 8)]))
    assert abs(change.at_ns - 40 * S) <= S
    assert change.within_ns <= S
    assert [name.split(",")[0] for name in (*change.gone, *change.come)] == ["192.0.2.2", "192.0.2.3"]
    assert (len(change.before.stations), len(change.after.stations)) == (3, 3)
    assert [round(change.after.packets[s]) for s in change.after.stations] == [600, 480, 480]
    assert "480 packets" in change.after.words
    assert (change.before.hop_limit, change.after.hop_limit) == (60, 60)


def test_there_and_back_again_are_two_changes():
    found = way_changes(held([(0, 0, 100, 1), (1, 0, 30, 1), (2, 30, 60, 1), (1, 60, 100, 1)]))
    assert [round(c.at_ns / S) for c in found] == [30, 60]


def test_an_exporter_that_begins_to_tell_is_no_change():
    assert way_changes(held([(0, 0, 100, 1), (1, 50, 100, 1)])) == []
    assert way_changes(held([(0, 0, 100, 1)])) == []
    assert way_changes(HeldFlows(empty_flows(0), [])) == []
    assert way_changes(held([(0, 0, 50, 1), (1, 50, 100, 1)], sums=60 * S)) == []


def test_two_ways_at_a_time_are_none():
    assert way_changes(held([(0, 0, 100, 1), (1, 0, 100, 1), (2, 0, 100, 1)])) == []
    assert np.array_equal(held([(0, 0, 2, 1)]).rows["packets"], [1, 1])
