"""Results of tests on purpose, and the document they make."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.quantiles import median, p95

FORMAT, VERSION = "yaffle-probes", 1
_DROP_FROM = 3  # runs


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
    runs = _runs(results)
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
            **({"runs": runs} if runs else {}),
        },
    }


def _runs(results: list[Result]) -> dict[str, Any]:
    """Of several runs of speed, by direction: rates without the best and the worst one, of three and more."""
    found: dict[str, list[float]] = {}
    for one in results:
        if one.ok and "bps" in one.more:
            found.setdefault(str(one.more["direction"]), []).append(float(one.more["bps"]))
    told = {}
    for way, rates in found.items():
        kept = np.sort(rates)[1:-1] if len(rates) >= _DROP_FROM else np.array(rates)
        least, most = float(kept.min()), float(kept.max())
        told[way] = {
            "runs": len(rates),
            "kept": int(kept.size),
            "median_bps": median(kept),
            "min_bps": least,
            "max_bps": most,
        }
    return told if any(one["runs"] > 1 for one in told.values()) else {}
