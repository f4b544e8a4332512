"""What each segment of the path did: lost, doubled, reordered, delayed and re-marked, to the packet and in both
directions.

A segment lies between two points that follow each other on the way of a conversation. Lost: seen where it is passed
first, never where it is passed later, while the latter watched. Reordering is RFC 4737's: a packet is reordered if one
that left later has come before it. Delay variation is the mean of the absolute differences of neighboring packets'
delays (RFC 3393, RFC 5481 section 4.1). Copies are further packets of an identity that has come already.
"""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Array, Bools, Int64s, Int64s2, Uint64s
from yaffle.capture.captured import Capture
from yaffle.capture.packets import ACK, RST, SYN
from yaffle.kernels import int64, kernel, uint64
from yaffle.path.matching import NONE, among, match
from yaffle.path.ordering import by_group
from yaffle.path.shared import Shared, Watch

_MANY = 0.999


@dataclass
class Way:
    """One direction of one segment. Rows are packets of the capture; delays by the clocks set right, ns."""

    from_client: bool
    sent: Array  # rows at the point that is passed first, those of which the other point could tell
    arrived: Array  # rows at the other, -1 where it was lost
    copies: Int64s  # rows at the other point that came twice
    born: Int64s  # rows at the other point that nobody had sent: what a device on the way made
    delay_ns: Int64s  # of those that arrived, in order of sending
    reordered: Int64s  # rows of `arrived` that came late
    variation_ns: float  # mean of absolute differences of neighboring delays; nan where there are none

    @property
    def lost(self) -> Array:
        """Rows that were sent and never arrived."""
        return self.sent[self.arrived < 0]

    @property
    def matched(self) -> tuple[Array, Array]:
        """Rows at both points."""
        came = self.arrived >= 0
        return self.sent[came], self.arrived[came]


@dataclass
class PathSegment:
    """Between two points, the one nearer to the clients first."""

    near: int
    far: int
    up: Way
    down: Way
    flows: Int64s2 = field(
        default_factory=lambda: np.zeros((0, 2), np.int64)
    )  # conversations, at the nearer and the farther point


@kernel
def _late(starts: Int64s, order: Int64s, sent_at: Int64s, late: Bools) -> None:
    """Marks, in each stream, packets that arrive after one that was sent later. order: by stream, then arrival."""
    for s in range(starts.size - 1):
        most = int64(-(1 << 62))
        for k in range(starts[s], starts[s + 1]):
            i = order[k]
            if sent_at[i] < most:
                late[i] = True
            else:
                most = sent_at[i]


def _mixed(ids: Uint64s, stream: Int64s) -> Uint64s:
    """Identities told apart by stream."""
    x = ids ^ (stream.astype(np.uint64) + uint64(1)) * uint64(0x9E3779B97F4A7C15)
    return np.asarray((x ^ (x >> uint64(31))) * uint64(0xBF58476D1CE4E5B9))


def _streams(capture: Capture, watch: Watch, number: Int64s, turned: Bools) -> tuple[Int64s, Int64s]:
    """For each packet of a watch: number of its conversation (-1: none), and direction as from the client by the first
    point's view.
    """
    packets = capture.packets
    owner = number[packets.flow[watch.rows]]
    way = packets.direction[watch.rows].astype(np.int64)
    return owner, np.where((owner >= 0) & turned[np.maximum(0, owner)], 1 - way, way) if turned.size else way


