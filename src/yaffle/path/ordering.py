"""Orders of millions of packets: numbers that carry their own place are sorted, which is many times quicker than
sorting places by numbers.
"""

import numpy as np

from yaffle.arrays import Float64s, Int64s, Uint64s
from yaffle.kernels import kernel, uint64


@kernel
def _settle(packed: Uint64s, order: Int64s, ids: Uint64s, low: int) -> None:
    """Puts right what agrees in its high bits alone. packed: sorted; low: mask of the bits that hold the place."""
    count = order.size
    start = 0
    while start < count:
        stop = start + 1
        while stop < count and packed[stop] & ~low == packed[start] & ~low:
            stop += 1
        mixed = False
        for k in range(start + 1, stop):
            if ids[order[k]] != ids[order[start]]:
                mixed = True
                break
        if mixed:
            own = order[start:stop].copy()
            order[start:stop] = own[np.argsort(ids[own], kind="mergesort")]
        start = stop


def by_identity(ids: Uint64s) -> Int64s:
    """Places in order of their identities, equal ones in order of place, int64 (n,). ids: uint64 (n,)."""
    low = np.uint64((1 << max(1, (ids.size - 1).bit_length())) - 1)
    packed = (ids & ~low) | np.arange(ids.size, dtype=np.uint64)
    packed.sort()
    order = (packed & low).astype(np.int64)
    _settle(packed, order, ids, uint64(low))
    return order


def by_group(group: Int64s, rank: Int64s) -> Int64s:
    """Places in order of group, then rank, int64 (n,). Both not negative; ranks are distinct."""
    bits = int(rank.max(initial=0)).bit_length()
    if bits + int(group.max(initial=0)).bit_length() > 63:
        return np.lexsort((rank, group))
    place = np.empty(1 << bits if rank.size else 0, np.int64) if bits <= 30 else None
    if place is None:
        return np.lexsort((rank, group))
    place[rank] = np.arange(rank.size)
    packed = (group.astype(np.int64) << bits) | rank
    packed.sort()
    return np.asarray(place[packed & ((1 << bits) - 1)])


def medians(group: Int64s, values: Int64s, count: int) -> Float64s:
    """The upper median of each group's values, float64 (count,); nan for groups without any."""
    found = np.full(count, np.nan)
    if not group.size:
        return found
    least = int(values.min())
    bits = (int(values.max()) - least).bit_length()
    sizes = np.bincount(group, minlength=count)
    starts = np.cumsum(sizes) - sizes
    some = sizes > 0
    middle = (starts + sizes // 2)[some]
    if bits + int(group.max()).bit_length() > 63:
        ordered = values[np.lexsort((values, group))]
    else:
        packed = (group.astype(np.int64) << bits) | (values.astype(np.int64) - least)
        packed.sort()
        ordered = (packed & ((1 << bits) - 1)) + least
    found[some] = ordered[middle]
    return found
