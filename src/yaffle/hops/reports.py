"""Visits from INT reports, captured or received: packets told again from report to report, switches' clocks set right,
reports that were lost counted.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int32s, Int64s, Int64s2, Structs, Uint8s
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.hops import report_scan as r
from yaffle.hops.visits import REPORT, FlowKey, Visits, blank
from yaffle.units import transport_name

PORT = 32_766
INT_DSCP = 23  # by which packets with a stack are marked, unless told otherwise
_BATCH = 20_000
_SEQUENCES = {1: 1 << 32, 2: 1 << 22}
_LEAST_BYTES = 20
_MASK = (1 << 64) - 1
_MIX = np.uint64(0x9E3779B97F4A7C15)
_APART_NS = 2 * 10**9  # The same identity after so long is another packet.


@dataclass(frozen=True)
class ReportForm:
    """What reports do not say of themselves: the ports that they go to, and by which DSCP packets with a stack are
    marked.
    """

    ports: tuple[int, ...] = (PORT,)
    int_dscp: int = INT_DSCP


@dataclass(frozen=True)
class Datagrams:
    """Datagrams of reports: where they lie in `data`, and when they were heard."""

    data: Uint8s
    at: Int64s
    size: Int64s
    heard_ns: Int64s


def datagrams_of(capture: Capture, payload: Payload, ports: Sequence[int] = (PORT,)) -> list[Datagrams]:
    """Those of a capture, by source."""
    packets, flows = capture.packets, capture.conversations
    rows = packets.datagrams(_LEAST_BYTES)
    if not rows.size:
        return []
    wanted = np.asarray(ports)
    own = np.isin(flows.b_port[packets.flow[rows]], wanted) & (packets.direction[rows] == 0)
    own |= np.isin(flows.a_port[packets.flow[rows]], wanted) & (packets.direction[rows] != 0)
    rows = rows[own]
    rows = rows[np.argsort(packets.time_ns[rows], kind="stable")]
    found = []
    for number in range(len(capture.sources)):
        data = payload.sources[number]
        mine = rows[packets.source[rows] == number]
        if data is not None and data.size and mine.size:
            skip = packets.payload_at[mine].astype(np.int64)
            size = np.minimum(packets.payload_bytes[mine], packets.captured_bytes[mine].astype(np.int64) - skip)
            found.append(Datagrams(data, packets.position[mine] + skip, np.maximum(0, size), packets.time_ns[mine]))
    return found


def report_rows(told: Datagrams, int_dscp: int = INT_DSCP) -> tuple[Int64s2, Int64s2]:
    """(rows of all reports (`report_scan`), heads of the datagrams)."""
    found, heads = [], np.zeros((told.at.size, 4), np.int64)
    reports = 0
    for begin in range(0, told.at.size, _BATCH):
        part = slice(begin, min(begin + _BATCH, told.at.size))
        asked = (told.data, np.ascontiguousarray(told.at[part]), np.ascontiguousarray(told.size[part]), int_dscp)
        most = r.scan_reports(*asked, np.zeros((0, r.COLUMNS), np.int64), heads[part])
        out = np.zeros((most + 1, r.COLUMNS), np.int64)
        count = r.scan_reports(*asked, out, heads[part])
        out = out[:count].copy()
        out[:, r.DATAGRAM] += begin
        out[:, r.REPORT] += reports
        reports = int(out[:, r.REPORT].max()) + 1 if out.size else reports
        found.append(out)
    return np.concatenate(found) if found else np.zeros((0, r.COLUMNS), np.int64), heads


def visits_of_reports(told: Sequence[Datagrams], int_dscp: int = INT_DSCP) -> Visits:
    """What switches reported."""
    whole = Visits()
    for one in told:
        rows, heads = report_rows(one, int_dscp)
        rows = rows[rows[:, r.PROTOCOL] >= 0]
        if rows.size:
            whole.add(_visits(rows, heads, one.heard_ns))
    return whole


def _visits(rows: Int64s2, heads: Int64s2, heard_ns: Int64s) -> Visits:
    heard = heard_ns[rows[:, r.DATAGRAM]]
    arrived, left = rows[:, r.ARRIVED].copy(), rows[:, r.LEFT].copy()
    short = heads[rows[:, r.DATAGRAM], 0] == 1  # Format 1.0 tells the lower 32 bits of its times.
    for times in (arrived, left):
        known = short & (times >= 0)
        times[known] = _unrolled(times[known], heard[known])
    delay = np.where((arrived >= 0) & (left >= 0), left - arrived, rows[:, r.LATENCY])
    offset = _offsets(rows, np.where(left >= 0, left, arrived), heard)
    found = blank(rows.shape[0])
    flow, flows = _flows(rows)
    found["flow"], found["teller"] = flow, REPORT
    found["packet"] = _packets(rows, flow, heard)
    found["node"], found["ingress"], found["egress"] = rows[:, r.NODE], rows[:, r.INGRESS], rows[:, r.EGRESS]
    found["port"] = found["egress"]
    found["queue"], found["octets"] = rows[:, r.QUEUE], rows[:, r.OCTETS]
    timed = (arrived >= 0) | (left >= 0)
    begin = np.where(arrived >= 0, arrived, left - np.maximum(0, delay)) + offset
    found["arrived_ns"] = np.where(timed, begin, heard - np.maximum(0, delay))
    found["timed"], found["delay_ns"] = timed, np.where(delay >= 0, delay, -1)
    found["dropped"] = (rows[:, r.FLAGS] & r.DROPPED > 0) & (rows[:, r.PLACE] == 0)
    found["delay_ns"][found["dropped"]] = -1
    tracked = (rows[:, r.FLAGS] & (r.TRACKED | r.INTERMEDIATE) > 0) | (rows[:, r.PLACE] > 0)
    found["tracked"] = np.bincount(flow, tracked, len(flows))[flow] > 0
    # A report that holds a stack tells of the sink only where it has fields of its own.
    holds = np.zeros(int(rows[:, r.REPORT].max()) + 1, bool)
    holds[rows[rows[:, r.PLACE] > 0, r.REPORT]] = True
    bare = (rows[:, r.PLACE] == 0) & holds[rows[:, r.REPORT]] & (rows[:, r.EGRESS] < 0) & (delay < 0)
    # Along the way: the hop limit falls from switch to switch; of a stack, the newest is the last.
    ttl = np.where(rows[:, r.PLACE] > 0, 256 + rows[:, r.PLACE], rows[:, r.TTL])
    order = np.lexsort((-ttl, found["packet"], flow))
    found, bare = found[order], bare[order]
    found = found[~bare]
    found["place"] = _places(found)
    return Visits(found, flows, _lost(heads))


def _places(found: Structs) -> Int64s:
    begins = np.flatnonzero(np.concatenate([[True], found["packet"][1:] != found["packet"][:-1]]))
    counts = np.diff(np.concatenate([begins, [found.size]]))
    return np.arange(found.size) - np.repeat(begins, counts)


def _unrolled(low: Int64s, heard_ns: Int64s) -> Int64s:
    """Times of 32 bits as the last such moment before they were heard."""
    return np.asarray(heard_ns - ((heard_ns - low) & 0xFFFFFFFF))


def _offsets(rows: Int64s2, at: Int64s, heard: Int64s) -> Int64s:
    """By how much each switch's clock is to be moved so that its quickest report took no time at all: the way to the
    collector takes as long for all of them, but for little.
    """
    found = np.zeros(rows.shape[0], np.int64)
    own = (rows[:, r.PLACE] == 0) & (at >= 0)
    nodes, row = np.unique(rows[:, r.NODE], return_inverse=True)
    quickest = np.full(nodes.size, np.iinfo(np.int64).max)
    np.minimum.at(quickest, row.reshape(-1)[own], (heard - at)[own])
    known = quickest[row.reshape(-1)] < np.iinfo(np.int64).max
    found[known] = quickest[row.reshape(-1)][known]
    return found


def _flows(rows: Int64s2) -> tuple[Int32s, list[FlowKey]]:
    told = rows[:, [r.PROTOCOL, r.SRC_HI, r.SRC_LO, r.DST_HI, r.DST_LO, r.PORTS, r.IPV6]]
    mixed = np.zeros(rows.shape[0], np.uint64)
    for column in told.T:
        mixed = (mixed ^ column.astype(np.uint64)) * _MIX
        mixed ^= mixed >> np.uint64(29)
    first, row = np.unique(mixed, return_index=True, return_inverse=True)[1:]
    kinds = told[first]
    if (kinds[row] != told).any():  # Somebody took pains that two mix to the same.
        kinds, row = np.unique(told, axis=0, return_inverse=True)
    keys = []
    for protocol, src_hi, src_lo, dst_hi, dst_lo, ports, v6 in kinds.tolist():
        src, dst = (address_text(hi & _MASK, lo & _MASK, bool(v6)) for hi, lo in ((src_hi, src_lo), (dst_hi, dst_lo)))
        one, two = (ports >> 16, ports & 0xFFFF) if ports >= 0 else (0, 0)
        keys.append(FlowKey(transport_name(protocol).lower(), src, one, dst, two))
    return row.reshape(-1).astype(np.int32), keys


def _packets(rows: Int64s2, flow: Int32s, heard: Int64s) -> Int64s:
    """The same number for all that is told of one packet: the same flow and identity within two seconds."""
    order = np.lexsort((heard, rows[:, r.IDENTITY], flow))
    other = np.ones(order.size, bool)
    a, b = order[:-1], order[1:]
    other[1:] = (flow[a] != flow[b]) | (rows[a, r.IDENTITY] != rows[b, r.IDENTITY]) | (heard[b] - heard[a] > _APART_NS)
    found = np.zeros(order.size, np.int64)
    found[order] = np.cumsum(other) - 1
    return found


def _lost(heads: Int64s2) -> list[str]:
    """How many reports did not come, by the gaps in each part's sequence numbers, which wrap."""
    lost, parts = 0, 0
    for version, wrap in _SEQUENCES.items():
        own = heads[heads[:, 0] == version]
        own = own[np.lexsort((own[:, 2], own[:, 1]))]
        other = np.any(np.diff(own[:, 1:3], axis=0) != 0, axis=1)
        for mine in np.split(own[:, 3], np.flatnonzero(other) + 1) if own.size else ():
            steps = (np.diff(mine) + wrap // 2) % wrap - wrap // 2  # A number may come after its follower.
            counted = np.concatenate([[0], np.cumsum(steps)])
            lost += int(counted.max() - counted.min() + 1 - np.unique(counted).size)
            parts += 1
    if not lost:
        return []
    return [f"{lost:,} datagrams of reports were lost on the way, by the sequence numbers of {parts} senders"]
