"""Reports about packets: postcards, stacks, drops, queues, lost reports, clocks that differ, and broken ones."""

import json
import random
from struct import pack

from typer.testing import CliRunner

from tests.frames import ether, pcap, udp
from tests.hops.frames import datagram, inner, report, stack
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.cli import app
from yaffle.hops.report_scan import DROPPED, QUEUED, TRACKED
from yaffle.hops.telemetry import find_telemetry

S0, US, MS = 1_795_000_000 * 10**9, 1000, 10**6
COLLECTOR, H1, H2 = "192.0.2.200", "198.51.100.16", "203.0.113.23"
OFFSETS = {1: 0, 2: -880_000, 3: 3_000_000}


class Switches:
    """Reports of switches, each with a clock and sequence numbers of its own."""

    def __init__(self):
        self.frames, self._next = [], dict.fromkeys(OFFSETS, (1 << 22) - 5)

    def tell(self, node, at_ns, reports, lost=False):
        number = self._next[node]
        self._next[node] = (number + 1) % (1 << 22)
        if not lost:
            body = datagram(node, number, reports)
            self.frames.append((at_ns + 5000, ether(udp(f"192.0.2.{node}", 40_000, COLLECTOR, 32_766, body))))

    def postcard(self, node, at_ns, delay_ns, about, queue=0, flags=TRACKED, lost=False, ports=(1, 2)):
        came = at_ns + OFFSETS[node]
        self.tell(node, at_ns + delay_ns, [report(flags, *ports, came, came + delay_ns, queue, about)], lost)

    def drop(self, node, at_ns, about, ports=(1, 2)):
        self.tell(node, at_ns, [report(DROPPED | QUEUED, *ports, at_ns + OFFSETS[node], 0, 0, about, drop=71)])

    def telemetry(self, tmp_path):
        path = tmp_path / "reports.pcap"
        pcap(path, sorted(self.frames))
        capture = read_captures([path])
        return find_telemetry(capture, Payload(capture))


def about(ip_id, ttl, sport=1000, **more):
    return inner(H1, sport, H2, 443, ip_id, ttl, b"x" * 200, **more)


def test_postcards_of_one_packet_make_its_way_whatever_the_clocks_say(tmp_path):
    own = Switches()
    for k in range(60):
        at = S0 + k * MS
        last = 3 if k >= 30 else 2
        own.postcard(1, at, 500, about(k, 64), lost=k % 20 == 7)
        own.postcard(last, at + 10 * US, 700, about(k, 63))
    found = own.telemetry(tmp_path)
    (flow,) = found.flows
    assert [path.nodes for path in flow.paths] == [(1, 2), (1, 3)] and flow.packets == 60
    assert {hop.node: hop.median_ns for hop in flow.hops} == {1: 500, 2: 700, 3: 700}
    (change,) = found.path_changes
    assert abs(change.time_ns - (S0 + 30 * MS)) < MS
    assert any("3 datagrams of reports were lost" in note for note in found.visits.notes)


def test_a_stack_tells_of_all_switches_and_the_last_one_of_itself(tmp_path):
    own = Switches()
    for k in range(20):
        at = S0 + k * MS
        hops = [(2, 7, 8, 900, 0, at + 20_000 + OFFSETS[2], at + 20_900 + OFFSETS[2]),
                (1, 5, 6, 400, 50, at, at + 400)]  # fmt: skip
        own.postcard(3, at + 40_000, 600, about(k, 62, dscp=23, stack=stack(hops)), ports=(9, 10))
    found = own.telemetry(tmp_path)
    (flow,) = found.flows
    assert [path.nodes for path in flow.paths] == [(1, 2, 3)]
    assert [(hop.node, hop.ingress, hop.egress, hop.median_ns) for hop in flow.hops] == [
        (1, 5, 6, 400), (2, 7, 8, 900), (3, 9, 10, 600),
    ]  # fmt: skip
    assert flow.hops[0].queue_max == 50


def test_a_queue_has_culprits_victims_and_drops(tmp_path):
    own = Switches()
    for k in range(100):
        own.postcard(1, S0 + k * 100 * US, 300, about(k, 64))  # usual
    burst = S0 + 20 * MS
    for k in range(80):
        own.postcard(1, burst + k * 10 * US, 200 * US + k * US, about(k, 64, sport=2000), 90_000, QUEUED)
    own.postcard(1, burst + 400 * US, 250 * US, about(500, 64), 80_000)
    for k in range(7):
        own.drop(1, burst + 500 * US + k, about(600 + k, 64, sport=2000))
    found = own.telemetry(tmp_path)
    (one,) = found.congestion
    assert (one.node, one.egress, one.packets, one.dropped, one.peak_queue) == (1, 2, 81, 7, 90_000)
    assert [(c.flow.src_port, round(c.share, 2)) for c in one.culprits] == [(2000, 0.99)]
    assert [(v.flow.src_port, v.packets, v.added_ns) for v in one.victims] == [(1000, 1, 250 * US - 300)]
    assert [(d.node, d.egress, d.flow.src_port, d.packets) for d in found.drops] == [(1, 2, 2000, 7)]
    assert [flow.paths for flow in found.flows if flow.key.src_port == 2000] == [()]


