"""Which packet at one point is which at another, which were lost between them, and which came twice.

Packets of one identity are paired in order of time. Where the nearer point has more of them than the farther one, the
pairing with the most usual delay decides which are missing; where the farther one has more, the rest are copies.
"""

import numpy as np

from yaffle.arrays import Bools, Int64s, Uint64s
from yaffle.kernels import int64, kernel
from yaffle.path.ordering import by_identity

NONE, LOST, COPY, OUTSIDE = (
    -1,
    -2,
    -3,
    -4,
)  # no packet; missing; a second copy; not to be told: the other point did not watch then
MOST_TRIED = 64  # Packets of one identity whose pairings are all tried.
NEAR_NS = 2_000_000  # Of more, so far from the usual delay a packet may come.
_SAME_WINDOW_NS = 5_000_000_000  # Packets of one identity that lie further apart in delay than this are not the same.


@kernel
def _pair(
    start: int,
    stop: int,
    order: Int64s,
    ids: Uint64s,
    times: Int64s,
    side: Int64s,
    usual: int,
    window: int,
    partner: Int64s,
) -> None:
    """Pairs the packets of one identity, order[start:stop] by time with the clocks set right; side 0 is where they
    pass first.
    """
    k = start
    while k < stop:
        one = order[k]
        if side[one] != 0 or partner[one] != NONE:
            k += 1
            continue
        best, off = int64(-1), int64(0)
        for j in range(start, stop):
            other = order[j]
            if side[other] != 1 or partner[other] != NONE:
                continue
            away = abs(times[other] - times[one] - usual)
            if away <= window and (best < 0 or away < off):
                best, off = other, away
        if best >= 0:
            # Somebody of the first side who fits it better takes it.
            rival = int64(-1)
            for j in range(start, stop):
                other = order[j]
                if side[other] == 0 and partner[other] == NONE and abs(times[best] - times[other] - usual) < off:
                    off, rival = abs(times[best] - times[other] - usual), other
            if rival >= 0 and rival != one:
                partner[rival], partner[best] = best, rival
                continue
            partner[one], partner[best] = best, one
        k += 1


@kernel
def _pair_in_order(
    start: int, stop: int, order: Int64s, times: Int64s, side: Int64s, usual: int, partner: Int64s
) -> None:
    """Pairs very many packets of one identity: each with the next one on the other side that comes when it should."""
    slack = max(abs(usual), NEAR_NS)
    j = start
    for k in range(start, stop):
        one = order[k]
        if side[one] != 0:
            continue
        while j < stop and (side[order[j]] != 1 or times[order[j]] < times[one] + usual - slack):
            j += 1
        if j < stop and times[order[j]] <= times[one] + usual + slack:
            partner[one], partner[order[j]] = order[j], one
            j += 1


@kernel
def _match(order: Int64s, ids: Uint64s, times: Int64s, side: Int64s, usual: int, window: int, partner: Int64s) -> None:
    """Pairs all packets. order: by identity, then time."""
    count = order.size
    start = 0
    while start < count:
        stop = start + 1
        while stop < count and ids[order[stop]] == ids[order[start]]:
            stop += 1
        size = stop - start
        if size == 2:
            a, b = order[start], order[start + 1]
            if side[a] != side[b]:
                one, two = (a, b) if side[a] == 0 else (b, a)
                if abs(times[two] - times[one] - usual) <= window:
                    partner[one], partner[two] = two, one
        elif size <= MOST_TRIED:
            _pair(start, stop, order, ids, times, side, usual, window, partner)
        else:
            _pair_in_order(start, stop, order, times, side, usual, partner)
        start = stop


@kernel
def _usual(order: Int64s, ids: Uint64s, times: Int64s, side: Int64s, delays: Int64s) -> int:
    """Fills the delays of packets that stand once on each side; returns their number. order: by identity, then time."""
    found, start, count = 0, 0, order.size
    while start < count:
        stop = start + 1
        while stop < count and ids[order[stop]] == ids[order[start]]:
            stop += 1
        if stop - start == 2 and side[order[start]] != side[order[start + 1]]:
            one, two = order[start], order[start + 1]
            delays[found] = times[two] - times[one] if side[one] == 0 else times[one] - times[two]
            found += 1
        start = stop
    return found


def match(
    ids: Uint64s, times_ns: Int64s, side: Int64s, usual_ns: int | None = None, window_ns: int = _SAME_WINDOW_NS
) -> Int64s:
    """For each packet the place of the same one on the other side, or NONE, int64 (n,).

    ids, times_ns, side: in order of time, with both clocks set right; side: 0 where packets pass first, 1 where they
    pass later; usual_ns: the delay from the one to the other, by default the median of those that stand once on each
    side; window_ns: how far from that a delay may lie.
    """
    partner = np.full(ids.size, NONE, np.int64)
    order = by_identity(ids)
    times, side = np.ascontiguousarray(times_ns), np.ascontiguousarray(side)
    if usual_ns is None:
        delays = np.zeros(ids.size // 2, np.int64)
        delays = delays[: _usual(order, ids, times, side, delays)]
        usual_ns = int(np.median(delays)) if delays.size else 0
    _match(order, ids, times, side, usual_ns, window_ns, partner)
    return partner


@kernel
def _once(order: Int64s, ids: Uint64s, border: int, found: Int64s) -> None:
    """Fills `found` at each place below `border` with the only other one of its identity, if that lies beyond."""
    start, count = 0, order.size
    while start < count:
        stop = start + 1
        while stop < count and ids[order[stop]] == ids[order[start]]:
            stop += 1
        if stop - start == 2 and order[start] < border <= order[start + 1]:
            found[order[start]] = order[start + 1] - border
        start = stop


def unique_pairs(one: Uint64s, two: Uint64s) -> tuple[Int64s, Int64s]:
    """Places in both of the identities that stand exactly once in each, in order of the first."""
    ids = np.concatenate([one, two])
    found = np.full(one.size, NONE, np.int64)
    _once(by_identity(ids), ids, one.size, found)  # Of two alike the one of the first comes first.
    first = np.flatnonzero(found != NONE)
    return first, found[first]


def among(values: Uint64s, those: Uint64s) -> Bools:
    """Which values occur among those, bool (n,): by sorting, which for millions of numbers is quicker than hashing
    them.
    """
    if not values.size or not those.size:
        return np.zeros(values.size, bool)
    ordered = np.sort(those)
    place = np.minimum(np.searchsorted(ordered, values), ordered.size - 1)
    return np.asarray(ordered[place] == values)
