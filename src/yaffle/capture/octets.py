"""Numbers of several octets, the first one the highest, in compiled loops.

Places are unsigned: then a place cannot count from the end, and several octets become one step to memory.
"""

from yaffle.arrays import Uint8s
from yaffle.kernels import helper, int64, uint64

_1, _2, _3 = uint64(1), uint64(2), uint64(3)


@helper
def half(data: Uint8s, at: int) -> int:
    """16 bits."""
    k = uint64(at)
    return (int64(data[k]) << 8) | int64(data[k + _1])


@helper
def word(data: Uint8s, at: int) -> int:
    """32 bits."""
    k = uint64(at)
    return (int64(data[k]) << 24) | (int64(data[k + _1]) << 16) | (int64(data[k + _2]) << 8) | int64(data[k + _3])


@helper
def word_from_low(data: Uint8s, at: int) -> int:
    """32 bits, the first octet the lowest."""
    k = uint64(at)
    return (int64(data[k + _3]) << 24) | (int64(data[k + _2]) << 16) | (int64(data[k + _1]) << 8) | int64(data[k])


@helper
def hardware(data: Uint8s, at: int) -> int:
    """A hardware address: 48 bits."""
    return half(data, at) << 32 | word(data, at + 2)


@helper
def long_word(data: Uint8s, at: int) -> int:
    """64 bits."""
    return word(data, at) << 32 | word(data, at + 4)
