"""Cycle counters that packets of a stream carry, where a protocol tells where, or where one is learnt.

In cyclic frames of EtherType 0x8892 (IEC 61158-6-10) the last four octets are a cycle counter in steps of 31.25 us and
two states. Elsewhere a counter is learnt: a place in the packets at which nine of ten rise by the same step, modulo the
width of what stands there.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import kernel

TICK_NS = 31_250  # of a cycle counter of IEC 61158-6-10
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
def read_octets(data, begin, end, at, out):  # type: ignore[no-untyped-def]
    """Octets of some packets from a place on (from their end where negative) into `out` (n, octets); -1 beyond."""
    for row in range(begin.size):
        base = begin[row] + at if at >= 0 else end[row] + at
        for k in range(out.shape[1]):
            here = base + k
            out[row, k] = data[here] if begin[row] <= here < min(end[row], data.size) else -1


def told_counter(identifier: int, data: Array, begin: Array, end: Array) -> Counter | None:
    """The counter of cyclic frames of EtherType 0x8892; None where the frames are none, or are cut off."""
    if not _CYCLIC_LOW <= identifier <= _CYCLIC_HIGH:
        return None
    found = values(Counter(-_TRAILER, 2, False, 1, True), data, begin[:_LEARN_FROM], end[:_LEARN_FROM])
    step, part = _step(found, _WIDE)
    return Counter(-_TRAILER, 2, False, step, True) if part >= _SURE / 2 and step else None


def learnt_counter(data: Array, begin: Array, end: Array) -> Counter | None:
    """The place that rises most evenly: an octet that wraps shows whether the one beside it belongs to it. Two octets
    before one, because they can be mistaken less.
    """
    best: tuple[float, Counter | None] = (_SURE, None)
    octets = np.zeros((min(begin.size, _LEARN_FROM), _LOOKED_AT), np.int64)
    read_octets(data, begin[: octets.shape[0]], end[: octets.shape[0]], 0, octets)
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


def values(counter: Counter, data: Array, begin: Array, end: Array) -> Array:
    """What the counter said in each packet; -1 where it is not there."""
    octets = np.zeros((begin.size, counter.octets), np.int64)
    read_octets(data, begin, end, counter.at, octets)
    if counter.octets == 1:
        return octets[:, 0]
    high, low = (octets[:, 1], octets[:, 0]) if counter.little_endian else (octets[:, 0], octets[:, 1])
    return np.where((high >= 0) & (low >= 0), high << 8 | low, -1)


def _step(found: Array, modulus: int) -> tuple[int, float]:
    """(the rise that is most frequent, its share)."""
    if found.size < 2:
        return 0, 0.0
    rises, count = np.unique((found[1:] - found[:-1]) % modulus, return_counts=True)
    best = int(np.argmax(count))
    return int(rises[best]), float(count[best] / (found.size - 1))
