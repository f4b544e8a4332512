"""What every container format yields: records with a time, a place, lengths and an interface."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s, staggered

LARGEST_PACKET = 1 << 24  # Larger captured lengths are taken for damage, not believed.

# Records that follow one another from where one is taken to begin; fewer at the end of what is looked at.
CHAIN, LEAST_CHAIN = 40, 8

# status of an index kernel
NEED_MORE, FULL, BROKEN, OTHER_BLOCK = 0, 1, 2, 3


class Records(NamedTuple):
    """Columns of records."""

    time_ns: Int64s
    position: Int64s
    captured: Int64s
    wire: Int64s
    link: Int64s


def empty_records(capacity: int) -> Records:
    """Room for records; positions count from the start of the window."""
    return Records(*(staggered(capacity, np.int64, place) for place in range(8, 13)))


@dataclass
class Interface:
    """One capturing interface of a file."""

    link_type: int
    snap_bytes: int = 0
    name: str = ""
    units_per_s: int = 1_000_000
    offset_s: int = 0
    dropped: int = 0


@dataclass
class Container:
    """What is known of a file besides its packets."""

    format: str
    interfaces: list[Interface] = field(default_factory=list)
    names: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    broken_at: int | None = None