def segment_of(capture: Capture, pair: Shared, chosen: Bools, alone: tuple[Array, Array]) -> PathSegment:
    """The segment between two points for some of the conversations they share.

    chosen: bool for each of pair.flows; alone: conversations that the other point should have seen, of the first point
    and of the second, each nearer to their clients.
    """
    total = capture.conversations.point.size
    number_one, number_two = np.full(total, -1, np.int64), np.full(total, -1, np.int64)
    picked = np.flatnonzero(chosen)
    number_one[pair.flows[picked, 0]], number_two[pair.flows[picked, 1]] = picked, picked
    count = pair.flows.shape[0]
    extra = count + np.arange(alone[0].size + alone[1].size)
    number_one[alone[0]], number_two[alone[1]] = extra[: alone[0].size], extra[alone[0].size :]
    near_one = np.concatenate([pair.near, np.ones(alone[0].size, bool), np.zeros(alone[1].size, bool)])
    turned = np.concatenate([pair.turned, np.zeros(extra.size, bool)])
    sides = []
    for watch, number, turn in ((pair.one, number_one, np.zeros(near_one.size, bool)), (pair.two, number_two, turned)):
        owner, way = _streams(capture, watch, number, turn)
        kept = np.flatnonzero(owner >= 0)
        times = capture.packets.time_ns[watch.rows[kept]]
        if watch is pair.two:
            times = pair.clock.set_right(times)
        sides.append((watch.rows[kept], watch.ids[kept], owner[kept], way[kept], times))
    majority = bool(near_one[picked].mean() >= 0.5) if picked.size else True
    ways = {}
    for from_client in (True, False):
        parts = []
        for k, (rows, ids, owner, way, times) in enumerate(sides):
            own = way == (0 if from_client else 1)
            passes_one_first = near_one[owner] == from_client
            parts.append(
                (
                    rows[own],
                    _mixed(ids[own], owner[own]),
                    owner[own],
                    times[own],
                    np.where(passes_one_first[own] == (k == 0), 0, 1),
                )
            )
        ways[from_client] = _way(capture, pair, parts, from_client)
    near, far = (pair.one.point, pair.two.point) if majority else (pair.two.point, pair.one.point)
    flows = pair.flows[picked] if majority else pair.flows[picked][:, ::-1]
    return PathSegment(near, far, ways[True], ways[False], flows)


def _way(
    capture: Capture, pair: Shared, parts: list[tuple[Array, Array, Array, Array, Array]], from_client: bool
) -> Way:
    rows, ids, owner, times, side, source = (
        np.concatenate(columns)
        for columns in zip(*((*part, np.full(part[0].size, k)) for k, part in enumerate(parts)), strict=True)
    )
    order = np.argsort(times, kind="stable")  # Two orders in time are merged.
    rows, ids, owner, times, side, source = (column[order] for column in (rows, ids, owner, times, side, source))
    partner = match(ids, times, side)
    first = side == 0
    sent = np.flatnonzero(first)
    came = partner[sent] != NONE
    delays = times[partner[sent[came]]] - times[sent[came]]
    most = int(np.quantile(delays, _MANY)) if delays.size else 0
    # What the other point watched, by the same clock.
    spans = []
    for watch in (pair.one, pair.two):
        ends = np.array([watch.first_ns, watch.last_ns])
        spans.append(pair.clock.set_right(ends) if watch is pair.two else ends)
    other = 1 - source[sent]
    begin, end = np.array([spans[0][0], spans[1][0]])[other], np.array([spans[0][1], spans[1][1]])[other]
    least = int(delays.min()) if delays.size else 0
    early = times[sent] + least < begin
    watched = came | (~early & (times[sent] + 2 * most - least <= end))
    watched |= early & _asked_again(capture, rows[sent], owner[sent])
    sent, came = sent[watched], came[watched]
    arrived = np.where(came, rows[np.maximum(0, partner[sent])], -1)
    delays = times[partner[sent[came]]] - times[sent[came]]
    unpaired = np.flatnonzero(~first & (partner == NONE))
    known = among(ids[unpaired], ids[first])
    back = source[unpaired]
    begin, end = np.array([spans[1][0], spans[0][0]])[back], np.array([spans[1][1], spans[0][1]])[back]
    usual = int(np.median(delays)) if delays.size else 0
    inside = (times[unpaired] - max(usual, most) >= begin) & (times[unpaired] - usual <= end)
    reordered, variation = _order(owner, partner, sent[came], delays)
    return Way(
        from_client,
        rows[sent],
        arrived,
        rows[unpaired[known]],
        rows[unpaired[~known & inside]],
        delays,
        rows[partner[sent[came]][reordered]],
        variation,
    )


