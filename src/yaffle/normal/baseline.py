"""A baseline that learns: an exponentially weighted mean with a band of deviations, limited against absurd values.

The mean moves by m += a * (x - m), the variance by v = (1 - a) * (v + a * (x - m)^2) (Finch, "Incremental calculation
of weighted mean and variance", 2009). While fewer than 1/a values came, a is 1/n: a plain mean. A value beyond the
limit of deviations counts as if it were at the limit, so that one absurd value moves the mean by at most a * limit *
deviation. With a profile each hour of the week (UTC) learns for itself, and speaks where it has learnt enough; else the
running mean does.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.kernels import kernel

HOURS_OF_WEEK = 168
_HOUR_NS = 3600 * 10**9
_MONDAY_HOURS = 72  # from the Monday before 1970-01-01, a Thursday, to that day


@dataclass(frozen=True)
class BaselineSettings:
    """How it learns. weight and profile_weight in (0, 1]; limit, band and floor are multiples: of the deviation, of
    it, of the mean.
    """

    weight: float = 0.05
    profile: bool = True
    profile_weight: float = 0.2
    limit: float = 3.0  # Beyond so many deviations a value counts as if it were there.
    band: float = 3.0  # Beyond so many it is an anomaly.
    # The deviation is taken for no less than this share of the mean, of the interval's own state and of all that came.
    floor: float = 0.05
    warm_up: int = 16  # Values before anything is judged.
    profile_warm_up: int = 4  # Values of an hour of the week before it speaks.


@dataclass(frozen=True)
class Baseline:
    """For each interval, (n,): what was expected before the value was seen; nan where nothing was learnt yet."""

    expected: Float64s
    deviation: Float64s
    low: Float64s
    high: Float64s
    side: Int64s  # -1 below the band, 1 above it, 0 within, or not judged
    judged: Bools  # whether enough was learnt

    @property
    def warm(self) -> int:
        """How many of the intervals only served to learn."""
        return int((~self.judged).sum())


@dataclass(frozen=True)
class Anomaly:
    """A run of intervals outside the band on one side. size: the most, in deviations; excess: what was over or under
    what was expected, summed.
    """

    first: int
    stop: int
    side: int
    size: float
    excess: float


def hours_of_week(times_ns: Int64s) -> Int64s:
    """Hour of the week of moments, 0 for Monday 0 to 1 UTC."""
    return (times_ns // _HOUR_NS + _MONDAY_HOURS) % HOURS_OF_WEEK


@kernel
def _learn(
    values: Float64s,
    slots: Int64s,
    weight: float,
    profile_weight: float,
    limit: float,
    band: float,
    floor: float,
    warm_up: int,
    profile_warm_up: int,
    expected: Float64s,
    deviation: Float64s,
    side: Int64s,
    judged: Bools,
) -> None:
    """State 0 is the running one, state 1 + h that of the hour of the week h."""
    mean, variance, seen = (
        np.zeros(HOURS_OF_WEEK + 1),
        np.zeros(HOURS_OF_WEEK + 1),
        np.zeros(HOURS_OF_WEEK + 1, np.int64),
    )
    level = 0.0  # the plain mean of all that came, limited
    for i in range(values.size):
        own = slots[i] + 1 if slots[i] >= 0 else 0
        speaks = own if own > 0 and seen[own] >= profile_warm_up else 0
        if seen[speaks] > 0:
            spread = max(np.sqrt(variance[speaks]), floor * max(abs(mean[speaks]), abs(level)))
            expected[i], deviation[i] = mean[speaks], spread
            judged[i] = seen[0] >= warm_up
        x = values[i]
        if np.isnan(x):
            continue
        if judged[i]:
            off = x - expected[i]
            if abs(off) > band * deviation[i]:
                side[i] = 1 if off > 0 else -1
        for turn in range(1 if own == 0 else 2):
            state = own if turn == 1 else 0
            a = max(weight if state == 0 else profile_weight, 1.0 / (seen[state] + 1))
            off = x - mean[state]
            enough = warm_up if state == 0 else profile_warm_up
            if seen[state] >= enough:
                most = limit * max(np.sqrt(variance[state]), floor * max(abs(mean[state]), abs(level)))
                off = min(most, max(-most, off))
            if state == 0:
                level += (mean[0] + off - level) / (seen[0] + 1)
            if seen[state] == 0:
                mean[state] = x
            else:
                mean[state] += a * off
                variance[state] = (1.0 - a) * (variance[state] + a * off * off)
            seen[state] += 1


def baseline(values: Float64s, starts_ns: Int64s, settings: BaselineSettings) -> Baseline:
    """The baseline of a measure. values: of equal intervals, in time order, nan where there was nothing to measure;
    starts_ns: when each began.
    """
    count = values.size
    expected, deviation = np.full(count, np.nan), np.full(count, np.nan)
    side, judged = np.zeros(count, np.int64), np.zeros(count, np.bool_)
    slots = hours_of_week(starts_ns).astype(np.int64) if settings.profile else np.full(count, -1, np.int64)
    s = settings
    _learn(
        np.ascontiguousarray(values, np.float64), slots, s.weight, s.profile_weight, s.limit, s.band, s.floor,
        s.warm_up, s.profile_warm_up,
        expected, deviation, side, judged,
    )  # fmt: skip
    return Baseline(expected, deviation, expected - s.band * deviation, expected + s.band * deviation, side, judged)


def anomalies(values: Float64s, found: Baseline) -> list[Anomaly]:
    """Runs outside the band, largest excess first. An interval without a value ends no run, nor is it one."""
    runs: list[Anomaly] = []
    known = np.flatnonzero(~np.isnan(values))
    side = found.side[known]
    borders = np.flatnonzero(np.diff(np.concatenate([[0], side, [0]])))
    for first, stop in zip(borders[:-1].tolist(), borders[1:].tolist(), strict=True):
        if not side[first]:
            continue
        rows = known[first:stop]
        off = values[rows] - found.expected[rows]
        size = float(np.max(np.abs(off) / np.maximum(found.deviation[rows], 1e-300)))
        runs.append(Anomaly(int(rows[0]), int(rows[-1]) + 1, int(side[first]), size, float(off.sum())))
    return sorted(runs, key=lambda run: -abs(run.excess))


def means(values: Float64s, first: Int64s, stop: Int64s) -> Float64s:
    """The mean of each stretch [first, stop) of values, nan left out; nan where nothing else is in it."""
    there = ~np.isnan(values)
    sums, counts = (np.concatenate([[0], np.cumsum(column)]) for column in (np.where(there, values, 0.0), there))
    held = counts[stop] - counts[first]
    return np.where(held > 0, (sums[stop] - sums[first]) / np.maximum(1, held), np.nan)
