"""Sets of flows in both directions, and which part degrades one, over records that kernels measured."""

import json
import math
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.session.kept_history import START_NS, write_kept
from yaffle.collector.configuration import read_configuration
from yaffle.errors import YaffleError
from yaffle.history.layout import HOUR_NS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.inventory.places import Places
from yaffle.programs.case import open as open_evidence
from yaffle.programs.health_told import health_told
from yaffle.records.flow_table import SOCKETS, Exporter, FlowRecords, empty_flows
from yaffle.watching.fault import FAR, NEAR, NO, PATH, UNKNOWN, YES, network_fault
from yaffle.watching.flow_sets import BACK, THERE, FlowSet, SetHealth, Way, health_of, keep_sets, kept_sets
from yaffle.watching.windows import Windows

S = 10**9
NOW = 1_795_860_000 * S
HOSTS = {"pier": "198.51.100.7", "quay": "192.0.2.7", "web": "203.0.113.9"}
SITES = {name: Places({}).site(address) for name, address in HOSTS.items()}


def number(address):
    return int.from_bytes(bytes(int(part) for part in address.split(".")), "big")


def record(minute, src, dst, *, repeats=0, delay_ms=5.0, packets=1000):
    one = empty_flows(1)
    for name in ("retransmissions", "timeouts", "busy_ns", "receiver_limited_ns", "sender_limited_ns", "floor_ns"):
        one[name] = -1
    one["protocol"], one["transport"], one["sampling"], one["records"] = SOCKETS, 6, 1, 1
    one["src_lo"], one["dst_lo"] = number(HOSTS[src]), number(HOSTS[dst])
    one["src_port"], one["dst_port"] = 40_000, 443
    one["first_ns"], one["last_ns"] = NOW + minute * 60 * S, NOW + minute * 60 * S + 59 * S
    one["arrived_ns"] = one["last_ns"]
    one["packets"], one["octets"] = packets, packets * 500
    one["retransmissions"], one["timeouts"] = repeats, 0
    one["round_trip_ns"] = -1 if delay_ms is None else round(delay_ms * 1e6)
    return one


def history_of(folder, rows):
    writer = HistoryWriter(folder, now_ns=lambda: NOW + HOUR_NS, settle=False)
    told = np.concatenate(rows)
    writer.append(FlowRecords(told, [Exporter("198.51.100.7", 0, SOCKETS, flow_records=told.size)]))
    writer.close()
    return History(folder)


def sets(*pairs):
    return [FlowSet(f"{a} {b}", f"src = '{HOSTS[a]}' AND dst = '{HOSTS[b]}'") for a, b in pairs]


def judged(folder, rows, *pairs):
    windows = Windows(history_of(folder, rows))
    return [health_of(windows, one, NOW, NOW + 1800 * S) for one in sets(*pairs)]


def talk(src, dst, bad=(), **trouble):
    return [record(k, *ends, **(trouble if k in bad and ends == (src, dst) else {}))
            for k in range(30) for ends in ((src, dst), (dst, src))]  # fmt: skip


def test_each_direction_is_told_for_itself(tmp_path):
    (one,) = judged(tmp_path / "h", talk("pier", "web", range(20, 30), repeats=80), ("pier", "web"))
    there, back = one.ways
    assert (there.direction, back.direction) == (THERE, BACK)
    assert there.degraded.tolist() == [0, 0, 0, 0, 1, 1] and back.degraded.tolist() == [0] * 6
    assert there.retransmitted_percent.tolist() == [0, 0, 0, 0, 8, 8]
    assert (there.near, there.far) == (SITES["pier"], SITES["web"]) == (back.far, back.near)
    found = network_fault([one])
    assert found.fault == YES and found.verdicts["pier web", THERE].part == PATH


def test_a_round_trip_far_longer_than_usual_suffers_too(tmp_path):
    (one,) = judged(tmp_path / "h", talk("pier", "web", range(25, 30), delay_ms=60.0), ("pier", "web"))
    assert one.ways[0].median_ms == 5.0 and one.ways[0].degraded.tolist() == [0, 0, 0, 0, 0, 1]


def test_what_nobody_measured_is_not_known(tmp_path):
    rows = [record(k, "pier", "web", delay_ms=None, repeats=-1) for k in range(30)]
    (one,) = judged(tmp_path / "h", rows, ("pier", "web"))
    assert all(math.isnan(value) for way in one.ways for value in way.degraded)
    assert network_fault([one]).fault == UNKNOWN


def way(now, near, far, path=(), direction=THERE):
    degraded = np.array([float("nan") if now is None else float(now)])
    return Way(direction, degraded, degraded, degraded, degraded, 1.0, degraded, near, far, tuple(path))


