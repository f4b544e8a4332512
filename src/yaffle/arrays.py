"""The type of columns: an array whose type and shape its docstring gives."""

import itertools
from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]


def skipped(place: int) -> int:
    """Bytes within a page before the array of this place begins."""
    return place * 5 * 64 % 4096


def staggered(capacity: int, dtype: Any, place: int) -> Array:
    """An empty array that begins at another offset within a page than those with other places.

    Large arrays begin at the same offset in a page, so that one row of twenty columns would fall into one set of the
    cache, which holds eight.
    """
    size = np.dtype(dtype).itemsize
    raw = np.empty(capacity * size + 4096 + 64, np.uint8)
    start = (skipped(place) - raw.ctypes.data) % 4096
    return raw[start : start + capacity * size].view(dtype)


def runs_of(starts: Array, most: int) -> list[tuple[int, int]]:
    """(first, one after the last) of groups in turn that together have about `most` rows.

    starts: int64 (groups + 1), where the rows of each group begin.
    """
    total = starts.size - 1
    if total <= 0:
        return []
    targets = np.arange(most, int(starts[-1]), most)
    cuts = sorted({0, total, *np.searchsorted(starts, targets).tolist()})
    return [(a, b) for a, b in itertools.pairwise(cuts) if b > a]
