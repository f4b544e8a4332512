"""Room to tell the segments of one connection after another apart."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s2
from yaffle.transport.round_trips import Samples, empty_samples
from yaffle.transport.segments import Segments, empty_segments
from yaffle.transport.side import Holes, Sides, empty_holes, empty_sides


class SegmentSpace(NamedTuple):
    """What `told_apart` writes to. Nothing that one connection left there is read for the next."""

    segments: Segments
    samples: Samples  # of round trips
    pending: Int64s2  # (2, n): segments of each side that are not acknowledged yet
    repeats: Int64s2  # (2, n): repeats of each side
    holes: Holes
    sides: Sides


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
