"""Whether a period was other than the weeks before it, hour of the week by hour of the week.

Of each hour the median of the same hours of the weeks before is taken away; what is left is put together by quarter
days, since neighbouring hours are alike; Wilcoxon's signed-rank test (1945) says how likely such differences are where
there are none.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Float64s

_WEEK = 168
_QUARTER = 6
_FEW = 8
SURE = 0.01


@dataclass(frozen=True)
class Change:
    """usual: the median of what the weeks before had at the same hours, summed or averaged as the value is. chance:
    nan where there is too little to compare.
    """

    usual: float
    chance: float

    def words(self, value: float) -> str:
        """How a value lies to its baseline, and whether that is significant."""
        if not np.isfinite(self.usual) or not np.isfinite(value):
            return "no baseline"
        if not self.usual:
            return "new" if value else "–"
        ratio = value / self.usual
        told = f"{100 * (ratio - 1):+.0f} %" if ratio < 3 else f"{ratio:.1f} times"
        if not np.isfinite(self.chance):
            return f"{told} (too few samples)"
        if self.chance < SURE:
            return f"{told}, significant"
        return "as the baseline" if abs(ratio - 1) < 0.05 else f"{told}, not significant"

    @property
    def sure(self) -> bool:
        """Whether it is other than before."""
        return bool(np.isfinite(self.chance) and self.chance < SURE)


def usual_hours(before: Float64s, hours: int) -> Float64s:
    """What each of so many hours after `before` usually has: the median of the same hours of the weeks before; nan
    where there are none. before: (n,) whole weeks of hours.
    """
    weeks = before.size // _WEEK
    if not weeks:
        return np.full(hours, np.nan)
    by_week = before[before.size - weeks * _WEEK :].reshape(weeks, _WEEK)
    known = ~np.isnan(by_week).all(axis=0)
    found = np.full(_WEEK, np.nan)
    found[known] = np.nanmedian(by_week[:, known], axis=0)
    return np.asarray(np.resize(found, hours) if hours else found[:0])


def change_of(before: Float64s, now: Float64s, *, summed: bool) -> Change:
    """The change of hourly values; nan where nothing is known. summed: the value of a period is a sum of its hours."""
    usual = usual_hours(before, now.size)
    both = np.isfinite(usual) & np.isfinite(now)
    if not both.any():
        return Change(float("nan"), float("nan"))
    told = float(usual[both].sum() if summed else np.median(usual[both]))
    more = np.where(both, now - usual, np.nan)
    quarters = more[: more.size // _QUARTER * _QUARTER].reshape(-1, _QUARTER)
    quarters = quarters[np.isfinite(quarters).any(axis=1)]
    if quarters.shape[0] < _FEW:
        return Change(told, float("nan"))
    means = np.nanmean(quarters, axis=1)
    if not means.any():
        return Change(told, 1.0)
    from scipy.stats import wilcoxon

    return Change(told, float(wilcoxon(means).pvalue))
