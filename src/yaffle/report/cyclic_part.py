"""The part of the analysis document on cyclic streams."""

from typing import Any

from yaffle.analysis import Analysis

_MS, _US = 1e6, 1e3


def cyclic(analysis: Analysis) -> list[dict[str, Any]]:
    """Each stream at each point that saw it."""
    return [
        {
            "kind": one.kind, "source": one.source, "destination": one.destination,
            "point": analysis.capture.points[one.point], "vlan": one.vlan or None, "first_ns": one.first_ns,
            "last_ns": one.last_ns, "packets": one.packets, "period_us": one.period_ns / _US,
            "drift_ppm": one.drift_ppm, "cycles": one.cycles, "missed": one.missed, "doubled": one.doubled,
            "never_sent": one.unsent if one.unsent >= 0 else None,
            "jitter_us": {
                "median": one.jitter_ns[0] / _US, "p95": one.jitter_ns[1] / _US, "max": one.jitter_ns[2] / _US,
            },
            "longest_gap_ms": one.longest_gap_ns / _MS, "gaps_of_three_cycles": one.watchdogs,
            "interruptions": one.interruptions, "interrupted_ms": one.interrupted_ns / _MS,
            "counter": one.counter or None, "counter_began_anew": one.began_anew, "stopped": one.ended,
        }
        for one in analysis.cyclic
    ]  # fmt: skip
