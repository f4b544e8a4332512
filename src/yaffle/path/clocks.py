"""The clock of one point against that of another, from the packets that both saw.

A packet takes at least the least delay of its direction. Drawn over time, the differences of both clocks lie above a
line in one direction and below a parallel one in the other; the steepness of that corridor is the drift (Moon, Skelly
and Towsley, "Estimation and removal of clock skew from network delay measurements", 1999, by linear programming: the
widest line below all points that lies closest to them in sum). Its middle is the offset if both directions take equally
long at least; how much they differ no clock can tell: causality alone bounds the offset by half the least round trip.
"""

from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Array, Float64s, Int64s
from yaffle.transport.envelope import line_below

_LEAST_SPAN_NS = 2_000_000_000  # Shorter overlaps show no drift.
_LEAST = 8
_WINDOW_NS, _MOST_WINDOWS = 1_000_000_000, 400  # Steps are looked for from window to window,
_LASTS = 3  # in so many on either side,
_LEAST_STEP_NS = 500_000  # and smaller ones are not.


@dataclass(frozen=True)
class Clock:
    """Of a point against the reference: its time less the reference's is offset_ns + drift * (time - at_ns)."""

    offset_ns: float
    drift: float  # ns per ns
    at_ns: int
    # what an asymmetry could hide: half of the least round trip between the two; of one direction alone its least
    # delay, upwards without a bound
    uncertainty_ns: float
    pairs: int  # packets it rests on
    both_ways: bool  # whether packets of both directions were seen
    steps: tuple[
        tuple[int, float], ...
    ] = ()  # when it was set, by its own time afterwards, and by how much it jumped ahead, ns

    def breaks_causality(self, until_ns: int) -> bool:
        """Whether packets would arrive before they left, were this clock believed from at_ns until then."""
        if not self.both_ways:
            return self.offset_ns != 0
        offset, least = self.offset_ns, [self.offset_ns]
        for _, step in self.steps:
            offset += step
            least.append(offset)
        return (
            max(abs(at + drift) for at in least for drift in (0.0, self.drift * (until_ns - self.at_ns)))
            > self.uncertainty_ns
        )

    def set_right(self, times_ns: Int64s) -> Int64s:
        """Times of this point by the reference's clock.

        Times that a step back made twice are taken for those after it.
        """
        even = unstepped(times_ns, self.steps)
        return even - np.round(self.offset_ns + self.drift * (even - self.at_ns)).astype(np.int64)


def unstepped(times_ns: Int64s, steps: tuple[tuple[int, float], ...]) -> Int64s:
    """Times as the clock would have shown them without its steps."""
    even = times_ns
    for at_ns, step_ns in steps:
        even = even - np.where(times_ns >= at_ns, round(step_ns), 0)
    return even


def _windowed(times: Int64s, values: Float64s, start_ns: int, width_ns: int, count: int) -> Float64s:
    """The least of each window, nan without any."""
    least = np.full(count, np.inf)
    np.minimum.at(least, np.clip((times - start_ns) // width_ns, 0, count - 1), values)
    return np.where(np.isinf(least), np.nan, least)


def find_steps(forward: tuple[Array, Array], backward: tuple[Array, Array]) -> tuple[tuple[int, float], ...]:
    """When the second clock was set, and by how much, against the first: as in `Clock.steps`.

    A step moves the least differences of one direction up and those of the other down by as much; a path that changes
    moves their sum. Windows of time are compared with each other; what is found is told exactly by the packets around
    it. One direction alone tells no step: the path might have changed.
    """
    if min(forward[0].size, backward[0].size) < _LEAST:
        return ()
    first = np.concatenate([forward[0], backward[0]])
    start_ns, span = int(first.min()), int(first.max() - first.min())
    width = max(_WINDOW_NS, -(-span // _MOST_WINDOWS))
    count = span // width + 1
    there, back = (
        _windowed(one, sign * (two - one).astype(np.float64), start_ns, width, count)
        for sign, (one, two) in ((1, forward), (-1, backward))
    )
    both = np.flatnonzero(~np.isnan(there) & ~np.isnan(back))
    if both.size < 2 * _LASTS:
        return ()
    offset, trip = (there[both] - back[both]) / 2, there[both] + back[both]
    jumps = np.diff(offset)
    usual = float(np.median(jumps))  # the drift of a window
    spread = float(np.median(np.abs(jumps - usual)))
    found: list[tuple[int, float]] = []
    last = -_LASTS
    for k in np.flatnonzero(np.abs(jumps - usual) > max(_LEAST_STEP_NS / 2, 12 * spread)).tolist():
        before, after = slice(max(0, k + 1 - _LASTS), k + 1), slice(k + 1, k + 1 + _LASTS)
        step = float(np.median(offset[after]) - np.median(offset[before])) - usual * _LASTS
        moved = abs(float(np.median(trip[after]) - np.median(trip[before])))
        if abs(step) < _LEAST_STEP_NS or moved > abs(step) / 2 or k - last < _LASTS:
            continue
        last = k
        found.append(
            (
                _moment(
                    forward,
                    backward,
                    start_ns + int(both[k]) * width,
                    start_ns + (int(both[min(k + 2, both.size - 1)]) + 1) * width,
                    step,
                ),
                step,
            )
        )
    return tuple(found)


def _moment(
    forward: tuple[Array, Array], backward: tuple[Array, Array], low_ns: int, high_ns: int, step_ns: float
) -> int:
    """By the second clock, the time of the first packet after a step that lies between two times of the first clock."""
    one, two = (np.concatenate([forward[k], backward[k]]) for k in (0, 1))
    width = high_ns - low_ns
    near = (one >= low_ns - width) & (one <= high_ns + width)
    order = np.argsort(one[near], kind="stable")
    first, second = one[near][order], two[near][order]
    apart = (second - first).astype(np.float64)
    early = first < low_ns
    middle = (float(np.median(apart[early])) if early.any() else float(apart[0])) + step_ns / 2
    after = second[~early & ((apart > middle) == (step_ns > 0))]
    return int(after.min()) if after.size else int(second.max())


def _without_steps(way: tuple[Array, Array], steps: tuple[tuple[int, float], ...]) -> tuple[Int64s, Int64s]:
    """Times at both points as without steps; those that a step back made twice are left out."""
    sure = np.ones(way[1].size, bool)
    for at_ns, step_ns in steps:
        if step_ns < 0:
            sure &= (way[1] < at_ns) | (way[1] >= at_ns - step_ns)
    return way[0][sure], unstepped(way[1][sure], steps)


def clock_between(
    forward: tuple[Array, Array], backward: tuple[Array, Array], *, stepping: bool = True
) -> Clock | None:
    """The clock of the second point against the first. None where they share too little.

    forward: times at the first point and times at the second of packets that pass the first one first; backward: the
    same, first point first, of packets that pass the second one first; stepping: whether it may have been set
    meanwhile.
    """
    counts = (forward[0].size, backward[0].size)
    if sum(counts) < 1:
        return None
    if stepping and (steps := find_steps(forward, backward)):
        found = clock_between(_without_steps(forward, steps), _without_steps(backward, steps), stepping=False)
        return replace(found, steps=steps) if found is not None else None
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