def _asked_again(capture: Capture, rows: Int64s, owner: Int64s) -> Bools:
    """Openings that their client sent once more: it had no answer, so that they count as lost though the other point
    saw its first packet only later.
    """
    syn = ((capture.packets.flags[rows] & (SYN | ACK)) == SYN) & (capture.packets.protocol[rows] == 6)
    last = np.zeros(int(owner.max(initial=-1)) + 1, np.int64)
    np.maximum.at(last, owner[syn], capture.packets.time_ns[rows[syn]])
    return np.asarray(syn & (capture.packets.time_ns[rows] < last[owner])) if rows.size else syn


def _order(owner: Int64s, partner: Int64s, sent: Int64s, delays: Int64s) -> tuple[Bools, float]:
    """(whether each packet came late, mean absolute difference of neighboring delays), stream by stream."""
    late = np.zeros(sent.size, bool)
    if not sent.size:
        return late, float("nan")
    stream = owner[sent]
    order = by_group(stream, partner[sent])  # Partners are places in order of time.
    starts = np.flatnonzero(np.concatenate([[True], np.diff(stream[order]) != 0, [True]]))
    _late(starts, order, np.arange(sent.size), late)
    by_sending = by_group(stream, np.arange(sent.size))
    same = np.diff(stream[by_sending]) == 0
    steps = np.abs(np.diff(delays[by_sending]))[same]
    return late, float(steps.mean()) if steps.size else float("nan")


def marking_changes(capture: Capture, way: Way) -> list[tuple[int, int, int]]:
    """(DSCP before, after, packets) of what arrived otherwise marked, most first."""
    sent, arrived = way.matched
    before, after = capture.packets.tos[sent].astype(np.int64) >> 2, capture.packets.tos[arrived].astype(np.int64) >> 2
    changed = before != after
    pairs, counts = np.unique(before[changed] * 64 + after[changed], return_counts=True)
    return sorted(
        ((int(p) // 64, int(p) % 64, int(c)) for p, c in zip(pairs, counts, strict=True)), key=lambda one: -one[2]
    )


def ecn_changes(capture: Capture, way: Way) -> list[tuple[int, int, int]]:
    """(ECN field before, after, packets) of what arrived with another one (RFC 3168; 3 says that a queue was full),
    most first.
    """
    sent, arrived = way.matched
    before, after = capture.packets.tos[sent].astype(np.int64) & 3, capture.packets.tos[arrived].astype(np.int64) & 3
    changed = before != after
    pairs, counts = np.unique(before[changed] * 4 + after[changed], return_counts=True)
    return sorted(
        ((int(p) // 4, int(p) % 4, int(c)) for p, c in zip(pairs, counts, strict=True)), key=lambda one: -one[2]
    )


def hops(capture: Capture, way: Way) -> int:
    """Routers between both points, by the TTL; the median."""
    sent, arrived = way.matched
    return int(np.median(capture.packets.ttl[sent].astype(np.int64) - capture.packets.ttl[arrived])) if sent.size else 0


def clamped(capture: Capture, way: Way) -> int:
    """Openings whose largest segment size was changed on the way."""
    sent, arrived = way.matched
    syn = (capture.packets.flags[sent] & SYN) > 0
    mss = [capture.packets.head["extra"][rows[syn]] & 0xFFFF for rows in (sent, arrived)]
    return int((mss[0] != mss[1]).sum())


def resets_born(capture: Capture, way: Way) -> int:
    """Resets that nobody had sent: a device on the way made them."""
    return int(((capture.packets.flags[way.born] & RST) > 0).sum())
