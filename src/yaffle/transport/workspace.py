"""Room to tell the segments of one connection after another apart, and the two steps of it in one."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import kernel
from yaffle.transport.classify import classify
from yaffle.transport.round_trips import empty_samples
from yaffle.transport.segments import empty_segments, gather
from yaffle.transport.side import empty_holes, empty_sides


class SegmentSpace(NamedTuple):
    """What `told_apart` writes to. Nothing that one connection left there is read for the next."""

    segments: Array
    samples: Array  # of round trips
    pending: Array  # int64 (2, n): segments of each side that are not acknowledged yet
    repeats: Array  # int64 (2, n): repeats of each side
    holes: Array
    sides: Array


def segment_space(longest: int) -> SegmentSpace:
    """Room for connections of up to so many packets."""
    return SegmentSpace(
        empty_segments(longest),
        empty_samples(3 * longest + 8),
        np.empty((2, longest), np.int64),
        np.empty((2, longest), np.int64),
        empty_holes(),
        empty_sides(),
    )


@kernel
def told_apart(rows, packets, sack, space, facts):  # type: ignore[no-untyped-def]
    """(segments of a connection, samples of its round trips) by its packets, in the space; sets the facts.

    rows: of its packets, in order of capture; sack: SackBlocks of the capture; facts: int64 (FACTS,).
    """
    segments = space.segments[: rows.size]
    gather(rows, packets, segments, facts)
    return segments, space.samples[: classify(segments, facts, sack, space)]
