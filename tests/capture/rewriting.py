"""Rewrites captures as other ways of capturing would have written them: doubled, on any device, with gaps."""

import random
import struct
from collections.abc import Callable, Iterable
from pathlib import Path

HEADER = struct.Struct("<IHHiIII")
RECORD = struct.Struct("<IIII")
ETHERNET, LINUX_SLL2 = 1, 276
Packet = tuple[int, int, bytes]  # time ns, bytes on the wire, bytes kept


def packets_of(path: Path) -> list[Packet]:
    """The packets of a little-endian nanosecond capture of Ethernet."""
    data, at, found = path.read_bytes(), HEADER.size, []
    assert HEADER.unpack_from(data)[0] == 0xA1B23C4D
    while at < len(data):
        seconds, part, kept, wire = RECORD.unpack_from(data, at)
        found.append((seconds * 10**9 + part, wire, data[at + RECORD.size : at + RECORD.size + kept]))
        at += RECORD.size + kept
    return found


def write(path: Path, packets: Iterable[Packet], link: int = ETHERNET, *, in_order: bool = True) -> Path:
    """Writes packets, in order of time where not told otherwise."""
    packets = sorted(packets, key=lambda p: p[0]) if in_order else packets
    body = b"".join(RECORD.pack(*divmod(t, 10**9), len(kept), wire) + kept for t, wire, kept in packets)
    path.write_bytes(HEADER.pack(0xA1B23C4D, 2, 4, 0, 0, 65535, link) + body)
    return path


def doubled(packets: list[Packet], later_ns: int = 15_000) -> list[Packet]:
    """As a mirror of both directions of a port shows them."""
    return [copy for t, wire, kept in packets for copy in ((t, wire, kept), (t + later_ns, wire, kept))]


def tagged_too(packets: list[Packet], later_ns: int = 9_000, vlan: int = 7) -> list[Packet]:
    """As a trunk and an access port in one mirror show them: each once with its tag and once without."""
    tag = struct.pack("!HH", 0x8100, vlan)
    return [
        copy
        for t, wire, kept in packets
        for copy in ((t, wire + 4, kept[:12] + tag + kept[12:]), (t + later_ns, wire, kept))
    ]


def on_any_device(packets: list[Packet], devices: int = 3, later_ns: int = 6_000) -> list[Packet]:
    """As `any` shows what passes a pair, a bridge and a card: the cooked header of version 2, a number for each
    device.
    """
    found = []
    for t, wire, kept in packets:
        for k in range(devices):
            cooked = kept[12:14] + struct.pack("!HIHBB", 0, k + 2, 1, 0, 6) + kept[6:12] + b"\0\0"
            found.append((t + k * later_ns, wire + 6, cooked + kept[14:]))
    return found


def one_hop_on(packets: list[Packet], client: bytes, later_ns: int = 40_000) -> list[Packet]:
    """As both sides of a router, behind what was captured, in one capture. client: first bytes of the clients'
    addresses.
    """
    found = []
    for t, wire, kept in packets:
        up = kept[26 : 26 + len(client)] == client
        hop = bytearray(kept)
        hop[22] += -1 if up else 1
        found += [(t, wire, kept), (t + (later_ns if up else -later_ns), wire, bytes(hop))]
    return found


def missed(packets: list[Packet], share: float, seed: int = 1) -> list[Packet]:
    """As a capture that could not keep up."""
    rnd = random.Random(seed)
    return [p for p in packets if rnd.random() >= share]


def only(packets: list[Packet], wanted: Callable[[bytes], bool]) -> list[Packet]:
    """Only some of the packets."""
    return [p for p in packets if wanted(p[2])]


def merged(packets: list[Packet], most: int = 60_000, within_ns: int = 500_000) -> list[Packet]:
    """As a host shows what its device merged: segments of one direction in sequence become one packet."""
    found: list[Packet] = []
    latest: dict[bytes, int] = {}  # flow: place of what may still grow
    for t, wire, kept in packets:
        header = 14 + (kept[14] & 15) * 4
        flow, length = kept[26:34] + kept[header : header + 4], struct.unpack_from("!H", kept, 16)[0]
        payload = length - (header - 14) - (kept[header + 12] >> 4) * 4
        if not payload or kept[header + 13] & 7:
            latest.pop(flow, None)
            found.append((t, wire, kept))
            continue
        if (place := latest.get(flow)) is not None:
            at, size, head = found[place]
            before = struct.unpack_from("!H", head, 16)[0]
            data = before - (header - 14) - (head[header + 12] >> 4) * 4
            next_ = (struct.unpack_from("!I", head, header + 4)[0] + data) & 0xFFFFFFFF
            same = (
                head[header + 8 : header + 12] == kept[header + 8 : header + 12]
                and head[header + 12] == kept[header + 12]
            )
            parts = -(-data // 1448)
            numbered = (struct.unpack_from("!H", head, 18)[0] + parts) & 0xFFFF == struct.unpack_from("!H", kept, 18)[0]
            if (
                struct.unpack_from("!I", kept, header + 4)[0] == next_
                and same
                and numbered
                and data % 1448 == 0
                and t - at < within_ns
                and data + payload < most
            ):
                grown = bytearray(head)
                struct.pack_into("!H", grown, 16, before + payload)
                grown[header + 13] |= kept[header + 13] & 8
                found[place] = (at, size + payload, bytes(grown))
                continue
        latest[flow] = len(found)
        found.append((t, wire, kept))
    return found
