"""Slow plain twin of how long a client waited for what never came, or came when it had gone."""

from yaffle.exchanges.turns import UNENDED
from yaffle.transport import kinds

FIN, RST, ACK = 1, 4, 16
CLIENT, SERVER, ORDERLY = 0, 1, 0
MS = 1_000_000


def _base(row):
    return int(row["kind"]) & kinds.KIND_MASK


def plain_closings(g):
    """By which segment each side closed first, -1 without."""
    return [
        next((i for i, row in enumerate(g) if row["d"] == side and row["flags"] & 5 and _base(row) != kinds.COPY), -1)
        for side in (CLIENT, SERVER)
    ]


def _left_before(g, left, place):
    if left < 0 or not g[left]["flags"] & ACK:
        return False
    after = [row for row in g[left:] if row["d"] == CLIENT and _base(row) != kinds.COPY]
    has = any(row["flags"] & ACK and row["a"] >= place for row in after)
    return not has and any(row["flags"] & RST for row in after)


def _last_byte(g, turn):
    last = g[turn["stop"] - 1]
    return last["s"] + last["n"] if turn["response_end"] == UNENDED else turn["response_end"]


def _broken_off_at(g, turn, left, shut):
    stop = int(turn["stop"])
    for i in range(stop, len(g)):
        told = max([_last_byte(g, turn), *(row["s"] + row["n"] for row in g[stop:i] if row["d"] == SERVER)])
        if g[i]["d"] == CLIENT and g[i]["flags"] & ACK and g[i]["a"] > told + 1:
            return len(g) - 1
    return min([i for i in (left, shut) if i >= stop - 1], default=len(g) - 1)


def plain_ended(g, turns, k, closing, way_ns):
    """(by which segment the wait for a turn's answer ended at the latest, -1 where nobody waited; whether it came, as
    far as it did).
    """
    left, shut = plain_closings(g)
    turn = turns[k]
    if turn["answer"] >= 0:
        if not _left_before(g, left, _last_byte(g, turn)):
            return _broken_off_at(g, turn, left, shut) if turn["response_end"] == UNENDED else len(g) - 1, True
        if not _left_before(g, left, g[turn["answer"]]["s"] + 1):
            return left, True
    first = int(turn["first"])
    asked = max(
        [int(g[first]["t"])]
        + [
            int(row["t"])
            for row in g[first:]
            if row["d"] == CLIENT and row["n"] > 0 and row["s"] < turn["request_end"] and _base(row) == kinds.DATA
        ]
    )
    long_since = asked + 2 * (asked - int(g[first]["t"])) + MS
    closed = [i for i in (left, shut) if i > first and g[i]["t"] > long_since]
    end = min(closed, default=len(g) - 1)
    if g[end]["t"] <= long_since:
        return -1, False
    if closing != ORDERLY:
        return end, False
    asks = turn["message"] >= 0 or (end == left and any(one["answer"] >= 0 for one in turns[:k]))
    known = turn["answer"] >= 0 or (asks and g[end]["t"] > asked + way_ns + 100 * MS)
    return (end if known and end == min(left, shut) else -1), False
