"""Four seconds inside Quay House: what two leaf and two spine switches report of packets (INT, format 2.0).

The archive copy comes in bursts faster than the port to the pier's gateway takes them; announcements of the
loudspeakers stand behind it. After two seconds a spine is taken out of use, and they go by the other one.
"""

import ipaddress
from dataclasses import dataclass
from pathlib import Path
from struct import pack

import numpy as np

from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.weeks import ARCHIVE

START_NS = 1_772_779_260_000_000_000  # 2026-03-06 06:41:00, in the week in which the copy still ran in the morning
SECONDS, MOVED_S = 4.0, 2.0
LEAF_1, LEAF_2, SPINE_1, SPINE_2 = 11, 12, 21, 22
GATEWAY_PORT = 3  # of the second leaf
_PORT_BPS, _LIMIT_BYTES = 1e8, 250_000
_SPEAKERS = tuple(f"198.51.100.{160 + k}" for k in range(6))
_ANNOUNCER, _RTP_BYTES, _EVERY_S = "203.0.113.61", 200, 0.02
_COLLECTOR, _REPORT_PORT = "192.0.2.200", 32_766
_OFFSET_NS = {LEAF_1: 0, LEAF_2: -420_000, SPINE_1: 1_300_000, SPINE_2: -75_000}  # of the switches' clocks
_TRACKED, _QUEUED, _DROPPED = 2, 4, 8
_REPORTED_NS, _SWITCH_NS, _WIRE_NS = 100_000, 450, 2_000


@dataclass(frozen=True)
class _Packet:
    """One that comes to the port of the gateway."""

    at_ns: int
    source: str
    target: str
    ports: tuple[int, int]
    octets: int
    number: int
    announced: bool


def _packets(rng: np.random.Generator) -> list[_Packet]:
    """Announcements at their cadence, and the copy in bursts, in order of time."""
    found = []
    for k, speaker in enumerate(_SPEAKERS):
        for number in range(int(SECONDS / _EVERY_S)):
            at = START_NS + int((number * _EVERY_S + 0.0021 * k) * 1e9) + int(rng.integers(0, 20_000))
            found.append(_Packet(at, _ANNOUNCER, speaker, (20_000 + 2 * k, 16_000), _RTP_BYTES, number, True))
    number = 0
    for burst in range(9):
        begin = START_NS + int((0.23 + 0.42 * burst) * 1e9)
        for k in range(int(rng.integers(120, 185))):
            at = begin + k * 12_000 + int(rng.integers(0, 1500))
            found.append(_Packet(at, ARCHIVE[1], ARCHIVE[0], (ARCHIVE[2], 40_022), 1500, number & 0xFFFF, False))
            number += 1
    return sorted(found, key=lambda one: one.at_ns)


class _Reports:
    """Datagrams of switches, with their clocks and sequence numbers."""

    def __init__(self) -> None:
        self.frames: list[tuple[int, int, bytes]] = []
        self._next = dict.fromkeys(_OFFSET_NS, 100)

    def tell(self, node: int, one: _Packet, ttl: int, ports: tuple[int, int], at_ns: int, wait_ns: int, queue: int,
             flags: int) -> None:  # fmt: skip
        """One report of one packet; a dropped one waited for nothing."""
        came = at_ns + _OFFSET_NS[node]
        bits, data = 0x4800, pack("!HHQ", *ports, came)
        if flags & _DROPPED:
            bits |= 1
            data += pack("!I", 71 << 16)
        else:
            bits |= 0x3400
            data = pack("!HHIIQQ", *ports, wait_ns, queue, came, came + wait_ns)
        about = _inner(one, ttl)
        about += bytes(-len(about) % 4)
        main = pack("!HHHH", bits, 0, 0, 0) + data + about
        body = bytes([0x13, len(main) // 4, len(data) // 4, flags << 4]) + main
        number = self._next[node]
        self._next[node] += 1
        datagram = pack("!II", 2 << 28 | number, node) + body
        frame = _ether(_udp(f"192.0.2.{node}", 40_000 + node, _COLLECTOR, _REPORT_PORT, datagram))
        self.frames.append((at_ns + wait_ns + 12_000, len(frame), frame))


def _udp(source: str, from_port: int, target: str, to_port: int, payload: bytes) -> bytes:
    size = 28 + len(payload)
    ends = ipaddress.ip_address(source).packed + ipaddress.ip_address(target).packed
    head = pack("!BBHHHBBH", 0x45, 0, size, 0, 0x4000, 64, 17, 0) + ends
    return head + pack("!HHHH", from_port, to_port, 8 + len(payload), 0) + payload


def _ether(packet: bytes) -> bytes:
    return b"\2\0\0\0\0\2\2\0\0\0\0\1\x08\0" + packet


def _inner(one: _Packet, ttl: int) -> bytes:
    """Headers of a packet as a switch got it."""
    ends = ipaddress.ip_address(one.source).packed + ipaddress.ip_address(one.target).packed
    protocol = 17 if one.announced else 6
    marking = 0xB8 if one.announced else 0
    head = pack("!BBHHHBBH", 0x45, marking, one.octets, one.number, 0x4000, ttl, protocol, 0) + ends
    if one.announced:
        return _ether(head + pack("!HHHH", *one.ports, one.octets - 20, 0))
    return _ether(head + pack("!HHIIHHHH", *one.ports, one.number * 1460, 1, 5 << 12 | 16, 1000, 0, 0))


def make_leaf_switches(path: Path, seed: int = 6) -> Path:
    """Writes the reports as a collector heard them."""
    rng, reports = np.random.default_rng(seed), _Reports()
    queue, last_ns = 0.0, START_NS
    for one in _packets(rng):
        spine = SPINE_1 if (one.at_ns - START_NS) / 1e9 < MOVED_S else SPINE_2
        at = one.at_ns
        if one.announced:
            reports.tell(LEAF_1, one, 64, (1, 49 if spine == SPINE_1 else 50), at, _SWITCH_NS, 0, _TRACKED)
            reports.tell(spine, one, 63, (1, 2), at + _WIRE_NS, _SWITCH_NS, 0, _TRACKED)
        at += 2 * _WIRE_NS
        queue = max(0.0, queue - (at - last_ns) * _PORT_BPS / 8e9)
        last_ns = at
        ports = (49 if spine == SPINE_1 else 50, GATEWAY_PORT)
        if queue + one.octets > _LIMIT_BYTES:
            reports.tell(LEAF_2, one, 62, ports, at, 0, 0, _DROPPED | _QUEUED)
            continue
        wait = int(queue * 8e9 / _PORT_BPS) + _SWITCH_NS
        waited = wait > _REPORTED_NS
        if one.announced or waited:
            flags = (_TRACKED if one.announced else 0) | (_QUEUED if waited else 0)
            reports.tell(LEAF_2, one, 62, ports, at, wait, int(queue), flags)
        queue += one.octets
    write_pcapng(path, sorted(reports.frames))
    return path
