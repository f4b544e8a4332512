"""Two samples of one measure side by side: by how much they differ, and how sure that is.

Certainty is the two-sided rank test of Mann and Whitney (1947); the difference is the median of all differences between
one and the other (Hodges and Lehmann 1963), which fits that test; its size is how often one of the second exceeds one
of the first (0.5: no difference).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Float64s
from yaffle.quantiles import median, p95

FEW = 8  # With fewer on a side a rank test can hardly be sure of anything.
SURE = 0.01
_MOST_PAIRS = 4_000_000  # Differences that are looked at; larger samples are thinned evenly for it.


@dataclass(frozen=True)
class Comparison:
    """Before and after. chance: how likely so large a difference is where there is none; nan where a side is empty."""

    counts: tuple[int, int]
    medians: tuple[float, float]
    p95: tuple[float, float]
    difference: float  # after less before
    exceeds: float  # how often one after exceeds one before; ties count half
    chance: float

    @property
    def few(self) -> bool:
        """Whether there are too few to be sure."""
        return min(self.counts) < FEW

    @property
    def sure(self) -> bool:
        """Whether they differ, as far as the test can tell."""
        return not self.few and self.chance < SURE

    @property
    def ratio(self) -> float:
        """Median after by median before; nan where that is none."""
        return self.medians[1] / self.medians[0] if self.medians[0] else float("nan")

    @property
    def certainty(self) -> str:
        """How sure, in words."""
        if not all(self.counts):
            return "nothing to compare with" if self.counts[1] else "nothing to compare"
        if self.few:
            return f"too few to be sure ({self.counts[0]} and {self.counts[1]})"
        if self.sure:
            return "significant (p < 0.0001)" if self.chance < SURE / 100 else "significant (p < 0.01)"
        return "not significant"


def _thinned(values: Float64s, most: int) -> Float64s:
    return values if values.size <= most else np.sort(values)[np.linspace(0, values.size - 1, most).astype(int)]


def compare(before: Float64s, after: Float64s) -> Comparison:
    """Compares two samples; nan is left out."""
    from scipy.stats import mannwhitneyu

    one, two = (np.asarray(side, np.float64)[~np.isnan(side)] for side in (before, after))
    counts = (one.size, two.size)
    none = (float("nan"), float("nan"))
    if not one.size or not two.size:
        medians = tuple(median(side) for side in (one, two))
        return Comparison(counts, (medians[0], medians[1]), none, float("nan"), float("nan"), float("nan"))
    test = mannwhitneyu(
        two,
        one,
        alternative="two-sided",
        method=(
            "auto"
            if min(counts) > FEW
            else "exact"
            if np.unique(np.concatenate([one, two])).size == sum(counts)
            else "asymptotic"
        ),
    )
    most = int(_MOST_PAIRS**0.5)
    difference = float(np.median(_thinned(two, most)[:, None] - _thinned(one, most)[None, :]))
    chance = float(test.pvalue) if not np.isnan(test.pvalue) else 1.0
    quantiles = [(median(side), p95(side)) for side in (one, two)]
    return Comparison(
        counts,
        (quantiles[0][0], quantiles[1][0]),
        (quantiles[0][1], quantiles[1][1]),
        difference,
        float(test.statistic) / (one.size * two.size),
        chance,
    )


def without_best_and_worst(runs: Sequence[float]) -> list[float]:
    """Repeated runs, the lowest and the highest dropped; fewer than four stay as they are: too little would be left."""
    return sorted(runs)[1:-1] if len(runs) >= 4 else list(runs)
