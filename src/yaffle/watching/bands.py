"""What is usual for many members at once, and which of them have left it for good.

Each member has the learning mean and deviation of `normal.baseline`, of all intervals and of each hour of the week;
what it learns with one interval is what that learns. It is judged in hours of the week of which it has learnt; in
others what is usual is not known. Whether a member has left what is usual is judged by cumulative sums (Page 1954): of
deviations beyond half the shift that is looked for, until they exceed a bound. A single odd value is soon forgotten; a
lasting shift of `shift` deviations is found after bound / (shift / 2) intervals in the mean.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.normal.baseline import HOURS_OF_WEEK, BaselineSettings, hours_of_week

BOUND = 5.0
_BACK = 1.9  # usual intervals after which a member is back: a sum rises no higher
_HOUR_NS, _QUARTER_NS = 3600 * 10**9, 900 * 10**9
_STATES = HOURS_OF_WEEK + 1


@dataclass(frozen=True)
class Judged:
    """Of members, (n,). side: -1 below what is usual, 1 above it, 0 within, or not judged."""

    expected: Float64s
    deviation: Float64s
    side: Int64s
    judged: Bools


def settings_for(width_ns: int) -> BaselineSettings:
    """How it learns of intervals of a width: an hour of the week remembers some five weeks, however many intervals it
    has, and speaks when it was there once; the running mean remembers five hours.
    """
    in_hour = max(1, _HOUR_NS // width_ns)
    running = min(0.05, 1 - 0.95 ** (width_ns / _QUARTER_NS))
    return BaselineSettings(
        running, True, 1 - 0.8 ** (1 / in_hour), warm_up=16, profile_warm_up=max(2, in_hour * 3 // 4)
    )


class Bands:
    """The members of one watch, by rows."""

    def __init__(self, shift: float, settings: BaselineSettings, *, only_above: bool = False) -> None:
        self._settings, self._only_above = settings, only_above
        self._slack = shift / 2
        self.rows: dict[str, int] = {}
        self._mean = np.zeros((0, _STATES))
        self._variance, self._seen = np.zeros((0, _STATES)), np.zeros((0, _STATES), np.int64)
        self._level = np.zeros(0)
        self._sums = np.zeros((0, 2))  # above, below

    def row(self, subject: str) -> int:
        """The row of a member, made where it is new."""
        if subject not in self.rows:
            self.rows[subject] = len(self.rows)
            if len(self.rows) > self._mean.shape[0]:
                self._grow(max(16, 2 * len(self.rows)))
        return self.rows[subject]

    def _grow(self, size: int) -> None:
        more = size - self._mean.shape[0]
        self._mean, self._variance = (np.pad(own, ((0, more), (0, 0))) for own in (self._mean, self._variance))
        self._seen = np.pad(self._seen, ((0, more), (0, 0)))
        self._level, self._sums = np.pad(self._level, (0, more)), np.pad(self._sums, ((0, more), (0, 0)))

    def take(self, subjects: list[str], values: Float64s, at_ns: int) -> Judged:
        """Judges the values of one interval that began at a moment, then learns from them; NaN says nothing."""
        rows = np.array([self.row(subject) for subject in subjects], np.int64)
        found = self._judged(rows, values, at_ns)
        self._learn(rows, values, at_ns)
        return found

    def usual(self, subject: str, at_ns: int) -> tuple[float, float]:
        """(mean, deviation) that are usual for a member at a moment; NaN where nothing was learnt."""
        if subject not in self.rows:
            return float("nan"), float("nan")
        expected, deviation, _ = self._speaking(np.array([self.rows[subject]]), at_ns)
        return float(expected[0]), float(deviation[0])

    def _speaking(self, rows: Int64s, at_ns: int) -> tuple[Float64s, Float64s, Bools]:
        own = int(hours_of_week(np.array([at_ns]))[0]) + 1
        state = np.where(self._seen[rows, own] >= self._settings.profile_warm_up, own, 0)
        known = self._seen[rows, state] > 0
        mean = self._mean[rows, state]
        least = self._settings.floor * np.maximum(np.abs(mean), np.abs(self._level[rows]))
        deviation = np.maximum(np.sqrt(self._variance[rows, state]), least)
        judged = known & (state > 0) & (self._seen[rows, 0] >= self._settings.warm_up)
        return np.where(known, mean, np.nan), np.where(known, deviation, np.nan), judged

    def _judged(self, rows: Int64s, values: Float64s, at_ns: int) -> Judged:
        expected, deviation, judged = self._speaking(rows, at_ns)
        judged &= ~np.isnan(values)
        with np.errstate(invalid="ignore", divide="ignore"):
            off = np.where(deviation > 0, (values - expected) / deviation, np.sign(values - expected) * BOUND)
        off = np.where(judged, off, 0.0)
        for side, sign in ((0, 1.0), (1, -1.0)):
            risen = np.clip(self._sums[rows, side] + sign * off - self._slack, 0.0, BOUND + _BACK * self._slack)
            self._sums[rows[judged], side] = risen[judged]
        above, below = (self._sums[rows, side] > BOUND for side in (0, 1))
        if self._only_above:
            below &= False
        side_of = np.where(judged, above.astype(np.int64) - (below & ~above), 0)
        return Judged(expected, deviation, side_of, judged)

    def _learn(self, rows: Int64s, values: Float64s, at_ns: int) -> None:
        """What one step of `normal.baseline` does, of many members at once."""
        known = ~np.isnan(values)
        rows, values = rows[known], values[known]
        s = self._settings
        own = int(hours_of_week(np.array([at_ns]))[0]) + 1
        for state, weight, enough in ((0, s.weight, s.warm_up), (own, s.profile_weight, s.profile_warm_up)):
            seen, mean = self._seen[rows, state], self._mean[rows, state]
            rate = np.maximum(weight, 1.0 / (seen + 1))
            off = values - mean
            least = s.floor * np.maximum(np.abs(mean), np.abs(self._level[rows]))
            most = s.limit * np.maximum(np.sqrt(self._variance[rows, state]), least)
            off = np.where(seen >= enough, np.clip(off, -most, most), off)
            if state == 0:
                self._level[rows] += (mean + off - self._level[rows]) / (seen + 1)
            first = seen == 0
            self._mean[rows, state] = np.where(first, values, mean + rate * off)
            variance = self._variance[rows, state]
            self._variance[rows, state] = np.where(first, variance, (1.0 - rate) * (variance + rate * off * off))
            self._seen[rows, state] = seen + 1
