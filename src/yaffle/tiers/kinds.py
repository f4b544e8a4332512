"""What kind of request an exchange is, and the values in it: "GET /search?id=17" is of the kind "GET /search?id=…",
with the value 17.

Two requests that belong together often carry the same value in places that are learnt; so values are kept by place.
"""

import re
from typing import NamedTuple
from zlib import crc32

import numpy as np

from yaffle.arrays import Array
from yaffle.exchanges.labels import grouped
from yaffle.tiers.label_scan import scan
from yaffle.tiers.watch import Watch

PLACES = 3  # values of a request that are kept
_AT_ONCE = 50_000  # requests that are read, until it is asked whether to go on
_FEW = 5_000  # requests that are read one by one
_VALUES = re.compile(r"(?<==)[^&#\s]+|\d+|'[^']*'")


class Asked(NamedTuple):
    """What was asked by requests, one after another."""

    protocols: list[str]
    labels: list[str]
    beside: dict[int, tuple[str, ...]]  # values of some of them that do not stand in the label; they come first

    def part(self, begin: int, end: int) -> "Asked":
        """Some of them."""
        beside = {k - begin: held for k, held in self.beside.items() if begin <= k < end}
        return Asked(self.protocols[begin:end], self.labels[begin:end], beside)


def values_in(label: str) -> list[str]:
    """Those of a label, in order: what follows an equals sign, numbers, quoted texts."""
    return [found.strip("'") for found in _VALUES.findall(label)[:PLACES]]


def _kind(protocol: str, label: str) -> int:
    return crc32(f"{protocol} {grouped(protocol, label)}".encode())


def _numbers(texts: tuple[str, ...]) -> list[int]:
    return [1 + crc32(text.encode()) for text in texts[:PLACES]]


def one_by_one(asked: Asked) -> tuple[Array, Array]:
    """`kinds_of`, a request at a time."""
    known: dict[tuple[str, str], tuple[int, list[int]]] = {}
    kinds, values = np.zeros(len(asked.labels), np.int64), np.zeros((len(asked.labels), PLACES), np.uint64)
    for k, key in enumerate(zip(asked.protocols, asked.labels, strict=True)):
        if key not in known:
            known[key] = _kind(*key), _numbers(tuple(values_in(key[1])))
        kinds[k], held = known[key]
        held = [*_numbers(asked.beside.get(k, ())), *held][:PLACES]
        values[k, : len(held)] = held
    return kinds, values


def all_at_once(asked: Asked) -> tuple[Array, Array]:
    """`kinds_of`, of many: labels without figures that are the same are read in Python once."""
    plain = np.array([label.isascii() for label in asked.labels], bool)
    rows = np.flatnonzero(plain)
    seed = {protocol: crc32(protocol.encode()) for protocol in set(asked.protocols)}
    seeds = np.array([seed[asked.protocols[k]] for k in rows.tolist()], np.uint64)
    outlines, found = scan([asked.labels[k] for k in rows.tolist()], seeds, PLACES)
    _, first, number = np.unique(outlines, return_index=True, return_inverse=True)
    of_outline = [_kind(asked.protocols[k], asked.labels[k]) for k in rows[first].tolist()]
    kinds, values = np.zeros(plain.size, np.int64), np.zeros((plain.size, PLACES), np.uint64)
    kinds[rows], values[rows] = np.array(of_outline, np.int64)[number.reshape(-1)], found
    others = sorted({*np.flatnonzero(~plain).tolist(), *asked.beside})
    beside = {k: asked.beside[row] for k, row in enumerate(others) if row in asked.beside}
    kinds[others], values[others] = one_by_one(
        Asked([asked.protocols[k] for k in others], [asked.labels[k] for k in others], beside)
    )
    return kinds, values


def kinds_of(asked: Asked, watch: Watch) -> tuple[Array, Array]:
    """(kind, values) of requests: int64 (n,), and uint64 (n, PLACES) with 0 where there is none. The number of a
    kind is made of its text alone. Raises Cancelled where `watch` says so.
    """
    count = len(asked.labels)
    kinds, values = np.zeros(count, np.int64), np.zeros((count, PLACES), np.uint64)
    for begin in range(0, count, _AT_ONCE):
        watch.went(0)
        end = min(count, begin + _AT_ONCE)
        read = one_by_one if count <= _FEW else all_at_once
        kinds[begin:end], values[begin:end] = read(asked.part(begin, end))
    return kinds, values
