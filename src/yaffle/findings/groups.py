"""Rows by what they have in common, where that is little: in one pass, not by sorting."""

import numpy as np

from yaffle.arrays import Int32s, Int64s
from yaffle.kernels import int64, kernel, uint64

_FEW = 1 << 12  # places, which suffice for most; a table for as many keys as there are rows is far away in memory
_MIX = uint64(0x9E3779B97F4A7C15)


@kernel
def _numbered(keys: Int64s, table: Int32s, held: Int64s, group: Int64s, distinct: Int64s) -> int:
    """Fills group, the number of each key by when it came first, and the distinct keys; gives how many there are.

    table: -1 everywhere, a power of two; held: of the same size. Where half of it is full there are too many: -1.
    """
    mask, found = int64(table.size - 1), 0
    for i in range(keys.size):
        key = keys[i]
        place = int64((uint64(key) * _MIX) >> uint64(20)) & mask
        while table[place] >= 0 and held[place] != key:
            place = (place + 1) & mask
        if table[place] < 0:
            if 2 * found >= table.size:
                return -1
            table[place], held[place], distinct[found] = found, key, key
            found += 1
        group[i] = table[place]
    return found


@kernel
def laid(group: Int64s, place: Int64s, order: Int64s) -> None:
    """Fills order with rows group by group. place: where the next row of each group goes."""
    for i in range(group.size):
        order[place[group[i]]] = i
        place[group[i]] += 1


def grouped(keys: Int64s) -> tuple[Int64s, Int64s]:
    """(order, begins): rows by their keys (int64), the least first, equal ones in the order in which they stand, as a
    stable sort gives them; and where each key begins in it, with the end of the last.
    """
    keys = keys.astype(np.int64, copy=False)
    group, distinct = np.empty(keys.size, np.int64), np.empty(keys.size, np.int64)
    size, count = _FEW, -1
    while count < 0:
        count = _numbered(keys, np.full(size, -1, np.int32), np.empty(size, np.int64), group, distinct)
        size = 1 << max(4, int(2 * keys.size).bit_length())
    by_key = np.argsort(distinct[:count])
    begins = np.concatenate([[0], np.cumsum(np.bincount(group, minlength=count)[by_key])]).astype(np.int64)
    place, order = np.empty(count, np.int64), np.empty(keys.size, np.int64)
    place[by_key] = begins[:-1]
    laid(group, place, order)
    return order, begins
