"""Series of packets that may have a period: one direction of a conversation of datagrams, or one sender and receiver on
the link layer.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Int64s, Int64s2, Uint16s, Uint64s
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.capture.radio_head import RADIO_LINKS
from yaffle.cyclic import link_scan as ls
from yaffle.cyclic.period import LEAST, learn_periods
from yaffle.media.calls import ends_of
from yaffle.radio.frames import address_text
from yaffle.units import transport_name

_TOLD_ELSEWHERE = (2055, 4739, 6343, 32_766)  # ports of flow export and of switches' reports
_NO_STREAMS = (1, 6, 58)  # TCP has periods of its own making; echoes are questions
_ETHERTYPE = 0x600
_OTHERS = (0x0806, 0x888E)  # address resolution and keys: questions, no streams
_NAMES = {
    ls.REAL_TIME: "real-time Ethernet", ls.SAMPLED: "sampled values", ls.EVENTS: "GOOSE",
    ls.UNREAD: "802.11 data", 0x88CC: "LLDP", 0x88A4: "EtherCAT", 0x22F0: "AVTP",
}  # fmt: skip
_EVERY = 1 << 20
_MIX = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True)
class Group:
    """One series, in order of time. begin, end: where what each packet carries lies in the data of its source."""

    kind: str
    source: str
    destination: str
    point: int
    vlan: int
    ethertype: int  # -1 of IP
    identifier: int
    period_ns: int
    time_ns: Int64s
    data: Uint16s  # the source that holds each
    begin: Int64s
    end: Int64s


def members(capture: Capture, payload: Payload, time_ns: Array) -> Iterator[Group]:
    """All series with a period, by times of the packets."""
    yield from _of_datagrams(capture, time_ns)
    yield from _of_links(capture, payload, time_ns)


def _with_period(key: Array, time_ns: Array) -> Iterator[tuple[Array, int]]:
    """(places in order of time, period) of each key that has one."""
    _, number, count = np.unique(key, return_inverse=True, return_counts=True)
    enough = np.flatnonzero(count[number] >= LEAST)
    order = enough[np.lexsort((time_ns[enough], number[enough]))]
    if not order.size:
        return
    starts = np.concatenate([[0], np.flatnonzero(np.diff(number[order])) + 1, [order.size]])
    periods = np.zeros(starts.size - 1, np.int64)
    learn_periods(time_ns[order], starts, periods)
    for k in np.flatnonzero(periods).tolist():
        yield order[starts[k] : starts[k + 1]], int(periods[k])


def _of_datagrams(capture: Capture, time_ns: Array) -> Iterator[Group]:
    packets, flows = capture.packets, capture.conversations
    wanted = ~np.isin(flows.protocol, _NO_STREAMS)
    wanted &= ~np.isin(flows.a_port, _TOLD_ELSEWHERE) & ~np.isin(flows.b_port, _TOLD_ELSEWHERE)
    if not wanted.any():
        return
    rows = np.flatnonzero(np.append(wanted, False)[packets.flow] & (packets.payload_bytes > 0))  # -1: the last one.
    key = packets.flow[rows].astype(np.int64) * 2 + (packets.direction[rows] != 0)
    for place, period in _with_period(key, time_ns[rows]):
        own = rows[place]
        first = int(own[0])
        source, destination = ends_of(flows, int(packets.flow[first]), bool(packets.direction[first]))
        begin = packets.position[own] + packets.payload_at[own]
        kept = np.minimum(packets.payload_bytes[own], packets.captured_bytes[own] - packets.payload_at[own])
        yield Group(
            transport_name(int(packets.protocol[first])), source, destination,
            int(flows.point[packets.flow[first]]), int(packets.vlan[first]), -1, -1, period, time_ns[own],
            packets.source[own], begin, begin + np.maximum(0, kept.astype(np.int64)),
        )  # fmt: skip


def _of_links(capture: Capture, payload: Payload, time_ns: Array) -> Iterator[Group]:
    """Frames without IP: by addresses, EtherType, identifier and VLAN."""
    packets = capture.packets
    rows = np.flatnonzero((packets.flow < 0) & ~np.isin(packets.protocol, _OTHERS))
    links = [np.array([face.link_type for face in one.interfaces] or [0], np.int64) for one in capture.sources]
    link = np.zeros(rows.size, np.int64)
    for number, own in enumerate(links):
        mine = packets.source[rows] == number
        link[mine] = own[np.minimum(packets.link[rows[mine]], own.size - 1)]
    wanted = (packets.protocol[rows] >= _ETHERTYPE) | np.isin(link, RADIO_LINKS)
    rows, link = rows[wanted], link[wanted]
    told = _read(capture, payload, rows, link)
    readable = (told[:, ls.ETHERTYPE] >= 0) & ~np.isin(told[:, ls.ETHERTYPE], (0x0800, 0x86DD, *_OTHERS))
    rows, told = rows[readable], told[readable]
    if not rows.size:
        return
    points = _points(capture)
    point = points[packets.source[rows], np.minimum(packets.link[rows], points.shape[1] - 1)]
    key = np.zeros(rows.size, np.uint64)
    columns = (told[:, ls.SENDER], told[:, ls.RECEIVER], told[:, ls.ETHERTYPE], told[:, ls.IDENTIFIER])
    for column in (*columns, packets.vlan[rows].astype(np.int64), point):
        key = (key ^ column.astype(np.uint64)) * _MIX
        key ^= key >> np.uint64(29)
    again = _sent_again(key, told, time_ns[rows])
    rows, told, key, point = rows[~again], told[~again], key[~again], point[~again]
    for place, period in _with_period(key, time_ns[rows]):
        one, own = told[place[0]], rows[place]
        ethertype, identifier = int(one[ls.ETHERTYPE]), int(one[ls.IDENTIFIER])
        kind = _NAMES.get(ethertype, f"EtherType 0x{ethertype:04x}")
        if identifier >= 0:
            kind = f"{kind} 0x{identifier:04x}"
        yield Group(
            kind, _end(one[ls.SENDER]), _end(one[ls.RECEIVER]), int(point[place[0]]), int(packets.vlan[own[0]]),
            ethertype, identifier, period, time_ns[own], packets.source[own],
            told[place, ls.BODY], told[place, ls.END],
        )  # fmt: skip


def _read(capture: Capture, payload: Payload, rows: Int64s, link: Int64s) -> Int64s2:
    """Rows of `link_scan`; an EtherType of -1 where the bytes cannot be had."""
    packets = capture.packets
    told = np.full((rows.size, ls.COLUMNS), -1)
    for number, data in enumerate(payload.sources):
        mine = np.flatnonzero(packets.source[rows] == number)
        if data is None or not data.size or not mine.size:
            continue
        for begin in range(0, mine.size, _EVERY):
            part = mine[begin : begin + _EVERY]
            out = np.zeros((part.size, ls.COLUMNS), np.int64)
            captured = packets.captured_bytes[rows[part]].astype(np.int64)
            ls.scan_links(data, packets.position[rows[part]], captured, link[part], out)
            told[part] = out
    return told


def _points(capture: Capture) -> Int64s2:
    """The point of each interface of each source, by what conversations it saw; 0 where it saw none."""
    packets = capture.packets
    most = max((len(source.interfaces) for source in capture.sources), default=1)
    found = np.zeros((len(capture.sources), max(1, most)), np.int64)
    seen = np.flatnonzero(packets.flow >= 0)
    face = np.minimum(packets.link[seen], found.shape[1] - 1)
    found[packets.source[seen], face] = capture.conversations.point[packets.flow[seen]]
    return found


def _sent_again(key: Uint64s, told: Int64s2, time_ns: Int64s) -> Bools:
    """Frames on the air that have the sequence number of the one before in their series."""
    order = np.lexsort((time_ns, key))
    sequence = told[order, ls.SEQUENCE]
    again = np.zeros(key.size, bool)
    again[order[1:]] = (key[order[1:]] == key[order[:-1]]) & (sequence[1:] >= 0) & (sequence[1:] == sequence[:-1])
    return again


def _end(address: int) -> str:
    return address_text(int(address)) if address >= 0 else "not kept"
