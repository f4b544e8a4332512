"""What is read now and then, from reading to reading: how long after the one before, and by how much it rose."""

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Bools, Int64s

SPAN = "span_ns"
_MOST_CODES = 1 << 30  # of keys together, so that one more does not leave 64 bits


class Steps:
    """Which row follows which. keys: columns of n rows that together say of what a row is a reading; times_ns: (n,)."""

    def __init__(self, keys: Sequence[pa.Array | pa.ChunkedArray], times_ns: Array) -> None:
        self._times_ns = times_ns
        codes = np.zeros(times_ns.size, np.int64)
        for key in keys:
            own = _codes(key)
            if int(codes.max(initial=0)) >= _MOST_CODES:
                codes = np.unique(codes, return_inverse=True)[1]
            codes = codes * (int(own.max(initial=0)) + 1) + own
        in_order = times_ns.size == 0 or bool((times_ns[1:] >= times_ns[:-1]).all())
        order = np.argsort(codes, kind="stable") if in_order else np.lexsort((times_ns, codes))
        follows = codes[order][1:] == codes[order][:-1]
        self._rows, self._before = order[1:][follows], order[:-1][follows]

    @property
    def span(self) -> pa.Array:
        """Since the reading before, ns; unknown where there is none."""
        return self._scattered(self._times_ns[self._rows] - self._times_ns[self._before], self._rows)

    def rise(self, values: Array, known: Bools) -> pa.Array:
        """By how much values, (n,), rose; unknown where either is, and where they fell: what counts began anew then, or
        wrapped. Whole numbers are subtracted as such.
        """
        rows, before = self._rows, self._before
        fit = known[rows] & known[before]
        rows, before = rows[fit], before[fit]
        up = values[rows] >= values[before]
        rows, before = rows[up], before[up]
        return self._scattered((values[rows] - values[before]).astype(np.float64), rows)

    def _scattered(self, values: Array, rows: Int64s) -> pa.Array:
        found = np.zeros(self._times_ns.size, values.dtype)
        found[rows] = values
        unknown = np.ones(self._times_ns.size, bool)
        unknown[rows] = False
        return pa.array(found, mask=unknown)


def _codes(key: Any) -> Int64s:
    if isinstance(key, pa.ChunkedArray):
        key = key.combine_chunks()
    return np.asarray(key.dictionary_encode().indices, np.int64)
