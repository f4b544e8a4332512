"""The type of columns: an array whose type and shape its docstring gives."""

from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]


def staggered(capacity: int, dtype: Any, place: int) -> Array:
    """An empty array that begins at another offset within a page than those with other places.

    Large arrays begin at the same offset in a page, so that one row of twenty columns would fall into one set of the
    cache, which holds eight.
    """
    size = np.dtype(dtype).itemsize
    skipped = place * 5 * 64 % 4096
    raw = np.empty(capacity * size + 4096 + 64, np.uint8)
    start = (skipped - raw.ctypes.data) % 4096
    return raw[start : start + capacity * size].view(dtype)
