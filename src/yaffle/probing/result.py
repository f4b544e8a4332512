"""Results of tests on purpose, and the document they make."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.quantiles import median, p95

FORMAT, VERSION = "yaffle-probes", 1


@dataclass(frozen=True)
class Result:
    """One test. why: empty where it went well; round_trip_ms: None where there was none; more: what its kind tells."""

    kind: str
    target: str
    at_ns: int
    ok: bool
    why: str = ""
    round_trip_ms: float | None = None
    more: dict[str, Any] = field(default_factory=dict)

    def as_json(self) -> dict[str, Any]:
        """As it stands in a document."""
        return {
            "kind": self.kind, "target": self.target, "at_ns": self.at_ns, "ok": self.ok, "why": self.why,
            "round_trip_ms": self.round_trip_ms, **self.more,
        }  # fmt: skip


def result_of(told: dict[str, Any]) -> Result:
    """A result as it stands in a document."""
    known = ("kind", "target", "at_ns", "ok", "why", "round_trip_ms")
    more = {key: value for key, value in told.items() if key not in known}
    return Result(**{key: told[key] for key in known}, more=more)


def spread(values_ms: list[float]) -> dict[str, float] | None:
    """Least, median, 95th percentile (nearest rank) and greatest of some times; None of none."""
    if not values_ms:
        return None
    own = np.array(values_ms)
    return {"min": float(own.min()), "median": median(own), "p95": p95(own), "max": float(own.max())}


def document(results: list[Result]) -> dict[str, Any]:
    """Results with their sums. Loss is of those sent (RFC 7680, type-P loss average)."""
    good = sum(one.ok for one in results)
    trips = [one.round_trip_ms for one in results if one.round_trip_ms is not None]
    return {
        "format": FORMAT,
        "version": VERSION,
        "results": [one.as_json() for one in results],
        "summary": {
            "sent": len(results),
            "ok": good,
            "loss_percent": 100 * (len(results) - good) / len(results) if results else 0.0,
            "round_trip_ms": spread(trips),
        },
    }
