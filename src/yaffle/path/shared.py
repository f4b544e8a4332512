"""Which conversations two points share, which of the points lies nearer to the client, and what their clocks are to
each other.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Int32s, Int64s, Int64s2, Uint64s, Uint64s2
from yaffle.capture.captured import Capture
from yaffle.path.clocks import Clock, clock_between
from yaffle.path.matching import among, unique_pairs
from yaffle.path.ordering import medians


@dataclass(frozen=True)
class Watch:
    """What one point saw: its packets with a conversation, in order of time, and their identities."""

    point: int
    rows: Int64s
    ids: Uint64s
    first_ns: int
    last_ns: int


@dataclass(frozen=True)
class Shared:
    """Two points with conversations in common. flows: (n, 2), the same conversation at both; near: whether the first
    point is nearer to its client.
    """

    one: Watch
    two: Watch
    flows: Int64s2
    near: Bools  # (n,)
    turned: Bools  # (n,): who is the client is told the other way round at the second point
    clock: Clock  # of the second point against the first


def _counted(left: Int32s, right: Int32s) -> tuple[Int64s2, Int64s]:
    """Distinct pairs of two columns of conversations with how often each occurs."""
    packed, counts = np.unique(left.astype(np.int64) << 32 | right, return_counts=True)
    return np.stack([packed >> 32, packed & 0xFFFFFFFF], axis=1), counts


def _mutual(left: Int32s, right: Int32s) -> Int64s2:
    """Pairs of conversations that share most packets with each other, (n, 2)."""
    pairs, counts = _counted(left, right)
    best = []
    for side in (0, 1):
        order = np.lexsort((-counts, pairs[:, side]))
        first = np.concatenate([[True], np.diff(pairs[order, side]) != 0])
        mark = np.zeros(counts.size, bool)
        mark[order[first]] = True
        best.append(mark)
    return pairs[best[0] & best[1]]


def _by_ends(capture: Capture, one: Watch, two: Watch, flows: Int64s2) -> Int64s2:
    """Further conversations of the same ends that share packets, though none that stands only once, (n, 2)."""
    rows = capture.conversations
    columns = (rows.a_hi, rows.a_lo, rows.b_hi, rows.b_lo, rows.a_port, rows.b_port, rows.protocol)
    sides = []
    for watch, column in ((one, 0), (two, 1)):
        rest = np.setdiff1d(np.flatnonzero(rows.point == watch.point), flows[:, column])
        sides.append(
            dict(zip(zip(*(c[rest].tolist() for c in columns), strict=True), rest.tolist(), strict=True))
            if rest.size
            else {}
        )
    found = [(flow, sides[1][ends]) for ends, flow in sides[0].items() if ends in sides[1]]
    if not found:
        return np.zeros((0, 2), np.int64)
    pairs = np.array(found, np.int64)
    number = np.full(rows.point.size, -1, np.int64)
    number[pairs[:, 0]] = number[pairs[:, 1]] = np.arange(pairs.shape[0])
    owner = [number[capture.packets.flow[watch.rows]] for watch in (one, two)]
    kept = [own >= 0 for own in owner]
    keys = [
        watch.ids[k] ^ (own[k].astype(np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
        for own, watch, k in zip(owner, (one, two), kept, strict=True)
    ]
    return pairs[np.unique(owner[0][kept[0]][among(keys[0], keys[1])])]


def shared(capture: Capture, one: Watch, two: Watch) -> Shared | None:
    """What two points have in common; None where they see nothing of each other."""
    packets = capture.packets
    a, b = unique_pairs(one.ids, two.ids)
    if not a.size:
        return None
    left, right = one.rows[a], two.rows[b]
    flows = _mutual(packets.flow[left], packets.flow[right])
    flows = np.concatenate([flows, _by_ends(capture, one, two, flows)])
    number = np.full(capture.conversations.point.size, -1, np.int64)
    number[flows[:, 0]] = np.arange(flows.shape[0])
    owner = number[packets.flow[left]]
    kept = (owner >= 0) & (flows[owner, 1] == packets.flow[right])
    left, right, owner = left[kept], right[kept], owner[kept]
    count = flows.shape[0]
    way = packets.direction[left].astype(np.int64)
    turned = np.bincount(owner, packets.direction[right] != way, count) * 2 > np.bincount(owner, minlength=count)
    apart = packets.time_ns[right] - packets.time_ns[left]
    hops = packets.ttl[left].astype(np.int64) - packets.ttl[right]
    times = packets.time_ns[left], packets.time_ns[right]
    near, known = _nearer(owner, way, apart, hops, count)
    if not known.all():
        sure = known[owner]
        told = _clock(times, near[owner] == (way == 0), sure) if sure.any() else None
        rows = capture.conversations
        hosts = np.stack(
            [rows.a_hi[flows[:, 0]] ^ rows.a_lo[flows[:, 0]], rows.b_hi[flows[:, 0]] ^ rows.b_lo[flows[:, 0]]], axis=1
        )
        near = np.where(known, near, _by_times(owner, way, apart, times[1], hosts, told))
    clock = _clock(times, near[owner] == (way == 0), np.ones(owner.size, bool))
    return Shared(one, two, flows, near, turned, clock) if clock is not None else None


def _clock(times: tuple[Array, Array], first: Bools, used: Bools) -> Clock | None:
    """The clock by some of the packets. first: whether each passes the first point first."""
    ways = [(times[0][used & way], times[1][used & way]) for way in (first, ~first)]
    return clock_between(ways[0], ways[1])


def _by_times(
    owner: Int64s, way: Int64s, apart: Int64s, at_second: Int64s, hosts: Uint64s2, clock: Clock | None
) -> Bools:
    """Whether the first point lies nearer to the client of conversations that were seen in one direction, of equal
    hops.

    By the clock, where others told it: nothing arrives before it left. Else, if the differences of both points' times
    fall into two groups that lie further apart than any of them is wide, and hosts that send in the one receive in the
    other, those are the two directions; else all go one way. hosts: (n, 2), a number for client and server of each.
    """
    count = hosts.shape[0]
    right = apart if clock is None else apart - (at_second - clock.set_right(at_second))
    signed = np.where(way == 0, right, -right).astype(np.float64)
    order = np.lexsort((right, owner))
    _, starts, sizes = np.unique(owner[order], return_index=True, return_counts=True)
    numbers = owner[order][starts]
    middle = np.full(count, np.nan)
    middle[numbers] = right[order][starts + sizes // 2]
    width = np.zeros(count)
    width[numbers] = right[order][starts + sizes * 3 // 4] - right[order][starts + sizes // 4]
    heading = np.zeros(count)
    heading[numbers] = np.minimum.reduceat(way[order], starts)  # Where both ways were seen, that from the client.
    if clock is not None:
        sums = np.bincount(owner, signed, count)
        return np.asarray(sums >= 0)
    ordered = np.sort(middle[numbers])
    gaps = np.diff(ordered)
    if not gaps.size or gaps.max() <= 3 * max(float(width.max()), 1.0):
        return np.asarray(heading == 0)  # All pass the first point first.
    later = middle > float(ordered[np.argmax(gaps)] + gaps.max() / 2)
    place = np.arange(count)
    sender, receiver = hosts[place, heading.astype(np.int64)], hosts[place, 1 - heading.astype(np.int64)]
    both_send = np.intersect1d(sender[later], sender[~later]).size
    answered = (
        np.intersect1d(sender[later], receiver[~later]).size + np.intersect1d(receiver[later], sender[~later]).size
    )
    if both_send or not answered:
        return np.asarray(heading == 0)
    return np.asarray(later == (heading == 0))


def _nearer(owner: Int64s, way: Int64s, apart: Int64s, hops: Int64s, count: int) -> tuple[Bools, Bools]:
    """Whether the first point lies nearer to the client of each conversation, and whether that is known.

    Clocks do not matter: whatever the offset, what passes the first point first is later at the second by more than
    what comes back. Where only one direction was seen, hops tell.
    """
    there, back = (medians(owner[way == side], apart[way == side], count) for side in (0, 1))
    both = ~(np.isnan(there) | np.isnan(back)) & (there != back)
    gained = np.bincount(owner, np.where(way == 0, hops, -hops), count)
    near = np.where(both, there > back, gained > 0)
    return near, both | (gained != 0)


def chained(
    clocks: dict[tuple[int, int], Clock], points: int, reference: int = 0
) -> dict[int, list[tuple[int, int, bool]]]:
    """For each point that can be tied to the reference: the steps of pairs to it; True where a pair is walked from its
    second point.
    """
    found: dict[int, list[tuple[int, int, bool]]] = {reference: []}
    edge = [reference]
    while edge:
        here = edge.pop(0)
        for (p, q), _ in sorted(clocks.items(), key=lambda item: item[1].uncertainty_ns):
            for source, target, back in ((p, q, False), (q, p, True)):
                if source == here and target not in found and target < points:
                    found[target] = [*found[here], (p, q, back)]
                    edge.append(target)
    return found
