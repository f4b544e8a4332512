"""What lies behind answers, as part of a case: two tables."""

import numpy as np

from yaffle.arrays import Array
from yaffle.tiers.behind import Behind, Parts

LINKS, PARTS = ("call", "front", "certainty", "seen"), ("of", "via", "at", "kind", "ns", "least_ns", "most_ns")


def behind_tables(behind: Behind) -> dict[str, dict[str, Array]]:
    """Links, and the parts of servers' times."""
    return {
        "links": {name: getattr(behind, name) for name in LINKS[:-1]} | {"seen": behind.seen.astype(np.uint8)},
        "server_parts": {name: getattr(behind.parts, name) for name in PARTS},
    }


def read_behind(links: dict[str, Array], parts: dict[str, Array], exchanges: int) -> Behind:
    """The reverse. Raises ValueError where it makes no sense, KeyError where a column is missing."""
    call, front, certainty, seen = (links[name] for name in LINKS)
    of, via, at, kind, ns, least_ns, most_ns = (parts[name] for name in PARTS)
    found = Behind(call, front, certainty, seen.astype(bool), Parts(of, via, at, kind, ns, least_ns, most_ns))
    for table, pointing in (
        (links, ("call", "front")),
        (parts, ("of", "via", "at")),
    ):
        if any(column.shape != next(iter(table.values())).shape for column in table.values()):
            raise ValueError("the columns of what lies behind are of different lengths")
        for name in pointing:
            if table[name].size and not 0 <= int(table[name].min()) <= int(table[name].max()) < exchanges:
                raise ValueError("what lies behind an exchange points outside its table")
    if (np.diff(found.front) < 0).any() or (np.diff(found.parts.of) < 0).any():
        raise ValueError("what lies behind exchanges is out of order")
    return found
