"""Routes that were asked for on purpose, over a period: by which paths they went and when that changed, and each hop.

A hop's answers are its own affair: many routers answer few such packets, or none. What of a hop's packets was not
answered is therefore parted, in runs that came to the target: *lost* is the share that was not answered by this hop
nor by any hop behind it, run by run (the least share of those hops); the rest the hop kept to itself. The target itself
may limit its answers to UDP, too (RFC 1812, section 4.3.2.8): its loss is the most there can be.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s
from yaffle.history.layout import PROBES, files_between, folders
from yaffle.history.probe_rows import every_column
from yaffle.history.store import History
from yaffle.inventory.places import Places
from yaffle.progress import Progress, go_on, step
from yaffle.quantiles import median, p95

Addresses = tuple[str | None, ...]  # hop by hop; None where a hop is silent
KIND = "route"
MOST_RUNS = 50_000
_COLUMNS = ("name", "target", "source", "over", "at_ns", "ok", "why", "hops")


@dataclass(frozen=True)
class RouteHop:
    """What answered at one distance. trips_ms: the median of each run, NaN where it did not answer then."""

    ttl: int
    address: str
    name: str
    site: str
    runs: int
    sent: int  # packets, of runs that came to the target: of others nobody can tell what was lost
    answered: int
    lost: float
    trips_ms: Float64s
    added_ms: float  # median, run by run, above the nearest hop before it that answered; NaN where it never did

    @property
    def lost_share(self) -> float:
        """Of the packets sent so far, what was lost here or behind it; NaN where that cannot be told."""
        return self.lost / self.sent if self.sent else float("nan")

    @property
    def limited_share(self) -> float:
        """Of the packets sent so far, what it only did not answer; NaN as well."""
        return max(0.0, 1 - self.answered / self.sent - self.lost_share) if self.sent else float("nan")

    @property
    def known_ms(self) -> Array:
        """Round trips that were measured."""
        return np.asarray(self.trips_ms[np.isfinite(self.trips_ms)])

    @property
    def median_ms(self) -> float:
        """Of the runs; NaN where it never answered."""
        return median(self.known_ms)

    @property
    def p95_ms(self) -> float:
        """Of the runs; NaN where it never answered."""
        return p95(self.known_ms)


@dataclass
class RoutePath:
    """One path: silent hops of one run are those that answered in another, while nothing else differs."""

    addresses: Addresses
    first_ns: int
    last_ns: int
    whole: bool  # whether some run came to the target by it; else there may be more hops behind
    runs: int = 1


@dataclass(frozen=True)
class RouteChange:
    """A run that went another path than the one before it. ttl: of the first hop that differs."""

    time_ns: int
    before: int  # places among the paths
    after: int
    ttl: int


@dataclass(frozen=True)
class RouteCourse:
    """One route over the period."""

    name: str
    target: str
    source: str  # who was asked to test; empty: the collector itself
    over: str
    times_ns: Int64s
    well: Bools
    path_of: Int64s  # the path of each run, its place among `paths`; -1 where nothing answered
    paths: list[RoutePath]
    changes: list[RouteChange]
    hops: list[RouteHop]
    last_why: str

    @property
    def failed_share(self) -> float:
        """Of the runs, those that did not reach the target."""
        return float(1 - self.well.mean()) if self.well.size else 0.0

    @property
    def last_path(self) -> Addresses:
        """The path of the last run that had an answer."""
        known = self.path_of[self.path_of >= 0]
        return self.paths[int(known[-1])].addresses if known.size else ()


@dataclass
class _Hop:
    runs: int = 0
    sent: int = 0
    answered: int = 0
    lost: float = 0.0
    trips: dict[int, float] = field(default_factory=dict)  # by run
    added: list[float] = field(default_factory=list)


def route_courses(
    history: History | None, places: Places, first_ns: int, last_ns: int, progress: Progress = go_on
) -> list[RouteCourse] | None:
    """All routes of a period, those that changed most first; None where nothing was ever asked. Raises HistoryError,
    Cancelled.
    """
    if history is None or not folders(history.folder / PROBES):
        return None
    step(progress, 0.1, "reading results of route tests")
    within = f"kind = '{KIND}' AND at_ns >= {int(first_ns)} AND at_ns <= {int(last_ns)}"
    table = history.told(
        lambda: files_between(history.folder, PROBES, first_ns, last_ns),
        f"SELECT * FROM (SELECT {', '.join(_COLUMNS)} FROM {every_column('told')} WHERE {within}"
        f" ORDER BY at_ns DESC LIMIT {MOST_RUNS})"
        " ORDER BY name, source, target, at_ns",
    )
    groups: dict[tuple[str, str, str], list[dict[str, Any]]] = {}
    for row in table.to_pylist() if table is not None else []:
        groups.setdefault((row["name"], row["source"] or "", row["target"]), []).append(row)
    found = []
    for k, rows in enumerate(groups.values()):
        step(progress, 0.3 + 0.7 * k / len(groups), "comparing paths")
        found.append(_course(rows, places))
    return sorted(found, key=lambda one: (-len(one.changes), -one.failed_share, one.name, one.source))


def _course(rows: list[dict[str, Any]], places: Places) -> RouteCourse:
    runs = [json.loads(row["hops"] or "[]") for row in rows]
    times = np.array([row["at_ns"] for row in rows], np.int64)
    paths: list[RoutePath] = []
    path_of, changes, now = np.full(times.size, -1), list[RouteChange](), -1
    for k, (row, hops) in enumerate(zip(rows, runs, strict=True)):
        own = tuple(hop["address"] for hop in hops)
        if not any(own):
            continue
        path_of[k] = _place_of(paths, own, now, int(times[k]), whole=bool(row["ok"]))
        if 0 <= now != path_of[k]:
            at = _first_other(paths[now].addresses, paths[int(path_of[k])].addresses)
            changes.append(RouteChange(int(times[k]), now, int(path_of[k]), at))
        now = int(path_of[k])
    well = np.array([bool(row["ok"]) for row in rows])
    first, whys = rows[-1], [row["why"] for row in rows if row["why"]]
    return RouteCourse(
        first["name"], first["target"], first["source"] or "", first["over"] or "udp", times,
        well, path_of, paths, changes, _hops(runs, well, places),
        whys[-1] if whys else "",
    )  # fmt: skip


def _place_of(paths: list[RoutePath], own: Addresses, now: int, at_ns: int, *, whole: bool) -> int:
    """The place of a run's path among those known, the present one first; it is put there where it is new. whole:
    whether the run came to its target; else more hops may stand behind.
    """
    for k in ([now] if now >= 0 else []) + [k for k in range(len(paths)) if k != now]:
        if (joined := _joined(paths[k], own, whole)) is not None:
            paths[k].addresses, paths[k].last_ns, paths[k].runs = joined, at_ns, paths[k].runs + 1
            paths[k].whole |= whole
            return k
    paths.append(RoutePath(own, at_ns, at_ns, whole))
    return len(paths) - 1


def _joined(known: RoutePath, own: Addresses, whole: bool) -> Addresses | None:
    """A path with what a run adds to it; None where they are two paths."""
    there = known.addresses
    if (len(own) > len(there) and known.whole) or (len(own) < len(there) and whole):
        return None
    if any(a is not None and b is not None and a != b for a, b in zip(there, own, strict=False)):
        return None
    return tuple(a or b for a, b in zip(there, own, strict=False)) + there[len(own) :] + own[len(there) :]


def _first_other(one: Addresses, other: Addresses) -> int:
    """The distance at which two paths part."""
    same = (a == b or a is None or b is None for a, b in zip(one, other, strict=False))
    return next((k for k, alike in enumerate(same) if not alike), min(len(one), len(other))) + 1


def _hops(runs: Sequence[list[dict[str, Any]]], well: Bools, places: Places) -> list[RouteHop]:
    held: dict[tuple[int, str], _Hop] = {}
    for number, hops in enumerate(runs):
        missed = np.array([1 - hop["answered"] / hop["sent"] if hop["sent"] else 0.0 for hop in hops])
        lost, before = np.minimum.accumulate(missed[::-1])[::-1], 0.0
        for hop, share in zip(hops, lost.tolist(), strict=True):
            one = held.setdefault((hop["ttl"], hop["address"] or ""), _Hop())
            one.runs += 1
            if well[number]:
                one.sent, one.answered = one.sent + hop["sent"], one.answered + hop["answered"]
                one.lost += share * hop["sent"]
            if hop["round_trip_ms"]:
                trip = float(hop["round_trip_ms"]["median"])
                one.trips[number] = trip
                one.added.append(trip - before)
                before = trip
    found: list[RouteHop] = []
    for (ttl, address), one in sorted(held.items(), key=lambda item: (item[0][0], -item[1].runs)):
        trips = np.full(len(runs), np.nan)
        trips[list(one.trips)] = list(one.trips.values())
        name = places.short(address) if address else ""
        site = places.site(address) if address else ""
        site = "" if "/" in site else site  # A network that nobody gave a name.
        found.append(
            RouteHop(ttl, address, name if name != address else "", site, one.runs, one.sent, one.answered, one.lost,
                     trips, median(np.array(one.added)))
        )  # fmt: skip
    return found


def path_words(addresses: Addresses) -> str:
    """A path as people read it."""
    return " → ".join(address or "silent" for address in addresses)
