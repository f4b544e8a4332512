"""Extent: who changed and who did not, ranked by how well each group tells the changed from the unchanged.

A row is changed where its value lies beyond what was usual before for its own kind (the 95th percentile of the rows of
the same kind). How well a group separates is its informedness (Youden 1950): the share of changed rows that lie in it,
plus the share of unchanged rows that do not, less one. 1 says: all of what changed is in here, and nothing else is.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.capture.addresses import Labels
from yaffle.normal.comparison import Comparison, compare

_USUAL = 0.95
_LEAST_BEFORE = 5  # Rows of a kind before, without which what is usual is taken of all.
_CHANGED_RATIO = 1.25


@dataclass(frozen=True)
class GroupExtent:
    """One group of one dimension."""

    dimension: str
    label: str
    comparison: Comparison
    changed: int  # rows after that are beyond what was usual
    rows: int  # rows after
    separates: float  # -1 to 1
    amounts: tuple[float, float]  # before and after, to be shown
    whole: bool = False  # the amounts are all there was, not a sample of it: no test is needed to say that they differ

    @property
    def suffers(self) -> bool:
        """Whether its measure rose for sure and by enough to be felt."""
        return self.comparison.sure and self.comparison.difference > 0 and self.comparison.ratio >= _CHANGED_RATIO

    @property
    def words(self) -> str:
        """What it is, as the user reads it."""
        if self.whole:
            return _change(*self.amounts)
        if not self.comparison.counts[0]:
            return "new"
        if not self.comparison.counts[1]:
            return "gone"
        if self.comparison.few:
            return "too few to tell"
        if self.suffers:
            return "worse"
        return (
            "better"
            if self.comparison.sure and self.comparison.difference < 0 and self.comparison.ratio <= 1 / _CHANGED_RATIO
            else "unchanged"
        )


def _change(before: float, after: float) -> str:
    if not before or not after:
        return "new" if after else "gone"
    return "more" if after >= _CHANGED_RATIO * before else "less" if before >= _CHANGED_RATIO * after else "unchanged"


def changed_rows(values: Float64s, before: Bools, kind: Int64s) -> Bools:
    """Whether each row lies beyond what was usual before for its kind. before: bool (n,); kind: small numbers (n,)."""
    if not before.any():
        return np.zeros(values.size, bool)
    everywhere = np.quantile(values[before], _USUAL)
    limits = np.full(int(kind.max(initial=-1)) + 1, everywhere)
    order = np.argsort(kind[before], kind="stable")
    own, sorted_values = kind[before][order], values[before][order]
    numbers, starts = np.unique(own, return_index=True)
    for number, first, stop in zip(numbers.tolist(), starts.tolist(), [*starts[1:].tolist(), own.size], strict=True):
        if stop - first >= _LEAST_BEFORE:
            limits[number] = np.quantile(sorted_values[first:stop], _USUAL)
    return values > limits[kind]


def extent(
    values: Float64s, before: Bools, after: Bools, kind: Int64s, dimensions: dict[str, Labels]
) -> list[GroupExtent]:
    """Every group of every dimension, those that separate best first.

    values: (n,), no nan; before, after: bool (n,).
    """
    if not values.size:
        return []
    changed = changed_rows(values, before, kind)
    hit, fine = after & changed, after & ~changed
    hits, fines = max(1, int(hit.sum())), max(1, int(fine.sum()))
    found = []
    for dimension, labels in dimensions.items():
        count = len(labels.texts)
        in_hit, in_fine = (
            np.bincount(labels.codes[hit], minlength=count),
            np.bincount(labels.codes[fine], minlength=count),
        )
        order = np.argsort(labels.codes, kind="stable")
        starts = np.searchsorted(labels.codes[order], np.arange(count + 1))
        for k, label in enumerate(labels.texts):
            rows = order[starts[k] : starts[k + 1]]
            sides = compare(values[rows[before[rows]]], values[rows[after[rows]]])
            if any(sides.counts):
                separates = in_hit[k] / hits + (1 - in_fine[k] / fines) - 1 if hit.any() else 0.0
                found.append(
                    GroupExtent(
                        dimension,
                        label,
                        sides,
                        int(in_hit[k]),
                        int(in_hit[k] + in_fine[k]),
                        float(separates),
                        sides.medians,
                    )
                )
    return sorted(found, key=lambda g: (-round(g.separates, 6), g.rows))
