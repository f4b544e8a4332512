"""Numbers of several octets, the first one the highest, in compiled loops."""

from yaffle.arrays import Uint8s
from yaffle.kernels import helper, int64


@helper
def half(data: Uint8s, at: int) -> int:
    """16 bits."""
    return (int64(data[at]) << 8) | int64(data[at + 1])


@helper
def word(data: Uint8s, at: int) -> int:
    """32 bits."""
    return half(data, at) << 16 | half(data, at + 2)


@helper
def hardware(data: Uint8s, at: int) -> int:
    """A hardware address: 48 bits."""
    return half(data, at) << 32 | word(data, at + 2)


@helper
def long_word(data: Uint8s, at: int) -> int:
    """64 bits."""
    return word(data, at) << 32 | word(data, at + 4)
