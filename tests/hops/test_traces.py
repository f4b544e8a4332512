"""Traces in packets: ways, delays, queues, identities of every width, and what is broken or unknown."""

import gzip
import json
import random
from pathlib import Path
from struct import pack

import pytest

from tests.frames import ether, ip, pcap
from tests.hops.frames import ONES, hop_by_hop, trace_node, trace_option
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.hops.telemetry import find_telemetry

DATA = Path(__file__).parent.parent / "data" / "hops"
A, B = "2001:db8:c::1", "2001:db8:5::1"
S0, US = 1_795_000_000, 1000
USUAL = (0, 1, 2, 3, 6)


def packet(sport, option, payload=b"x" * 100, tail=0):
    datagram = pack("!HHHH", sport, 443, 8 + len(payload), 0) + payload
    return ether(hop_by_hop(ip(A, B, 17, datagram), option))


def told(tmp_path, frames):
    """Telemetry of frames, given as (time in us after S0, frame)."""
    path = tmp_path / "one.pcap"
    pcap(path, [(S0 * 10**9 + at * US, frame) for at, frame in frames])
    capture = read_captures([path])
    return find_telemetry(capture, Payload(capture))


def node(number, at_us, limit, bits=USUAL, **more):
    return trace_node(bits, limit, number, fraction=at_us % 1_000_000, seconds=S0 + at_us // 1_000_000, **more)


def test_ways_and_delays_are_those_of_the_traces(tmp_path):
    frames = []
    for k in range(50):
        at, waits = 10_000 * k, 20_000 if 10 <= k < 14 else 7
        nodes = [node(3, at + 5 + waits, 62), node(2, at + 5, 63, egress=9, queue=5000 if waits > 7 else 0),
                 node(1, at, 64, egress=4)]  # fmt: skip
        frames.append((at + 50_000, packet(5000, trace_option(USUAL, nodes, room_words=2))))
    found = told(tmp_path, frames)
    (flow,) = found.flows
    assert [path.nodes for path in flow.paths] == [(1, 2, 3)] and flow.packets == 50
    assert [(hop.node, hop.egress, hop.samples) for hop in flow.hops] == [(1, 4, 50), (2, 9, 50)]
    assert (flow.hops[1].least_ns, flow.hops[1].most_ns) == (7000, 20_000_000) and flow.hops[1].median_ns == 7000
    assert found.congestion[0].node == 2 and found.congestion[0].egress == 9 and found.congestion[0].packets == 4
    assert found.congestion[0].peak_queue == 5000
    assert found.congestion[0].first_ns == S0 * 10**9 + 100_005_000


def test_wide_identities_are_tied_to_short_ones_by_a_trace_that_has_both(tmp_path):
    wide, both = (2, 3, 8, 9), (0, 1, 2, 3, 8, 9)
    frames = []
    for k in range(3):
        at = 1000 * k
        for sport, bits in ((6000, wide), (6001, both)):
            nodes = [
                trace_node(bits, 62, 3, 1, 2, S0, at + 30, wide=333, wide_in=31, wide_out=32),
                trace_node(bits, 63, 2, 8, 9, S0, at + 10, wide=222, wide_in=28, wide_out=29),
            ]
            frames.append((at + 100, packet(sport, trace_option(bits, nodes))))
    found = told(tmp_path, sorted(frames))
    for flow in found.flows:
        assert flow.paths[0].nodes == (2, 3) and (flow.hops[0].ingress, flow.hops[0].egress) == (8, 9)


def test_a_silent_router_shows_in_the_hop_limit_and_what_is_not_filled_is_not_known(tmp_path):
    bits = (0, 1, 2, 3, 6)
    nodes = [node(3, 20, 61), trace_node(bits, 63, 1, 0xFFFF, 0xFFFF, S0, 5, queue=ONES)]
    found = told(tmp_path, [(100, packet(7000, trace_option(bits, nodes)))])
    (flow,) = found.flows
    assert flow.paths[0].nodes == (1, None, 3)
    assert (flow.hops[0].ingress, flow.hops[0].egress, flow.hops[0].queue_max) == (-1, -1, -1)


@pytest.mark.parametrize(
    ("seconds", "fraction", "form"),
    [
        (S0, 250_000, "posix"),
        (S0, 250_000_000, "ptp"),
        (S0 + 2_208_988_800, 1 << 30, "ntp"),
        (ONES, 250_000, "fraction"),
    ],
)
def test_times_of_every_form(tmp_path, seconds, fraction, form):
    step = {"posix": 10, "ptp": 10_000, "ntp": 42_950, "fraction": 10}[form]
    bits = (0, 2, 3)
    frames = []
    for k in range(4):
        nodes = [trace_node(bits, 62, 2, seconds=seconds, fraction=fraction + 2 * step * k + step),
                 trace_node(bits, 63, 1, seconds=seconds, fraction=fraction + 2 * step * k)]  # fmt: skip
        frames.append((250_100 + 20 * k, packet(7100, trace_option(bits, nodes))))
    (flow,) = told(tmp_path, frames).flows
    assert abs(flow.paths[0].first_ns - (S0 * 10**9 + 250_000_000)) <= 1000
    assert abs(flow.hops[0].median_ns - 10_000) <= 20


def test_overflow_snapshots_incremental_and_unknown_namespaces(tmp_path):
    bits = (0, 2, 3, 22)
    nodes = [trace_node(bits, 62, 2, seconds=S0, fraction=9, snapshot=b"abcdefgh"),
             trace_node(bits, 63, 1, seconds=S0, fraction=2)]  # fmt: skip
    frames = [
        (100, packet(7200, trace_option(bits, nodes))),
        (101, packet(7201, trace_option((0, 2, 3), [trace_node((0, 2, 3), 63, 1, seconds=S0)], overflow=True))),
        (102, packet(7202, trace_option((0, 2, 3), [trace_node((0, 2, 3), 62, 2, seconds=S0, fraction=5),
                                                    trace_node((0, 2, 3), 63, 1, seconds=S0)], incremental=True))),
        (103, packet(7203, trace_option((0, 2, 3), [], room_words=9, namespace=77))),
    ]  # fmt: skip
    found = told(tmp_path, frames)
    assert {flow.key.src_port: flow.paths[0].nodes for flow in found.flows} == {7200: (1, 2), 7201: (1,), 7202: (1, 2)}
    assert any("overflow" in note for note in found.visits.notes)


def test_another_way_is_dated_by_its_first_packet(tmp_path):
    frames = []
    for k in range(40):
        at = 10_000 * k
        middle = 2 if k < 20 else 4
        # The last packets of the old way stand in a queue, and come after the first of the new one.
        waits = 60_000 if 17 <= k < 20 else 10
        nodes = [node(3, at + 5 + waits, 62), node(middle, at + 5, 63, egress=9), node(1, at, 64, egress=middle)]
        frames.append((at + waits + 20, packet(5000, trace_option(USUAL, nodes))))
    found = told(tmp_path, sorted(frames))
    (change,) = found.path_changes
    assert (change.before, change.after) == ((1, 2, 3), (1, 4, 3))
    assert change.time_ns == S0 * 10**9 + 200_000_000


def test_a_recorded_one_with_a_silent_router(tmp_path):
    """Real routers, one of which writes nothing: a small copy of what was measured, with taps for the truth."""
    path = tmp_path / "silent.pcap"
    path.write_bytes(gzip.decompress((DATA / "silent.pcap.gz").read_bytes()))
    truth = json.loads((DATA / "silent.json").read_text())
    capture = read_captures([path])
    found = find_telemetry(capture, Payload(capture))
    flows = {(f.key.src, f.key.src_port, f.key.dst, f.key.dst_port): f for f in found.flows}
    for one in truth["flows"]:
        own = flows.get((one["src"], one["src_port"], one["dst"], one["dst_port"]))
        if one["capture"] != "at_server" or not one["telemetry"]:
            continue
        assert own is not None and own.packets == one["packets_known"]
        seen = [path["seen"] for path in one["paths"]]
        assert [[n for n in path.nodes if n is not None] for path in own.paths] == seen
        for hop in one["hops"]:
            mine = next(h for h in own.hops if h.node == hop["node"])
            low, high = hop["delay_us"]["median_between"]
            assert low * 0.95 - 20 <= mine.median_ns / US <= high * 1.05 + 20
            assert abs(mine.most_ns / US - hop["delay_us"]["max"]) <= 0.05 * hop["delay_us"]["max"] + 20
    assert len(found.congestion) == len(truth["congestion"])
    for want, have in zip(truth["congestion"], found.congestion, strict=True):
        assert (have.node, have.egress) == (want["seen_as"]["node"], want["seen_as"]["egress"])
        assert abs(have.packets - want["packets_known"]) <= 3 + want["packets_known"] // 100
        ports = [one["src_port"] for one in truth["flows"]]
        assert {c.flow.src_port for c in have.culprits} == {ports[c["flow"]] for c in want["culprits"]}
        victims = [v for v in want["victims"] if v["known_ms_max"] > 0]
        assert {v.flow.src_port for v in have.victims} == {ports[v["flow"]] for v in victims}


def test_broken_options_are_passed_over(tmp_path):
    dice = random.Random(5)
    nodes = [node(3, 20, 62), node(2, 5, 63)]
    whole = packet(7000, trace_option(USUAL, nodes, room_words=3))
    frames = []
    for k in range(3000):
        data = bytearray(whole)
        for _ in range(dice.randrange(1, 5)):
            data[dice.randrange(54, min(len(data), 140))] = dice.choice((0, 1, 255, dice.randrange(256)))
        frames.append((k, bytes(data[: dice.randrange(50, len(data) + 1)])))
    found = told(tmp_path, frames)
    assert (found.visits.rows["node"] >= -1).all()
    assert found.flows is not None and found.congestion is not None
