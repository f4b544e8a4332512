"""Visits from IOAM traces of captured packets: identities short and wide made one, times of any form, delay from node
to node.
"""

from collections import Counter, defaultdict

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2, Structs
from yaffle.capture.captured import Capture
from yaffle.capture.packets import MARK_IPV6
from yaffle.capture.payload import Payload
from yaffle.hops import trace_scan as t
from yaffle.hops.edges import EdgeFlow, edge_flows
from yaffle.hops.flow_keys import flows_of
from yaffle.hops.visits import TRACE, Visits, blank

_S = 10**9
_NTP_EPOCH_S = 2_208_988_800  # seconds from 1900 to 1970
_WRAP_S = 1 << 32
_EVERY = 1 << 18  # packets at once
_NEAR_NS = 3600 * _S


def trace_rows(capture: Capture, payload: Payload) -> tuple[Int64s2, Int64s2]:
    """Rows of all traces (`trace_scan`), int64 (n, COLUMNS), and of what edges wrote, (m, EDGE_COLUMNS); PACKET is the
    row of the packet.
    """
    packets = capture.packets
    mine = np.flatnonzero((packets.marks & MARK_IPV6 > 0) & (packets.flow >= 0))
    found, edges = [], []
    for number, source in enumerate(capture.sources):
        data = payload.sources[number]
        if data is None or not data.size:
            continue
        links = np.array([face.link_type for face in source.interfaces] or [1], np.int64)
        own = mine[packets.source[mine] == number]
        for begin in range(0, own.size, _EVERY):
            rows = own[begin : begin + _EVERY]
            link = links[np.minimum(packets.link[rows], links.size - 1)]
            asked = (data, packets.position[rows], packets.captured_bytes[rows].astype(np.int64), link, rows)
            none, no_edge = (np.zeros((0, columns), np.int64) for columns in (t.COLUMNS, t.EDGE_COLUMNS))
            count, beside = t.scan_traces(*asked, none, no_edge)
            out, told = np.zeros((count, t.COLUMNS), np.int64), np.zeros((beside, t.EDGE_COLUMNS), np.int64)
            if count or beside:
                t.scan_traces(*asked, out, told)
            found.append(out)
            edges.append(told)
    if not found:
        return np.zeros((0, t.COLUMNS), np.int64), np.zeros((0, t.EDGE_COLUMNS), np.int64)
    return np.concatenate(found), np.concatenate(edges)


def visits_of_traces(capture: Capture, payload: Payload) -> tuple[Visits, list[EdgeFlow]]:
    """What nodes wrote into packets, and what edges did. Traces that no node wrote into tell nothing."""
    rows, edges = trace_rows(capture, payload)
    of_edges = edge_flows(capture, edges)
    if not rows.size:
        return Visits(), of_edges
    rows = rows[np.lexsort((-rows[:, t.PLACE], rows[:, t.PACKET]))]  # Oldest first.
    packets = capture.packets
    packet = rows[:, t.PACKET]
    node, ingress, egress = _identities(rows)
    found = blank(rows.shape[0])
    flow, flows = flows_of(capture, packet)
    times, timed = _times(rows, packets.time_ns[packet])
    same = np.zeros(rows.shape[0], bool)  # whether the next row is of the same packet
    same[:-1] = packet[1:] == packet[:-1]
    after = np.flatnonzero(same)
    found["flow"], found["packet"], found["teller"] = flow, np.unique(packet, return_inverse=True)[1], TRACE
    found["place"] = _places(same)
    found["node"], found["ingress"], found["egress"] = node, ingress, egress
    found["arrived_ns"], found["timed"] = np.where(timed, times, packets.time_ns[packet]), timed
    both = timed[after] & timed[after + 1]
    found["delay_ns"][after[both]] = np.maximum(0, times[after + 1] - times[after])[both]
    found["queue"] = rows[:, t.QUEUE]
    found["octets"] = packets.wire_bytes[packet]
    found["tracked"] = True
    found["cut"] = rows[:, t.FLAGS] & t.OVERFLOW > 0
    limits = rows[:, t.HOP_LIMIT]
    told = (limits[after] >= 0) & (limits[after + 1] >= 0)
    found["silent"][after[told] + 1] = np.maximum(0, limits[after] - limits[after + 1] - 1)[told]
    found["port"] = _ports(found)
    notes = _notes(rows, found)
    return Visits(found, flows, notes), of_edges


def _places(same: Bools) -> Int64s:
    """How many rows of the same packet come before each."""
    begins = np.flatnonzero(np.concatenate([[True], ~same[:-1]]))
    counts = np.diff(np.concatenate([begins, [same.size]]))
    return np.arange(same.size) - np.repeat(begins, counts)


