"""The clock of one point against that of another, from the packets that both saw.

A packet takes at least the least delay of its direction. Drawn over time, the differences of both clocks lie above a line
in one direction and below a parallel one in the other; the steepness of that corridor is the drift (Moon, Skelly and
Towsley, "Estimation and removal of clock skew from network delay measurements", 1999, by linear programming: the widest
line below all points that lies closest to them in sum). Its middle is the offset if both directions take equally long at
least; how much they differ no clock can tell: causality alone bounds the offset by half the least round trip.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.transport.envelope import line_below

_LEAST_SPAN_NS = 2_000_000_000  # Shorter overlaps show no drift.
_LEAST = 8


@dataclass(frozen=True)
class Clock:
    """Of a point against the reference: its time less the reference's is offset_ns + drift * (time - at_ns)."""

    offset_ns: float
    drift: float  # ns per ns
    at_ns: int
    uncertainty_ns: float  # what an asymmetry could hide: half of the least round trip between the two; of one direction alone its least delay, upwards without a bound
    pairs: int  # packets it rests on
    both_ways: bool  # whether packets of both directions were seen

    def breaks_causality(self, until_ns: int) -> bool:
        """Whether packets would arrive before they left, were this clock believed from at_ns until then."""
        if not self.both_ways:
            return self.offset_ns != 0
        return max(abs(self.offset_ns), abs(self.offset_ns + self.drift * (until_ns - self.at_ns))) > self.uncertainty_ns

    def set_right(self, times_ns: Array) -> Array:
        """Times of this point by the reference's clock."""
        return times_ns - np.round(self.offset_ns + self.drift * (times_ns - self.at_ns)).astype(np.int64)


def clock_between(forward: tuple[Array, Array], backward: tuple[Array, Array]) -> Clock | None:
    """The clock of the second point against the first. None where they share too little.

    forward: times at the first point and times at the second of packets that pass the first one first; backward: the same,
    first point first, of packets that pass the second one first.
    """
    counts = (forward[0].size, backward[0].size)
    if sum(counts) < 1:
        return None
    at_ns = int(np.concatenate([forward[1], backward[1]]).min())
    span = int(np.concatenate([forward[1], backward[1]]).max()) - at_ns
    ways = []
    for sign, (first, second) in ((1, forward), (-1, backward)):
        if first.size:
            ways.append((sign, (second - at_ns).astype(np.float64), sign * (second - first).astype(np.float64)))
    drift = 0.0
    enough = [way for way in ways if way[1].size >= _LEAST]
    if span >= _LEAST_SPAN_NS and enough:
        slopes = [(sign * line_below(t, y)[1], t.size) for sign, t, y in enough]
        drift = sum(slope * size for slope, size in slopes) / sum(size for _, size in slopes)
        if len(slopes) == 2 and abs(slopes[0][0] - slopes[1][0]) > 2e-4:
            drift = 0.0  # The floors of both directions move apart: that is the path, not a clock.
    least = {sign: float((y - sign * drift * t).min()) for sign, t, y in ways}
    if len(least) == 2:
        offset, uncertainty = (least[1] - least[-1]) / 2, max(0.0, (least[1] + least[-1]) / 2)
    else:
        ((sign, only),) = least.items()
        offset, uncertainty = (
            (0.0, only) if only >= 0 else (sign * only, 0.0)
        )  # One direction alone: clocks are taken as they are, where that lets no packet arrive before it left.
    return Clock(offset, drift, at_ns, uncertainty, sum(counts), len(least) == 2)
