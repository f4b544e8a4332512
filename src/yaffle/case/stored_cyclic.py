"""Cyclic streams as part of a case: JSON."""

from typing import Any

from yaffle.cyclic.streams import Cyclic, Stretch


def beside_cyclic(found: list[Cyclic]) -> list[dict[str, Any]]:
    """For JSON; stretches as bare rows, because there are many."""
    return [
        {name: value for name, value in vars(one).items() if name not in ("course", "minutes")}
        | {"course": [list(part) for part in one.course]}
        for one in found
    ]


def read_cyclic(told: list[dict[str, Any]], points: int) -> list[Cyclic]:
    """The reverse. Raises KeyError, TypeError or ValueError where it makes no sense."""
    found = []
    for one in told:
        low, high, most = one["jitter_ns"]
        course = tuple(Stretch(*part) for part in one["course"])
        found.append(Cyclic(**{**one, "jitter_ns": (float(low), float(high), float(most)), "course": course}))
    if any(not 0 <= one.point < points for one in found):
        raise ValueError("a cyclic stream points outside the points")
    return found
