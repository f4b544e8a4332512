"""Compiles every kernel into the cache by running it once on a tiny capture; run as `python -m yaffle.warm_up`.

Compiling holds the interpreter for long: the window has it done by a child process, with a word about it.
"""

import fcntl
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from struct import Struct
from typing import TYPE_CHECKING

import numpy as np

from yaffle.compiler import BACKGROUND
from yaffle.errors import YaffleError
from yaffle.kernel_cache import COMPLETE, cache_folder, compiled

if TYPE_CHECKING:
    from yaffle.analysis import Analysis
    from yaffle.capture.captured import Capture
    from yaffle.capture.payload import Payload


def _frame(from_client: bool, seq: int, ack: int, flags: int, payload: bytes) -> bytes:
    """A TCP segment in Ethernet, with documentation addresses and timestamps."""
    size = len(payload)
    one, two = bytes([198, 51, 100, 1]) + b"\x9c\x40", bytes([203, 0, 113, 1]) + b"\x00\x50"
    src, dst = (one, two) if from_client else (two, one)
    ip = Struct("!BBHHHBBH").pack(0x45, 0, 52 + size, seq & 0xFFFF, 0x4000, 64, 6, 0) + src[:4] + dst[:4]
    tcp = (
        src[4:]
        + dst[4:]
        + Struct("!IIHHHH").pack(seq, ack, 0x8000 | flags, 1000, 0, 0)
        + b"\1\1\x08\x0a"
        + Struct("!II").pack(seq, ack)
    )
    return bytes(12) + b"\x08\x00" + ip + tcp + payload


_ASKS, _TELLS = b"GET / HTTP/1.1\r\nHost: a.example\r\n\r\n", b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"


def _talk() -> list[tuple[int, int, bytes]]:
    """A small connection: opened, asked, answered, closed; a look-up; and a packet that is not IP."""
    up, down = 1 + len(_ASKS), 1 + len(_TELLS)
    frames = [
        _frame(True, 0, 0, 2, b""), _frame(False, 0, 1, 18, b""), _frame(True, 1, 1, 16, b""),
        _frame(True, 1, 1, 24, _ASKS), _frame(False, 1, up, 24, _TELLS), _frame(True, up, down, 17, b""),
        _frame(False, down, up + 1, 17, b""), *_look_up(), bytes(12) + b"\x08\x06" + bytes(28),
    ]  # fmt: skip
    return [((1 + k) * 10_000_000, len(frame), frame) for k, frame in enumerate(frames)]


def _look_up() -> list[bytes]:
    """A question for a name, and its answer."""
    question, head = b"\1a\7example\0\0\1\0\1", Struct("!HHHHHH")
    answer = b"\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4" + bytes([203, 0, 113, 1])
    ends = bytes([198, 51, 100, 1]), bytes([203, 0, 113, 53])
    frames = []
    for source, target, ports, message in (
        (*ends, (40_000, 53), head.pack(7, 0x100, 1, 0, 0, 0) + question),
        (*ends[::-1], (53, 40_000), head.pack(7, 0x8180, 1, 1, 0, 0) + question + answer),
    ):
        udp = Struct("!HHHH").pack(*ports, 8 + len(message), 0) + message
        ip = Struct("!BBHHHBBH").pack(0x45, 0, 20 + len(udp), 7, 0x4000, 64, 17, 0) + source + target
        frames.append(bytes(12) + b"\x08\x00" + ip + udp)
    return frames


def _write_pcap(path: Path, later_ns: int = 0) -> None:
    record = Struct("<IIII")
    path.write_bytes(
        Struct("<IHHiIII").pack(0xA1B23C4D, 2, 4, 0, 0, 65535, 1)
        + b"".join(record.pack(*divmod(t + later_ns, 10**9), len(frame), wire) + frame for t, wire, frame in _talk())
    )


def _read() -> None:
    from yaffle.capture.pcapng_writer import write_pcapng
    from yaffle.capture.reader import read_captures

    with tempfile.TemporaryDirectory() as folder:
        one, two = Path(folder) / "one.pcap", Path(folder) / "two.pcapng"
        _write_pcap(one)
        write_pcapng(two, _talk())
        read_captures([one])
        read_captures([two])


