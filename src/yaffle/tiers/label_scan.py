"""Labels of many requests read at once, without Python: the values in them, and a number under which those of one kind
fall together. `kinds.values_in` says what a value is.
"""

from zlib import crc32

import numpy as np

from yaffle.arrays import Bools, Int64s, Uint8s, Uint64s, Uint64s2
from yaffle.kernels import helper, kernel, uint32, uint64

_SEED, _PRIME = uint64(0xCBF29CE484222325), uint64(0x100000001B3)  # Fowler, Noll and Vo's hash, 64 bit
_FIGURES = uint64(1)  # stands for a run of figures; no text holds it
_EQUALS, _QUOTE, _AMPERSAND, _HASH, _DOLLAR = b"='&#$"
_CRC = np.array([crc32(bytes([k ^ 255])) ^ 0xFF000000 for k in range(256)], np.uint32)  # its table
_ALL, _BYTE = uint32(0xFFFFFFFF), uint32(8)


@helper
def _is_figure(octet: int) -> bool:
    return 48 <= octet <= 57


@helper
def _is_space(octet: int) -> bool:
    return octet == 32 or 9 <= octet <= 13 or 28 <= octet <= 31


@helper
def _value_end(octets: Uint8s, k: int, begin: int, end: int) -> int:
    """Where a value that begins at `k` ends; `k` where none begins there."""
    stop = k
    if k > begin and octets[k - 1] == _EQUALS:
        while stop < end and octets[stop] != _AMPERSAND and octets[stop] != _HASH and not _is_space(octets[stop]):
            stop += 1
        if stop > k:
            return stop
    while stop < end and _is_figure(octets[stop]):
        stop += 1
    if stop == k and octets[k] == _QUOTE:
        for found in range(k + 1, end):
            if octets[found] == _QUOTE:
                return found + 1
    return stop


@helper
def _number_of(octets: Uint8s, begin: int, end: int) -> int:
    """CRC-32 (ISO 3309) of a value without the quotes around it, and one."""
    while begin < end and octets[begin] == _QUOTE:
        begin += 1
    while end > begin and octets[end - 1] == _QUOTE:
        end -= 1
    mixed = _ALL
    for k in range(begin, end):
        mixed = (mixed >> _BYTE) ^ _CRC[(mixed ^ uint32(octets[k])) & uint32(255)]
    return uint64(1) + uint64(mixed ^ _ALL)


@helper
def _read_values(octets: Uint8s, begin: int, end: int, values: Uint64s) -> None:
    """Fills the first values of a label."""
    k, count = begin, 0
    while k < end and count < values.size:
        stop = _value_end(octets, k, begin, end)
        if stop > k:
            values[count] = _number_of(octets, k, stop)
            count += 1
        k = max(stop, k + 1)


@helper
def _outline(octets: Uint8s, begin: int, end: int, seed: int) -> int:
    """A number of the label with runs of figures as one sign; with all its figures where it quotes by dollars, because
    figures may be the quotes' own.
    """
    whole = False
    for k in range(begin, end):
        whole = whole or octets[k] == _DOLLAR
    mixed = seed
    for k in range(begin, end):
        figure = _is_figure(octets[k]) and not whole
        if not figure:
            mixed = (mixed ^ uint64(octets[k])) * _PRIME
        elif k == begin or not _is_figure(octets[k - 1]):
            mixed = (mixed ^ _FIGURES) * _PRIME
    return mixed


@kernel
def _scan(
    octets: Uint8s, begin: Int64s, end: Int64s, seeds: Uint64s, outlines: Uint64s, values: Uint64s2, plain: Bools
) -> None:
    for x in range(outlines.size):
        plain[x] = True
        for k in range(begin[x], end[x]):
            plain[x] = plain[x] and octets[k] < 128
        if plain[x]:
            outlines[x] = _outline(octets, begin[x], end[x], seeds[x])
            _read_values(octets, begin[x], end[x], values[x])


def scan(octets: Uint8s, begin: Int64s, end: Int64s, seeds: Uint64s, places: int) -> tuple[Uint64s, Uint64s2, Bools]:
    """(outlines, values, plain) of labels that stand somewhere in octets, nothing where `end` does not lie behind
    `begin`: uint64 (n,), the same where two differ in figures alone and their `seeds` (uint64) are the same; uint64
    (n, places), 0 where there is none; whether it is ASCII: of others nothing is read.
    """
    outlines, values = np.empty(begin.size, np.uint64), np.zeros((begin.size, places), np.uint64)
    plain, octets = np.empty(begin.size, bool), np.asarray(octets)[:]
    octets.flags.writeable = False  # of one type, wherever they come from
    mixed = (seeds * _PRIME ^ _SEED).astype(np.uint64, copy=False)
    _scan(octets, begin, end, mixed, outlines, values, plain)
    return outlines, values, plain
