"""What kind of request an exchange is, and the values in it: "GET /search?id=17" is of the kind "GET /search?id=…",
with the value 17.

Two requests that belong together often carry the same value in places that are learnt; so values are kept by place.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from zlib import crc32

import numpy as np

from yaffle.arrays import Int64s, Uint64s2
from yaffle.exchanges.labels import grouped
from yaffle.texts import Texts
from yaffle.tiers.label_scan import scan
from yaffle.tiers.watch import Watch

PLACES = 3  # values of a request that are kept
_AT_ONCE = 200_000  # requests that are read, until it is asked whether to go on
_FEW = 5_000  # requests that are read one by one
_VALUES = re.compile(r"(?<==)[^&#\s]+|\d+|'[^']*'")


@dataclass(frozen=True)
class Asked:
    """What was asked by requests, one after another."""

    names: list[str]  # of protocols
    protocol: Int64s  # of each request, a place in `names`
    labels: Texts
    label: Int64s  # of each request, a place in `labels`; -1 without
    beside: dict[int, tuple[str, ...]]  # values of some of them that do not stand in the label; they come first

    def part(self, begin: int, end: int) -> "Asked":
        """Some of them."""
        beside = {k - begin: held for k, held in self.beside.items() if begin <= k < end}
        return Asked(self.names, self.protocol[begin:end], self.labels, self.label[begin:end], beside)

    def request(self, k: int) -> tuple[str, str]:
        """(protocol, label) of one of them."""
        label = int(self.label[k])
        return self.names[self.protocol[k]], self.labels[label] if label >= 0 else ""


def values_in(label: str) -> list[str]:
    """Those of a label, in order: what follows an equals sign, numbers, quoted texts."""
    return [found.strip("'") for found in _VALUES.findall(label)[:PLACES]]


def _kind(protocol: str, label: str) -> int:
    return crc32(f"{protocol} {grouped(protocol, label)}".encode())


def _numbers(texts: tuple[str, ...]) -> list[int]:
    return [1 + crc32(text.encode()) for text in texts[:PLACES]]


def one_by_one(asked: Asked, rows: Iterable[int], kinds: Int64s, values: Uint64s2) -> None:
    """`kinds_of`, a request at a time, of some of them."""
    known: dict[tuple[str, str], tuple[int, list[int]]] = {}
    for k in rows:
        key = asked.request(k)
        if key not in known:
            known[key] = _kind(*key), _numbers(tuple(values_in(key[1])))
        kinds[k], held = known[key]
        held = [*_numbers(asked.beside.get(k, ())), *held][:PLACES]
        values[k, : len(held)], values[k, len(held) :] = held, 0


def all_at_once(asked: Asked, kinds: Int64s, values: Uint64s2) -> None:
    """`kinds_of`, of many: labels without figures that are the same are read in Python once."""
    seeds = np.array([crc32(name.encode()) for name in asked.names], np.uint64)
    label = np.maximum(asked.label, 0)
    begin, end = asked.labels.starts[label], np.where(asked.label >= 0, asked.labels.starts[label + 1], 0)
    outlines, found, plain = scan(asked.labels.octets, begin, end, seeds[asked.protocol], PLACES)
    rows = np.flatnonzero(plain)
    _, first, number = np.unique(outlines[rows], return_index=True, return_inverse=True)
    of_outline = [_kind(*asked.request(k)) for k in rows[first].tolist()]
    kinds[rows], values[rows] = np.array(of_outline, np.int64)[number.reshape(-1)], found[rows]
    one_by_one(asked, sorted({*np.flatnonzero(~plain).tolist(), *asked.beside}), kinds, values)


def kinds_of(asked: Asked, watch: Watch) -> tuple[Int64s, Uint64s2]:
    """(kind, values) of requests: int64 (n,), and uint64 (n, PLACES) with 0 where there is none. The number of a
    kind is made of its text alone. Raises Cancelled where `watch` says so.
    """
    count = asked.label.size
    kinds, values = np.zeros(count, np.int64), np.zeros((count, PLACES), np.uint64)
    for begin in range(0, count, _AT_ONCE):
        watch.went(0)
        end = min(count, begin + _AT_ONCE)
        part = asked.part(begin, end), kinds[begin:end], values[begin:end]
        if count <= _FEW:
            one_by_one(part[0], range(end - begin), *part[1:])
        else:
            all_at_once(*part)
    return kinds, values