def _charge() -> None:
    """The largest kernel of the ledger, on nothing: only its compiled form is wanted."""
    from yaffle.exchanges.turns import empty_turns
    from yaffle.ledger import causes
    from yaffle.ledger.bounds import DOUBTS
    from yaffle.ledger.charging import charge_exchange
    from yaffle.ledger.path_states import no_states
    from yaffle.ledger.stretch import empty_cutting
    from yaffle.ledger.trips import STATES, Ways
    from yaffle.transport.round_trips import empty_samples
    from yaffle.transport.segments import empty_segments

    g, turns = empty_segments(4), empty_turns(4)
    g.view(np.uint8)[:], turns.view(np.uint8)[:] = 0, 0
    nothing, pair = np.zeros(6, np.int64), np.zeros(2, np.int64)
    ways = Ways(
        empty_samples(0),
        np.zeros((2, 6), np.int64),
        np.zeros((2, STATES), np.int64),
        np.zeros((2, 4), np.int64),
        no_states(1),
        0,
    )
    charge_exchange(
        g,
        turns,
        0,
        0,
        ways,
        pair,
        pair,
        nothing,
        0,
        empty_cutting(),
        np.zeros(causes.COUNT, np.int64),
        np.zeros(DOUBTS, np.int64),
        np.zeros(5, np.int64),
    )


def _classify() -> None:
    from yaffle.capture.packets import SackBlocks
    from yaffle.transport.classify import classify
    from yaffle.transport.segments import FACTS
    from yaffle.transport.workspace import segment_space

    blocks, space = np.zeros(1, np.uint32), segment_space(0)
    classify(space.segments, np.zeros(FACTS, np.int64), SackBlocks(blocks, blocks), space)


def _match() -> None:
    """The same packets at two points."""
    from yaffle.capture.by_part import laid_by_part
    from yaffle.capture.continued import renumber
    from yaffle.capture.joined import joined
    from yaffle.capture.payload import Payload
    from yaffle.capture.pcapng_writer import write_pcapng
    from yaffle.capture.ranges import cuts_of
    from yaffle.capture.reader import read_apart, read_captures
    from yaffle.path.points_path import find_path
    from yaffle.progress import go_on
    from yaffle.room import Room

    with tempfile.TemporaryDirectory() as folder:
        one, two = Path(folder) / "one.pcap", Path(folder) / "two.pcap"
        _write_pcap(one)
        _write_pcap(two, 5_000_000)
        capture = read_captures([one, two])
        cuts_of(one, 2)
        write_pcapng(two, _talk())
        cuts_of(two, 2)
        find_path(capture, Payload(capture))
        count = capture.conversations.point.size
        renumber(capture.packets, np.arange(count, dtype=np.int32), np.zeros(count, np.int8))
        laid_by_part(capture, Room(), go_on, most=1)
        apart = read_apart(one)
        joined([apart], [apart.packets.time_ns.size], Room())


