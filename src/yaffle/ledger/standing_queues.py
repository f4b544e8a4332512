"""Connections that lived in a queue from their first packet to their last: their least round trip is not their path's.

A transfer measures hardly any round trips beside its client, who sends nothing. But each packet of its server tells, by
the clock of that host (`host_clock`), how much longer than its least it was under way. Where nearly all packets of
others on the same path tell so while a connection lived, and what they took longer when it opened is what its opening
took longer, a queue stood there, and the least round trip of the path is that of the connection. What is left of the
opening of a host that is merely further away is longer than that.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2
from yaffle.capture.packets import Columns
from yaffle.kernels import int64, kernel
from yaffle.ledger.path_states import NO_FLOOR, SIDES
from yaffle.ledger.workspace import Connections, Workspace
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.segments import FACTS, gather

CONNECTION, SIDE, TIME, LATE = range(4)  # columns of what `delays_by_clock` fills; times in ns
TOLD = 4
BIN_NS = 10_000_000  # The least delay within this is the queue.
_TELLING_PACKETS = 50  # Fewer of a connection tell little.
_OF_A_PATH = 16  # The longest connections of a path tell it.
_LEAST_RISE_NS = 1_000_000
_LEAST_BINS = 20
_THEN_NS = 30_000_000  # What passed within this before and after an opening met the same queue.
_BLUR_NS = 2_000_000
_STEADY = 8  # Round trips that vary by less than this part of a rise are a host that is further away.
_MEASURED = 20  # More round trips of a connection than this tell of its path by themselves.


class Lived(NamedTuple):
    """When each connection began and ended, and how long its opening took, -1 where that was not seen."""

    first_ns: Int64s
    last_ns: Int64s
    opening_ns: Int64s


def above_their_path(path: Int64s, least: Int64s, floor_ns: Int64s2, most_ns: Int64s2, samples: Int64s2) -> Bools:
    """(connections, 2): whether its least round trip to a side is above its path's, by a twentieth and 1 ms at least,
    though few tell so; and they vary.

    path: of each connection; least: of each path and side (path * SIDES + side), NO_FLOOR without any; floor_ns,
    most_ns, samples: (connections, 2), the least and the greatest of its round trips, and how many.
    """
    of_path = least[path[:, None] * SIDES + np.arange(SIDES)]
    rise = floor_ns - of_path
    above = (floor_ns >= 0) & (rise >= np.maximum(_LEAST_RISE_NS, of_path // 20))
    return np.asarray(above & (samples < _MEASURED) & ((most_ns - floor_ns) * _STEADY >= rise))


def telling(path: Int64s, above: Bools, packets: Int64s) -> Int64s:
    """Connections (rows) that tell of the paths on which some are above: the longest of each."""
    asked = np.zeros(int(path.max(initial=-1)) + 1, bool)
    asked[path[above.any(axis=1)]] = True
    rows = np.flatnonzero(asked[path] & (packets >= _TELLING_PACKETS))
    order = rows[np.lexsort((-packets[rows], path[rows]))]
    place = np.arange(order.size) - np.searchsorted(path[order], path[order], "left")
    return np.sort(order[place < _OF_A_PATH])


@kernel
def delays_by_clock(
    chosen: Int64s, connections: Connections, packets: Columns, space: Workspace, out: Int64s2, from_connection: int
) -> tuple[int, int]:
    """Fills out with what the packets of each side of the chosen connections took above their least, the least of each
    BIN_NS. Returns (next connection, rows), before the first whose rows might not fit.
    """
    facts = np.zeros(FACTS, np.int64)
    starts, delays = connections.starts, space.delays
    count = int64(0)
    for place in range(from_connection, chosen.size):
        c = chosen[place]
        n = starts[c + 1] - starts[c]
        if count + n > out.shape[0]:
            return place, count
        g = space.segment.segments[:n]
        gather(connections.order[starts[c] : starts[c + 1]], packets, g, facts)
        extra_delays(g, delays)
        for side in range(SIDES):
            at = int64(-1)
            for i in range(n):
                late = delays[side, i]
                if late < 0:
                    continue
                if at >= 0 and out[at, TIME] // BIN_NS == g[i].t // BIN_NS:
                    out[at, LATE] = min(out[at, LATE], late)
                    continue
                at = count
                out[at, CONNECTION], out[at, SIDE], out[at, TIME], out[at, LATE] = c, side, g[i].t, late
                count += 1
    return chosen.size, count


def floors_of_standing_queues(
    rows: Int64s2, path: Int64s, least: Int64s, floor_ns: Int64s2, above: Bools, lived: Lived
) -> Int64s2:
    """(connections, 2): the least round trip of its path for each that lived in a queue; NO_FLOOR for all others.

    rows: of `delays_by_clock`; path, least, floor_ns, above: as in above_their_path.
    Others must have taken half of the rise longer than their least in 19 of 20 of the moments that tell; and the
    opening must have taken as much longer than the path's least as one of them did then, by a quarter and 2 ms.
    """
    found = np.full(floor_ns.shape, NO_FLOOR)
    key = path[rows[:, CONNECTION]] * SIDES + rows[:, SIDE]
    order = np.lexsort((rows[:, TIME], key))
    key, told = key[order], np.ascontiguousarray(rows[order].T)
    for c, side in zip(*np.nonzero(above & (lived.opening_ns >= 0)[:, None]), strict=True):
        own = int(path[c]) * SIDES + int(side)
        first, last = np.searchsorted(key, [own, own + 1])
        on_path = told[:, first:last]
        opened = lived.first_ns[c] + lived.opening_ns[c]  # when what was late at the opening passed
        then = _of_others(on_path, c, opened - _THEN_NS, opened + _THEN_NS)
        longer = lived.opening_ns[c] - max(0, floor_ns[c, 1 - side]) - least[own]
        if not then.size or longer - then.max() > longer // 4 + _BLUR_NS:
            continue  # As nearly always; the rest of its life is not looked at.
        late = _of_others(on_path, c, lived.first_ns[c], lived.last_ns[c])
        queued = np.count_nonzero(2 * late >= floor_ns[c, side] - least[own])
        if late.size >= _LEAST_BINS and queued * 20 >= 19 * late.size:
            found[c, side] = least[own]
    return found


def _of_others(told: Int64s2, connection: int, first_ns: int, last_ns: int) -> Int64s:
    """How late packets of other connections were between two moments. told: columns of rows, in order of time."""
    between = slice(*np.searchsorted(told[TIME], [first_ns, last_ns]))
    return np.asarray(told[LATE, between][told[CONNECTION, between] != connection])
