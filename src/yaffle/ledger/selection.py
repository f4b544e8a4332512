"""The value at a place of what would be sorted, without sorting."""

from yaffle.arrays import Int64s
from yaffle.kernels import kernel


@kernel
def select(values: Int64s, low: int, high: int, place: int) -> int:
    """Reorders values[low:high] so that `place` holds what it would if they were sorted, and returns that (Hoare
    1961).
    """
    high -= 1
    while high > low:
        pivot = values[(low + high) >> 1]
        i, k = low, high
        while i <= k:
            while values[i] < pivot:
                i += 1
            while values[k] > pivot:
                k -= 1
            if i <= k:
                values[i], values[k] = values[k], values[i]
                i += 1
                k -= 1
        if place <= k:
            high = k
        elif place >= i:
            low = i
        else:
            break
    return values[place]
