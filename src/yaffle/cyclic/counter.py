"""Cycle counters that packets of a stream carry, where a protocol tells where, or where one is learnt.

In cyclic frames of EtherType 0x8892 (IEC 61158-6-10) the last four octets are a cycle counter in steps of 31.25 us and
two states. Elsewhere a counter is learnt: a place in the packets at which nine of ten rise by the same step, modulo the
width of what stands there.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Int64s, Int64s2, Uint8s, Uint16s
from yaffle.kernels import kernel

_CYCLIC_LOW, _CYCLIC_HIGH = 0x0100, 0xFBFF  # frame identifiers of cyclic data
_TRAILER = 4
_LOOKED_AT = 64  # octets of a packet in which a counter may stand
_LEARN_FROM = 1024  # packets: an octet that counts wraps four times
_SURE = 0.9
_WIDE, _NARROW = 1 << 16, 1 << 8


@dataclass(frozen=True)
class Counter:
    """Where a counter stands (octets from the beginning, or the end where negative), and by what it rises a cycle."""

    at: int
    octets: int
    little_endian: bool
    step: int
    known: bool  # told by the protocol, not learnt

    @property
    def modulus(self) -> int:
        """What it counts to."""
        return _WIDE if self.octets == 2 else _NARROW

    @property
    def words(self) -> str:
        """As people read it."""
        if self.known:
            return "cycle counter of the protocol"
        order = ", lowest octet first" if self.little_endian else ""
        return f"counter learnt at octet {self.at} ({8 * self.octets} bits{order}, +{self.step} a cycle)"


@kernel
def read_octets(data: Uint8s, begin: Int64s, end: Int64s, at: int, out: Int64s2) -> None:
    """Octets of some packets from a place on (from their end where negative) into `out` (n, octets); -1 beyond."""
    for row in range(begin.size):
        base = begin[row] + at if at >= 0 else end[row] + at
        for k in range(out.shape[1]):
            here = base + k
            out[row, k] = data[here] if begin[row] <= here < min(end[row], data.size) else -1


@dataclass(frozen=True)
class Carried:
    """What the packets of a stream carry: of each the source that holds it, and from where to where it lies there."""

    sources: Sequence[Array | None]
    source: Uint16s
    begin: Int64s
    end: Int64s

    def octets(self, at: int, count: int, most: int | None = None) -> Int64s2:
        """So many octets of each packet, or of the first ones, int64 (n, count); -1 where there are none."""
        found = np.full((self.begin[:most].size, count), -1)
        for number in np.unique(self.source[:most]).tolist():
            data, own = self.sources[number], np.flatnonzero(self.source[:most] == number)
            if data is not None:
                part = np.zeros((own.size, count), np.int64)
                read_octets(data, self.begin[own], self.end[own], at, part)
                found[own] = part
        return found


def told_counter(identifier: int, carried: Carried) -> Counter | None:
    """The counter of cyclic frames of EtherType 0x8892; None where the frames are none, or are cut off."""
    if not _CYCLIC_LOW <= identifier <= _CYCLIC_HIGH:
        return None
    step, part = _step(values(Counter(-_TRAILER, 2, False, 1, True), carried, _LEARN_FROM), _WIDE)
    return Counter(-_TRAILER, 2, False, step, True) if part >= _SURE / 2 and step else None


def learnt_counter(carried: Carried) -> Counter | None:
    """The place that rises most evenly: an octet that wraps shows whether the one beside it belongs to it. Two octets
    before one, because they can be mistaken less.
    """
    best: tuple[float, Counter | None] = (_SURE, None)
    octets = carried.octets(0, _LOOKED_AT, _LEARN_FROM)
    high, low = octets[:, :-1], octets[:, 1:]
    there = (high >= 0) & (low >= 0)
    for size, little, found in (
        (2, False, np.where(there, high << 8 | low, -1)), (2, True, np.where(there, low << 8 | high, -1)),
        (1, False, octets),
    ):  # fmt: skip
        modulus = _WIDE if size == 2 else _NARROW
        rises = (found[1:] - found[:-1]) % modulus
        middle = np.median(rises, axis=0, keepdims=True).astype(np.int64)
        same = (rises == middle) & (found[1:] >= 0) & (found[:-1] >= 0)
        part = np.where(middle[0] % _NARROW != 0, same.mean(axis=0), 0.0)  # The lowest octet counts.
        place = int(np.argmax(part))
        if part[place] > best[0]:
            best = float(part[place]), Counter(place, size, little, int(middle[0, place]), False)
    return best[1]


def values(counter: Counter, carried: Carried, most: int | None = None) -> Int64s:
    """What the counter said in each packet, or in the first ones; -1 where it is not there."""
    octets = carried.octets(counter.at, counter.octets, most)
    if counter.octets == 1:
        return octets[:, 0]
    high, low = (octets[:, 1], octets[:, 0]) if counter.little_endian else (octets[:, 0], octets[:, 1])
    return np.where((high >= 0) & (low >= 0), high << 8 | low, -1)


def _step(found: Int64s, modulus: int) -> tuple[int, float]:
    """(the rise that is most frequent, its share)."""
    if found.size < 2:
        return 0, 0.0
    rises, count = np.unique((found[1:] - found[:-1]) % modulus, return_counts=True)
    best = int(np.argmax(count))
    return int(rises[best]), float(count[best] / (found.size - 1))
