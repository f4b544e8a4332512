"""What passed of one side of a connection so far, and what of it did not pass here: what telling its segments apart
goes by.
"""

import numpy as np

from yaffle.arrays import Array, Struct, Structs
from yaffle.kernels import pasted
from yaffle.transport.segments import Segment

_NEVER = -(1 << 60)
_ENDLESS = 1 << 60
MOST_HOLES = 512

SIDE = np.dtype(
    [
        (name, np.int64)
        for name in (
            "started",  # anything of it was seen or acknowledged
            "spoke",  # it sent bytes
            "nxt",  # highest sequence number seen, plus one
            "una",  # highest acknowledged of its bytes
            "acked",  # whether any were
            "head",  # its segments that are not acknowledged yet: from this one of those pending
            "tail",  # to before this one
            "repeats",  # and so many of its repeats
            "window",  # the last it advertised, -1 none
            "sacked_high",  # highest SACKed of its bytes
            "last_sent",  # time of its last packet with bytes
            "last_any",  # of its last packet
            "last_moved",  # when its bytes were last acknowledged further
            "last_new",  # when it last sent anything new
            "last_again",  # when it last sent anything again
            "owed",  # segments of the other side since its last packet: each may have got a bare acknowledgement
            "usual_turn",  # how long it takes to answer: a running mean, of the server
            "prompt_ack",  # when its bytes were last acknowledged at once
            "prompt_sent",  # and when those were sent
            "doubted",  # the sample that was late, though the next segment was sent at once; -1 none
            "doubted_by",  # that segment
            "behind",  # its bytes that passed elsewhere since its last segment with any
            "probe_end",  # what its tail loss probe under way ends at; -1 none: there is never more than one
            "dup_acks",  # in a row, for its bytes
            "high_id",
            "reach",  # highest end of any of its packets, whether it counts or not
            "reach_acked",  # highest that any of them acknowledged
            "pool",  # packets missing before, not yet accounted for
            "timeout_end",  # after a timeout, everything below is repeated
            "floor",  # least round trip to it
            "syn_at",
            "syn_count",
            "probed",  # KEPT_ALIVE or PROBED: it asked, and was not answered
            "holes",
        )
    ]
)
Sides = Structs  # of SIDE
Side = Struct  # one of them
KEPT_ALIVE, PROBED = 1, 2

# Bytes that did not pass: from where to where; of the segment that showed it time, identification, timestamp, index.
HOLE = np.dtype([(name, np.int64) for name in ("start", "end", "t", "id", "tsv", "i")])
Holes = Structs  # of HOLE
Hole = Struct  # one of them


def empty_sides() -> Sides:
    """Room for both sides."""
    return np.empty(2, SIDE)


def empty_holes() -> Array:
    """Room for the holes of both sides."""
    return np.empty((2, MOST_HOLES), HOLE)


@pasted
def begin(side: Side) -> None:
    """Nothing was seen of a side."""
    side.started, side.spoke, side.nxt, side.una, side.acked = 0, 0, 0, 0, 0
    side.head, side.tail, side.repeats, side.holes = 0, 0, 0, 0
    side.last_sent, side.last_any, side.last_moved, side.last_new, side.last_again = 0, 0, 0, 0, 0
    side.owed, side.usual_turn, side.behind, side.dup_acks, side.pool = 0, 0, 0, 0, 0
    side.syn_count, side.probed = 0, 0
    side.window, side.sacked_high, side.probe_end, side.high_id, side.timeout_end, side.syn_at = -1, -1, -1, -1, -1, -1
    side.prompt_ack, side.prompt_sent, side.doubted = _NEVER, _NEVER, -1
    side.floor, side.reach, side.reach_acked = _ENDLESS, -_ENDLESS, -_ENDLESS


@pasted
def show_hole(side: Side, holes: Holes, segment: Segment, i: int) -> None:
    """Segment i tells that bytes of its side before it did not pass."""
    hole = holes[segment.d, side.holes]
    hole.start, hole.end, hole.t = side.nxt, segment.s, segment.t
    hole.id, hole.tsv, hole.i = segment.id, segment.tsv, i
    side.holes += 1


@pasted
def drop_hole(side: Side, holes: Holes, d: int, k: int) -> None:
    """A hole is none any more."""
    side.holes -= 1
    for m in range(k, side.holes):
        holes[d, m] = holes[d, m + 1]


@pasted
def split_hole(side: Side, holes: Holes, d: int, k: int, start: int, end: int) -> None:
    """A hole was filled from start to before end, in its middle; it becomes two."""
    for m in range(side.holes, k + 1, -1):
        holes[d, m] = holes[d, m - 1]
    holes[d, k + 1] = holes[d, k]
    holes[d, k].end = start
    holes[d, k + 1].start = end
    side.holes += 1