def told(*ways):
    return [SetHealth(FlowSet(f"s{k}", "true"), 0, (one,)) for k, one in enumerate(ways)]


@pytest.mark.parametrize(
    ("ways", "fault", "part"),
    [
        ([], UNKNOWN, ""),
        ([way(None, "a", "x")], UNKNOWN, ""),
        ([way(0, "a", "x"), way(None, "b", "x")], UNKNOWN, ""),
        ([way(0, "a", "x"), way(0, "b", "x")], NO, ""),
        ([way(1, "a", "x"), way(1, "a", "y"), way(0, "b", "x"), way(0, "b", "y")], UNKNOWN, NEAR),
        ([way(1, "a", "x"), way(1, "b", "x"), way(0, "a", "y"), way(0, "b", "y")], UNKNOWN, FAR),
        (
            [way(1, "a", "x", ["l2"]), way(1, "b", "y", ["l2"]), way(0, "a", "y", ["l1"]), way(0, "b", "x", ["l1"])],
            YES,
            PATH,
        ),
        ([way(1, "a", "x"), way(1, "b", "y")], UNKNOWN, ""),
        ([way(1, "a", "x", ["l1"]), way(0, "b", "y", ["l2"])], UNKNOWN, ""),
        ([way(1, "", "")], UNKNOWN, ""),
    ],
)
def test_the_part_that_tells_the_suffering_from_the_others_is_named(ways, fault, part):
    found = network_fault(told(*ways))
    assert found.fault == fault and found.words
    assert {one.part for one in found.verdicts.values()} <= {part}


def test_of_waits_only_the_network_is_judged_so_that_it_is_at_fault_at_an_end_too():
    ways = [way(1, "a", "x"), way(1, "a", "y"), way(0, "b", "x"), way(0, "b", "y")]
    found = network_fault([SetHealth(FlowSet(f"s{k}", "true", "waits"), 0, (one,)) for k, one in enumerate(ways)])
    assert found.fault == YES and {one.part for one in found.verdicts.values()} == {NEAR}


ENDS = st.sampled_from(["a", "b", "c", ""])


LINKS = st.lists(st.sampled_from(["l1", "l2"]), max_size=2)


@given(st.lists(st.tuples(st.sampled_from([0, 1, None]), ENDS, ENDS, LINKS)))
def test_nothing_suffering_is_never_yes_and_nothing_measured_never_no(drawn):
    found = network_fault(told(*(way(*one) for one in drawn)))
    if not any(one[0] for one in drawn):
        assert found.fault != YES
    if all(one[0] is None for one in drawn):
        assert found.fault == UNKNOWN
    assert set(found.verdicts) == {(f"s{k}", THERE) for k, one in enumerate(drawn) if one[0]}


def test_kept_waits_are_a_set_too(tmp_path):
    history = History(write_kept(tmp_path / "h"))
    one = FlowSet("desks", "site = 'pier'", "waits", HOUR_NS)
    found = health_of(Windows(history), one, START_NS, START_NS + 24 * HOUR_NS)
    assert np.flatnonzero(found.ways[0].degraded == 1).tolist() == [22]  # The evening, which waits for the network.
    assert (found.ways[0].near, found.ways[0].far) == ("pier", "203.0.113.9 3389")


def test_command_and_interface_tell_it(tmp_path):
    history = history_of(tmp_path / "h", talk("pier", "web", range(20, 30), repeats=80))
    keep_sets(history.folder, sets(("pier", "web")))
    assert kept_sets(history.folder) == sets(("pier", "web"))
    case = open_evidence(history.folder)
    found = health_told(case)
    assert found.network_at_fault == YES and found.sets[0].ways[0].degraded_now is True
    done = subprocess.run([sys.executable, "-m", "yaffle", "health", str(history.folder), "--json", "-"],
                          capture_output=True, text=True, check=False)  # fmt: skip
    assert done.returncode == 1 and json.loads(done.stdout)["network_at_fault"] == "yes"
    from yaffle.programs.metrics_text import metrics_text

    assert 'yaffle_network_at_fault{case="x"} 1' in metrics_text({"x": case}).splitlines()


@pytest.mark.parametrize(
    ("text", "words"), [("where = 'nope = 1'", "where"), ("where = 'true'\nof = 'counters'", "one of records, waits")]
)
def test_a_wrong_set_is_said(tmp_path, text, words):
    path = tmp_path / "c.toml"
    path.write_text(f"history = 'h'\n[[flow_set]]\nname = 's'\n{text}\n")
    with pytest.raises(YaffleError, match=words):
        read_configuration(path)
