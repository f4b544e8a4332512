"""The health of a history's sets of flows as programs are told it."""

import math

from yaffle.arrays import Float64s
from yaffle.errors import YaffleError
from yaffle.programs.answers import HealthTold, SetTold, WayTold
from yaffle.programs.case import Case, Period
from yaffle.watching.fault import network_fault
from yaffle.watching.flow_sets import SetHealth, Way, fitted, health_of, kept_sets
from yaffle.watching.windows import Windows

_RECENT_NS = 3600 * 10**9
_LONGEST_NS = 32 * 86_400 * 10**9


def health_told(case: Case, period: Period = None) -> HealthTold:
    """Over a period, the last hour without one. Raises YaffleError."""
    history = case.opened.analysis.history
    if history is None:
        raise YaffleError("the health of sets of flows is told of a history")
    whole = case.period
    first_ns, last_ns = case.period_ns(period) if period else (max(whole[0], whole[1] - _RECENT_NS), whole[1])
    if last_ns - first_ns > _LONGEST_NS:
        raise YaffleError("at most 32 days at once: ask for a shorter period")
    windows = Windows(history)
    sets = [fitted(one, last_ns - first_ns) for one in kept_sets(history.folder)]
    found = [health_of(windows, one, first_ns, last_ns) for one in sets]
    fault = network_fault(found)
    verdicts = {key: (one.part, one.words) for key, one in fault.verdicts.items()}
    return HealthTold(
        network_at_fault=fault.fault,
        words=fault.words if found else "no set of flows is chosen: [[flow_set]] in the collector's configuration",
        sets=[_set_told(one, verdicts) for one in found],
    )


def _set_told(one: SetHealth, verdicts: dict[tuple[str, str], tuple[str, str]]) -> SetTold:
    ways = [_way_told(way, *verdicts.get((one.of.name, way.direction), ("", ""))) for way in one.ways]
    return SetTold(name=one.of.name, times_ns=one.times_ns.tolist(), ways=ways)


def _way_told(way: Way, part: str, words: str) -> WayTold:
    return WayTold(
        direction=way.direction, near=way.near, far=way.far, path=list(way.path), packets=_plain(way.packets),
        retransmitted_percent=_plain(way.retransmitted_percent), timeouts=_plain(way.timeouts),
        delay_ms=_plain(way.delay_ms),
        median_ms=way.median_ms if math.isfinite(way.median_ms) else None,
        degraded=[None if value is None else bool(value) for value in _plain(way.degraded)], degraded_now=way.now,
        part=part, words=words,
    )  # fmt: skip


def _plain(values: Float64s) -> list[float | None]:
    return [value if math.isfinite(value) else None for value in values.tolist()]
