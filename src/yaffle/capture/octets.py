"""Numbers of several octets, the first one the highest, in compiled loops."""

import numpy as np

from yaffle.kernels import helper


@helper
def half(data, at):  # type: ignore[no-untyped-def]
    """16 bits."""
    return (np.int64(data[at]) << 8) | np.int64(data[at + 1])


@helper
def word(data, at):  # type: ignore[no-untyped-def]
    """32 bits."""
    return half(data, at) << 16 | half(data, at + 2)


@helper
def hardware(data, at):  # type: ignore[no-untyped-def]
    """A hardware address: 48 bits."""
    return half(data, at) << 32 | word(data, at + 2)


@helper
def long_word(data, at):  # type: ignore[no-untyped-def]
    """64 bits."""
    return word(data, at) << 32 | word(data, at + 4)