def test_format_1_tells_the_same(tmp_path):
    own = Switches()
    for k in range(5):
        at = S0 + k * MS
        bits = 0b101000  # interfaces, queue
        head = 1 << 28 | 6 << 24 | bits << 15 | 1 << 12
        body = pack("!IIII", head, 1, k, at & 0xFFFFFFFF) + pack("!HHI", 3, 4, 77) + about(k, 64)
        own.frames.append((at + 5000, ether(udp("192.0.2.1", 40_000, COLLECTOR, 32_766, body))))
    found = own.telemetry(tmp_path)
    (flow,) = found.flows
    assert flow.paths[0].nodes == (1,) and flow.packets == 5
    rows = found.visits.rows
    assert set(rows["ingress"].tolist()) == {3} and set(rows["queue"].tolist()) == {77}
    assert abs(int(rows["arrived_ns"][0]) - S0) < 10_000


def test_broken_reports_are_passed_over(tmp_path):
    dice, own = random.Random(4), Switches()
    hops = [(2, 7, 8, 900, 0, S0, S0 + 900)] * 3
    for k in range(3000):
        one = report(TRACKED, 1, 2, S0, S0 + 5, 0, about(k, 62, dscp=23, stack=stack(hops)))
        body = bytearray(datagram(1, k, [one] * 3))
        for _ in range(dice.randrange(1, 6)):
            body[dice.randrange(len(body))] = dice.choice((0, 1, 255, dice.randrange(256)))
        cut = bytes(body[: dice.randrange(8, len(body) + 1)])
        own.frames.append((S0 + k, ether(udp("192.0.2.1", 40_000, COLLECTOR, 32_766, cut))))
    found = own.telemetry(tmp_path)
    assert found.flows and found.congestion is not None and found.path_changes is not None


def test_many_switches_and_queues_are_as_quick_as_few(tmp_path):
    rng = random.Random(5)
    own = Switches()
    for k in range(30_000):
        left = S0 + rng.randrange(10**7)
        one = report(QUEUED, k & 0xFFFF, k >> 1 & 0xFFFF, S0, left, 5000, about(k & 0xFFFF, 9))
        frame = ether(udp(f"192.0.2.{k % 250}", 40_000, COLLECTOR, 32_766, datagram(k, k, [one])))
        own.frames.append((S0 + k * MS, frame))
    found = own.telemetry(tmp_path)
    assert len(found.nodes) == 30_000 and len(found.flows) == 1 and not found.congestion


def test_ports_and_markings_that_differ_are_told_by_options(tmp_path):
    about = inner(H1, 1000, H2, 443, 7, 62, b"x" * 40, dscp=11, stack=stack([(1, 3, 4, 700, 90, S0, S0 + 700)]))
    body = datagram(2, 1, [report(TRACKED, 1, 2, S0 + US, S0 + 2 * US, 0, about)])
    path = tmp_path / "reports.pcap"
    pcap(path, [(S0 + 9 * US, ether(udp("192.0.2.2", 40_000, COLLECTOR, 9_555, body)))])
    run = CliRunner().invoke(app, ["analyse", str(path), "--json", "-"])
    assert run.exit_code == 0 and json.loads(run.stdout)["hops"]["flows"] == []
    options = ["--telemetry-port", "9555", "--int-dscp", "11"]
    run = CliRunner().invoke(app, ["analyse", str(path), "--json", "-", *options])
    (flow,) = json.loads(run.stdout)["hops"]["flows"]
    assert flow["paths"][0]["nodes"] == [1, 2]


def test_a_packet_that_only_asks_for_reports_has_no_stack(tmp_path):
    """INT-MX: a header of type 3 behind the transport's, by which each switch reports for itself (INT 2.1)."""
    asks = bytes([0x30, 3, 0, 0]) + pack("!IHHI", 2 << 28, 0x7C00, 0, 0)
    own = Switches()
    for node, ttl in ((1, 64), (2, 63)):
        own.postcard(node, S0 + node * 10 * US, 900, about(5, ttl, dscp=23, stack=asks))
    found = own.telemetry(tmp_path)
    (flow,) = found.flows
    assert [path.nodes for path in flow.paths] == [(1, 2)] and flow.packets == 1
    assert {hop.node: hop.median_ns for hop in flow.hops} == {1: 900, 2: 900}
