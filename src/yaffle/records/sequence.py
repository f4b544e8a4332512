"""How much an exporter's numbers lack: counted with datagrams that overtake each other, boots and wraps in mind."""

from array import array
from collections.abc import Sequence as Several

import numpy as np

from yaffle.arrays import Int64s

_WHOLE = 1 << 32
MOST_KEPT = 4096  # Datagrams whose order may still be mended; older ones are settled.
_A_BOOT = 100_000  # A step by more than so many is a new count, not a late or a lost datagram.


class Sequence:
    """Numbers with how much each datagram carries; `lost` works out what is missing between the lowest and the
    highest.
    """

    def __init__(self) -> None:
        self._numbers, self._carried = array("q"), array("q")
        self._base = 0  # datagrams that are no longer kept
        self._settled = 0  # lost among those
        self.counts_the_last = False

    def take(self, number: int, carried: int) -> int:
        """One datagram; returns its place, by which what it carries can be added to later."""
        if len(self._numbers) >= MOST_KEPT:
            self._settled = self.lost
            self._base += len(self._numbers) - 1
            self._numbers, self._carried = self._numbers[-1:], self._carried[-1:]
        self._numbers.append(number)
        self._carried.append(carried)
        return self._base + len(self._numbers) - 1

    def add(self, place: int, carried: int) -> None:
        """A datagram carries more than was known; one that is settled stays as it is."""
        if place >= self._base:
            self._carried[place - self._base] += carried

    def kept(self, place: int) -> tuple[int, int] | None:
        """Number and load of a datagram; None where it is settled."""
        return (self._numbers[place - self._base], self._carried[place - self._base]) if place >= self._base else None

    @property
    def lost(self) -> int:
        """What is missing."""
        numbers, carried = np.array(self._numbers, np.int64), np.array(self._carried, np.int64)
        return self._settled + _lost(numbers, carried, self.counts_the_last)

    def look_how_it_counts(self) -> None:
        """Tells whether numbers are those of the last record of each datagram instead of the first: then more steps
        fit that way.
        """
        numbers, carried = np.array(self._numbers, np.int64), np.array(self._carried, np.int64)
        steps = np.diff(numbers) % _WHOLE
        self.counts_the_last = bool((steps == carried[1:]).sum() > (steps == carried[:-1]).sum())


def _lost(numbers: Int64s, carried: Int64s, at_end: bool) -> int:
    if numbers.size < 2:
        return 0
    steps = (np.diff(numbers) + _WHOLE // 2) % _WHOLE - _WHOLE // 2
    begun = np.concatenate([[0], np.cumsum(np.abs(steps) > _A_BOOT)])
    place = numbers[0] + np.concatenate([[0], np.cumsum(steps)])
    total = 0
    for boot in np.unique(begun).tolist():
        own = begun == boot
        by = np.lexsort(
            (-carried[own], place[own])
        )  # A message of templates alone has the number of the one behind it.
        at, first = np.unique(place[own][by], return_index=True)
        size = carried[own][by][first]
        gaps = np.diff(at) - (size[1:] if at_end else size[:-1])
        total += int(gaps[gaps > 0].sum())
    return total


def lost_together(kept: Several[tuple[int, int]]) -> int:
    """What would be missing if several shared one count. kept: number and load of each datagram, as they came."""
    columns = np.array(kept, np.int64).reshape(-1, 2)
    return _lost(columns[:, 0], columns[:, 1], False)
