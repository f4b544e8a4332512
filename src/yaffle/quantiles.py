"""The one definition of a quantile here: the nearest rank.

The quantile at a share of n values is the least of them that at least that share do not exceed: number ceil(share *
n) of the sorted values, counted from one (Hyndman and Fan 1996, definition 1). So it is always a value that was
measured.
"""

import numpy as np

from yaffle.arrays import Array

MEDIAN_PERCENT, HIGH_PERCENT = 50, 95


def nearest_rank(values: Array, percent: int) -> float:
    """The quantile of some values; NaN of none."""
    if not values.size:
        return float("nan")
    place = max(0, -(-percent * values.size // 100) - 1)
    return float(np.partition(values, place)[place])


def median(values: Array) -> float:
    """The median by nearest rank; NaN of none."""
    return nearest_rank(values, MEDIAN_PERCENT)


def p95(values: Array) -> float:
    """The 95th percentile by nearest rank; NaN of none."""
    return nearest_rank(values, HIGH_PERCENT)
