"""What kind of request an exchange is, and the values in it: "GET /search?id=17" is of the kind "GET /search?id=…",
with the value 17.

Two requests that belong together often carry the same value in places that are learnt; so values are kept by place.
"""

import re
from collections.abc import Iterable
from zlib import crc32

import numpy as np

from yaffle.arrays import Array
from yaffle.exchanges.labels import grouped

PLACES = 3  # values of a request that are kept
_VALUES = re.compile(r"(?<==)[^&#\s]+|\d+|'[^']*'")


def values_in(label: str) -> list[str]:
    """Those of a label, in order: what follows an equals sign, numbers, quoted texts."""
    return [found.strip("'") for found in _VALUES.findall(label)[:PLACES]]


def kinds_of(asked: Iterable[tuple[str, str, tuple[str, ...]]]) -> tuple[Array, Array]:
    """(kind, values) of requests by protocol, label and values beside it: int64 (n,), and uint64 (n, PLACES) with 0
    where there is none. The number of a kind is made of its text alone.
    """
    known: dict[tuple[str, str, tuple[str, ...]], tuple[int, list[int]]] = {}
    kinds, values = [], []
    for key in asked:
        if key not in known:
            protocol, label, beside = key
            held = [1 + crc32(text.encode()) for text in (*beside, *values_in(label))][:PLACES]
            kind = crc32(f"{protocol} {grouped(protocol, label)}".encode())
            known[key] = kind, held + [0] * (PLACES - len(held))
        kind, held = known[key]
        kinds.append(kind)
        values.append(held)
    return np.array(kinds, np.int64), np.array(values, np.uint64).reshape(-1, PLACES)
