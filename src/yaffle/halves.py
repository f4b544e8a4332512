"""Long columns by two threads: kernels and arrays let go of the interpreter."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from yaffle.arrays import Int64s2

T = TypeVar("T")
_LEAST = 100_000  # rows; of fewer another thread is not worth its beginning


def in_halves(work: Callable[[slice], T], size: int) -> list[T]:
    """What the work gives of the first half of so many rows and of the second, each by a thread of its own; of all of
    them where they are few.
    """
    if size < _LEAST:
        return [work(slice(0, size))]
    with ThreadPoolExecutor(1) as other:
        later = other.submit(work, slice(size // 2, size))
        return [work(slice(0, size // 2)), later.result()]


def sum_of_halves(work: Callable[[slice], Int64s2], size: int) -> Int64s2:
    """The same, added up."""
    whole, *more = in_halves(work, size)
    for one in more:
        whole += one
    return whole
