"""The types of columns, by what they hold and over how many dimensions; arrays that begin where they should."""

import itertools
from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]  # of several types, or of one that its docstring gives
_Line = tuple[int]
_Table = tuple[int, int]
_Cube = tuple[int, int, int]

# Numbers in a row; those that end in a digit have as many dimensions.
Bools = np.ndarray[_Line, np.dtype[np.bool_]]
Int8s = np.ndarray[_Line, np.dtype[np.int8]]
Int8s2 = np.ndarray[_Table, np.dtype[np.int8]]
Int32s = np.ndarray[_Line, np.dtype[np.int32]]
Int32s2 = np.ndarray[_Table, np.dtype[np.int32]]
Int64s = np.ndarray[_Line, np.dtype[np.int64]]
Int64s2 = np.ndarray[_Table, np.dtype[np.int64]]
Int64s3 = np.ndarray[_Cube, np.dtype[np.int64]]
Uint8s = np.ndarray[_Line, np.dtype[np.uint8]]
Uint8s2 = np.ndarray[_Table, np.dtype[np.uint8]]
Uint16s = np.ndarray[_Line, np.dtype[np.uint16]]
Uint32s = np.ndarray[_Line, np.dtype[np.uint32]]
Uint64s = np.ndarray[_Line, np.dtype[np.uint64]]
Uint64s2 = np.ndarray[_Table, np.dtype[np.uint64]]
Float64s = np.ndarray[_Line, np.dtype[np.float64]]
Float64s2 = np.ndarray[_Table, np.dtype[np.float64]]
Float64s3 = np.ndarray[_Cube, np.dtype[np.float64]]
Float64s4 = np.ndarray[tuple[int, int, int, int], np.dtype[np.float64]]

# Rows of a declared layout, and one of them, of which types say nothing: each layout names its own beside its fields.
Structs = np.ndarray[_Line, np.dtype[np.void]]
Struct = Any


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