def _identities(rows: Int64s2) -> tuple[Int64s, Int64s, Int64s]:
    """(node, ingress, egress): short ones where traces tell them, else the short ones that go with the wide ones in
    other traces, else the wide ones.
    """
    node, wide = rows[:, t.NODE].copy(), rows[:, t.WIDE]
    short = _pairs(wide, node)
    lacking = (node < 0) & (wide >= 0)
    node[lacking] = [short.get(value, value) for value in wide[lacking].tolist()]
    sides = []
    for own, far in ((t.INGRESS, t.WIDE_INGRESS), (t.EGRESS, t.WIDE_EGRESS)):
        value, other = rows[:, own].copy(), rows[:, far]
        pairs: dict[tuple[int, int], int] = {}
        for either, away in ((t.INGRESS, t.WIDE_INGRESS), (t.EGRESS, t.WIDE_EGRESS)):
            known = (rows[:, either] >= 0) & (rows[:, away] >= 0)
            pairs |= dict(zip(zip(node[known].tolist(), rows[known, away].tolist(), strict=True),
                              rows[known, either].tolist(), strict=True))  # fmt: skip
        lacking = (value < 0) & (other >= 0)
        told = zip(node[lacking].tolist(), other[lacking].tolist(), strict=True)
        value[lacking] = [pairs.get(key, key[1]) for key in told]
        sides.append(value)
    return node, sides[0], sides[1]


def _pairs(wide: Int64s, short: Int64s) -> dict[int, int]:
    """The short identity of each wide one that some trace told beside it."""
    both = (wide >= 0) & (short >= 0)
    return dict(zip(wide[both].tolist(), short[both].tolist(), strict=True))


def _times(rows: Int64s2, captured_ns: Int64s) -> tuple[Int64s, Bools]:
    """(times of arrival in ns since 1970, which are known). The form of the fraction, which the trace does not name
    (RFC 9197, section 5), is told by namespace from what stands there: microseconds (POSIX), nanoseconds (PTP), or
    parts of 2^32 (NTP, whose seconds count from 1900). Where there are no seconds, they are those of the capture.
    """
    seconds, fraction = rows[:, t.SECONDS], rows[:, t.FRACTION]
    found, known = np.zeros(rows.shape[0], np.int64), fraction >= 0
    for name in np.unique(rows[:, t.NAMESPACE]).tolist():
        own = known & (rows[:, t.NAMESPACE] == name)
        if not own.any():
            continue
        told = own & (seconds >= 0)
        ntp = told.any() and abs(float(np.median(seconds[told] * _S - captured_ns[told]))) > _NTP_EPOCH_S * _S / 2
        most = int(fraction[own].max())
        if ntp or most >= _S:
            part = (fraction[own] * _S) >> 32
        elif most >= 1_000_000:
            part = fraction[own]
        else:
            part = fraction[own] * 1000
        whole = np.where(told[own], seconds[own] - (_NTP_EPOCH_S if ntp else 0), captured_ns[own] // _S)
        times = whole * _S + part
        # Without seconds of its own: the last such moment before the capture, give or take what clocks differ by.
        lacking = ~told[own]
        times[lacking] -= (times[lacking] - captured_ns[own][lacking] > _S // 2) * _S
        found[own] = times
    return found, known


def _ports(found: Structs) -> Int64s:
    """By which interface each node sent; where a trace does not tell, the one by which others sent to the same next."""
    following = np.full(found.size, -1, np.int64)
    following[:-1] = np.where(found["packet"][1:] == found["packet"][:-1], found["node"][1:], -1)
    known = (found["egress"] >= 0) & (following >= 0)
    seen: dict[tuple[int, int], Counter[int]] = defaultdict(Counter)
    for node, after, egress in zip(found["node"][known].tolist(), following[known].tolist(),
                                   found["egress"][known].tolist(), strict=True):  # fmt: skip
        seen[node, after][egress] += 1
    sure = {key: next(iter(one)) for key, one in seen.items() if len(one) == 1}
    ports = found["egress"].copy()
    for row in np.flatnonzero((ports < 0) & (following >= 0)).tolist():
        ports[row] = sure.get((int(found["node"][row]), int(following[row])), -1)
    return ports


def _notes(rows: Int64s2, found: Structs) -> list[str]:
    notes = []
    cut = np.unique(found["packet"][found["cut"]]).size
    if cut:
        notes.append(f"{cut:,} traces had too little room for all nodes (overflow)")
    untold = int((~found["timed"]).sum())
    if untold:
        notes.append(f"{untold:,} visits have no time of their own: they count by the capture's")
    return notes