def _datagrams() -> list[tuple[int, int, bytes]]:
    """A stream by RTP, and one of transport packets."""
    frames = []
    for k in range(12):
        for port, payload in (
            (40_000, bytes([0x80, 0, 0, k, 0, 0, 0, 160 * k // 256, 0, 0, 0, 7]) + bytes(20)),
            (6_000, bytes([0x47, 1, 0, 0x10 | k & 15]) + bytes(184)),
        ):
            udp = Struct("!HHHH").pack(port, port, 8 + len(payload), 0) + payload
            ip = Struct("!BBHHHBBH").pack(0x45, 0, 20 + len(udp), k, 0x4000, 64, 17, 0) + bytes(
                [198, 51, 100, 1, 203, 0, 113, 1]
            )
            frames.append(bytes(12) + b"\x08\x00" + ip + udp)
    return [((1 + k) * 10_000_000, len(frame), frame) for k, frame in enumerate(frames)]


def _listen() -> None:
    """Voice and video."""
    from yaffle.capture.first_bytes import beginnings
    from yaffle.capture.payload import Payload
    from yaffle.capture.pcapng_writer import write_pcapng
    from yaffle.capture.reader import read_captures
    from yaffle.media.programs import find_programs
    from yaffle.media.streams import find_media

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "streams.pcapng"
        write_pcapng(path, _datagrams())
        capture = read_captures([path])
        payload = Payload(capture)
        begun = beginnings(capture, payload)
        assert find_media(capture, payload, begun)
        assert find_programs(capture, payload, begun)
        _follow_hops(payload)
        _count_cycles(payload)


def _count_cycles(payload: "Payload") -> None:
    """A series without a period, and a counter that does not rise."""
    from yaffle.cyclic.counter import read_octets
    from yaffle.cyclic.link_scan import COLUMNS, scan_links
    from yaffle.cyclic.period import learn_periods, number_by_counter, number_cycles

    data, one, times = payload.sources[0], np.zeros(1, np.int64), np.arange(2)
    assert data is not None
    scan_links(data, one, one, one, np.zeros((1, COLUMNS), np.int64))
    read_octets(data, one, one, 0, np.zeros((1, 2), np.int64))
    learn_periods(times, np.array([0, 2]), one)
    number_cycles(times, 1, np.zeros(2, np.int64))
    number_by_counter(times, 1, times, 1, 256, np.zeros(2, np.int64))


def _follow_hops(payload: "Payload") -> None:
    """Traces in packets, reports about them, frames that a radio heard: of none."""
    from yaffle.hops.reports import Datagrams, report_rows
    from yaffle.hops.trace_scan import COLUMNS, EDGE_COLUMNS, scan_traces
    from yaffle.radio.frame_scan import COLUMNS as FRAME_COLUMNS
    from yaffle.radio.frame_scan import scan_frames

    data, one = payload.sources[0], np.zeros(1, np.int64)
    assert data is not None
    scan_traces(data, one, one, one, one, np.zeros((0, COLUMNS), np.int64), np.zeros((0, EDGE_COLUMNS), np.int64))
    report_rows(Datagrams(data, one, one, one))
    scan_frames(data, one, one, one, one, np.zeros((1, FRAME_COLUMNS), np.int64))


def _decode() -> None:
    """An exchange of web pages and a look-up; and a table of conversations that has to grow."""
    from yaffle.capture.conversations import refill
    from yaffle.capture.payload import Payload
    from yaffle.capture.reader import read_captures
    from yaffle.exchanges.decoding import decode_messages
    from yaffle.exchanges.lookups import find_lookups
    from yaffle.exchanges.streams import stream_of
    from yaffle.ledger.arrangement import arrange
    from yaffle.transport.datagrams import datagrams
    from yaffle.transport.segments import FACTS, empty_segments, gather

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "one.pcap"
        _write_pcap(path)
        capture = read_captures([path])
        capture, arranged = arrange(capture)
        payload = Payload(capture)
        ports = capture.conversations.b_port[arranged.flow]
        messages = decode_messages(arranged.starts, arranged.order, ports, payload)
        found = find_lookups(capture, payload, arranged.starts, arranged.order, arranged.flow, messages)
        assert messages.label
        assert found.rows
        packets, facts, room = capture.packets, np.zeros(FACTS, np.int64), empty_segments(int(arranged.starts[1]))
        gather(arranged.order[: arranged.starts[1]], packets, room, facts)
        assert stream_of(room, 0, payload).runs()
        datagrams(capture)
    refill(np.zeros(1, np.uint64), np.full(2, 0xFFFFFFFFFFFFFFFF, np.uint64))


def _look_behind() -> None:
    """Two requests to one host, and two calls it made meanwhile."""
    from yaffle.tiers.habits import habits, no_counts
    from yaffle.tiers.hops import Hops
    from yaffle.tiers.host_calls import host_calls
    from yaffle.tiers.identifiers import TOKENS
    from yaffle.tiers.kinds import PLACES
    from yaffle.tiers.label_scan import scan
    from yaffle.tiers.linking import link
    from yaffle.tiers.owning import gained_by_kind, take_kinds
    from yaffle.tiers.pieces import put, told_owners
    from yaffle.tiers.split import split
    from yaffle.tiers.state import no_owners
    from yaffle.tiers.unseen import unseen_legs

    number, times = np.arange(4), np.array([0, 5, 10, 12]) * 1_000_000
    ends, server = np.array([90, 95, 50, 52]) * 1_000_000, np.array([1, 1, 2, 2])
    hops = Hops(
        number, number, server - 1, server, server, times, ends, ends, times, times, ends, ends, ends - times, number,
        server, np.zeros((4, PLACES), np.uint64), np.zeros((4, TOKENS), np.uint64), np.zeros(4, bool),
    )  # fmt: skip
    split(hops, link(hops).samples, number[:2])
    host = host_calls(hops, number[:2], number[2:])
    learnt = habits(no_counts(*host.shape), host, 1.0, np.full(host.shape[1], 0.5))
    state = no_owners(host.calls.size, host.fronts.size, host.owners.size, 1)
    put(host, state, *told_owners(host, learnt, number[:2]))
    gained_by_kind(host, learnt, state, number[:2], np.zeros(host.shape[1]))
    take_kinds(host, learnt, state, number[:2], np.ones(host.shape[1], bool))
    unseen_legs(*(np.tile(column, 30) for column in (server - 1, server, times, ends, times, ends)))
    scan(np.zeros(1, np.uint8), number[:1], number[:1], np.ones(1, np.uint64), PLACES)


def _collect() -> None:
    """What the collector and a live capture need: nothing of theirs is there."""
    from yaffle.collector.sock_diag import rows_of
    from yaffle.live.capturing import convert_nothing

    rows_of(b"", 0)
    convert_nothing()


def _watch(analysis: "Analysis") -> None:
    """The state of a path, which only queues that others fill ask for."""
    from yaffle.ledger.by_paths import delays_told, observed_states
    from yaffle.ledger.engine import Workshop
    from yaffle.ledger.path_observation import path_of_connections

    account, everyone = analysis.account, np.ones(analysis.account.flow.size, bool)
    path = path_of_connections(analysis.capture.conversations, account.flow)
    observed_states(analysis.capture, account, path, everyone, everyone)
    longest = int(np.diff(account.starts).max(initial=0))
    delays_told(analysis.capture, account, np.flatnonzero(everyone), Workshop(longest, 0))


def _step_clock(capture: "Capture") -> None:
    """What only captures whose clock was set ask for."""
    from yaffle.transport.clock_steps import jumps_in, moved_at, sender_ticks

    ticks = np.zeros(2 * capture.conversations.point.size, np.int64)
    sender_ticks(capture.packets, ticks)
    jumps_in(capture.packets, ticks, np.empty((1, 3), np.int64))
    moved_at(capture.packets, ticks, 0, np.empty(ticks.size, np.int64))


def _turn(capture: "Capture") -> None:
    """What only captures ask for that begin in the middle of a connection."""
    from yaffle.ledger.arrangement import turn

    packets, every = capture.packets, np.ones(capture.conversations.point.size, bool)
    turn(packets.flow, packets.direction, every, np.empty(packets.flow.size, np.int8))


def load_kernels() -> None:
    """Loads what is compiled into this process, so that the first capture need not wait for it."""
    if compiled():
        _read()


_PARTS: dict[str, tuple[Callable[[], None], ...]] = {
    "one": (_read, _charge, _collect),
    "two": (_classify, _match, _listen),
    "three": (_decode, _look_behind),
}


def compile_once() -> None:
    """Compiles what is not compiled yet, or waits for the process that does."""
    cache_folder().mkdir(parents=True, exist_ok=True)
    with (cache_folder().parent / "compiling").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not compiled():
            warm_up()


def warm_up() -> None:
    """Compiles all kernels: the large ones side by side, then what is made of them."""
    others = [subprocess.Popen([sys.executable, "-m", "yaffle.warm_up", part]) for part in _PARTS]
    for other in others:
        if other.wait():
            raise YaffleError("a part of the engine cannot be compiled")
    from yaffle.analysis import analyse
    from yaffle.findings.classes import ClassLoad, ClassLoads
    from yaffle.findings.culprits import culprits
    from yaffle.findings.flow_path import flow_ways
    from yaffle.findings.flow_source import held_flows
    from yaffle.findings.planner import plan
    from yaffle.following import Followed
    from yaffle.normal.baseline import BaselineSettings, baseline
    from yaffle.records.flow_table import Exporter, FlowRecords, empty_flows
    from yaffle.session.apportion import picture
    from yaffle.session.evidence import Evidence
    from yaffle.session.examine import Connection
    from yaffle.session.flow_parts import FlowSettings, flow_picture
    from yaffle.session.investigation import Investigation, Opened
    from yaffle.session.make_up import make_up
    from yaffle.session.measures import DEFAULT
    from yaffle.session.survey import SurveySettings, survey
    from yaffle.session.wait_levels import groups

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "one.pcap"
        _write_pcap(path)
        followed = Followed([path])
        for _ in range(2):
            followed.look(provisional=True)
        followed.close()
        model = Investigation()
        analysis = analyse([path])
        _watch(analysis)
        culprits(analysis, np.arange(analysis.account.exchange.shape[0]))
        _step_clock(analysis.capture)
        _turn(analysis.capture)
        model.open(Opened(analysis))
        assert model.scene is not None
        Connection(model.scene.evidence, 0).limits(0)
        for by in ("application", "cast type", "DSCP", "VLAN"):
            make_up(model.scene.evidence, None, by)
        survey(model.scene, SurveySettings(DEFAULT, 0, "host", (), 1e6))
        assert model.scene.evidence.first_packet.size
        told = replace(
            model.scene.evidence.analysis, flows=FlowRecords(empty_flows(1), [Exporter("", 0, 0, flow_records=1)])
        )
        flow_picture(Evidence(told), 0, 10**9, FlowSettings())
        flow_ways(held_flows(told, 0, 10**9, packets=False))
        plan(ClassLoads([ClassLoad(0, 1, 1, 1.0, 1.0, 0, 0.0, 0.0, 0.0, np.ones(4))], 0, 10**7), 1e6)
        baseline(np.zeros(4), np.arange(4) * 10**12, BaselineSettings())
        picture(model.scene, groups(model.scene.evidence, model.rows, ())[0].rows, 4, None)
    cache_folder().mkdir(parents=True, exist_ok=True)
    (cache_folder() / COMPLETE).touch()


if __name__ == "__main__":
    if sys.argv[1:] == [BACKGROUND]:
        os.nice(10)
        compile_once()
    elif len(sys.argv) > 1:
        for step in _PARTS[sys.argv[1]]:
            step()
    else:
        compile_once()
