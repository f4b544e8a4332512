"""Chosen sets of flows over time, each in both directions: retransmissions, timeouts, RTT, network delay.

A set is whatever a condition selects: of flow records, whose opposite direction are the same records with their ends
changed over; or of kept waits, which are of both directions at once. A direction is degraded in an interval where its
retransmissions exceed their limit, or its RTT (of waits: the network delay of an exchange) is at least twice the set's
median and 10 ms above it. What nobody measured is unknown, and never fine.
"""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np

from yaffle.arrays import Array, Float64s, Int64s
from yaffle.history.layout import DAY_NS, FLOW_SETS, HOUR_NS
from yaffle.history.parts import write_json
from yaffle.ledger import causes
from yaffle.records.catalogue import RECORDS, WAITS
from yaffle.watching.windows import HOURS_OF_WAITS, Windows

THERE, BACK = "there", "back"
_LEAST_PACKETS = 20  # of an interval, below which retransmissions say nothing
_LEAST_EXCHANGES = 3
_MOST_INTERVALS, _FINE_NS = 800, 8 * DAY_NS
_TIMES, _MORE_MS = 2.0, 10.0  # Degraded: so many times the median, and by so much above it.
_LEAST_SHARE = 0.1  # A part of the path carries at least so much of a set.
_NETWORK = tuple(f"{party}_{cause.replace('-', '_')}_ns" for party, cause in causes.CHARGES if party == causes.NETWORK)


@dataclass(frozen=True)
class FlowSet:
    """of: `records` or `waits`; where: SQL over their columns; retransmissions: percent that are too many."""

    name: str
    where: str
    of: str = RECORDS
    over_ns: int = 300 * 10**9
    retransmissions: float = 2.0


@dataclass(frozen=True)
class Way:
    """One direction of a set, (n,) by interval; nan where nobody told. delay_ms: RTT, or the network delay of an
    exchange. degraded: 1, 0, or nan for unknown.
    """

    direction: str
    packets: Float64s
    retransmitted_percent: Float64s
    timeouts: Float64s
    delay_ms: Float64s
    median_ms: float
    degraded: Float64s
    near: str
    far: str
    path: tuple[str, ...]

    @property
    def now(self) -> bool | None:
        """How it is in the last interval of which anything is known; None where nothing is."""
        known = np.flatnonzero(~np.isnan(self.degraded))
        return bool(self.degraded[known[-1]]) if known.size else None


@dataclass(frozen=True)
class SetHealth:
    """A set over a period."""

    of: FlowSet
    first_ns: int
    ways: tuple[Way, ...]

    @property
    def times_ns(self) -> Int64s:
        """Beginnings of the intervals."""
        return np.asarray(self.first_ns + np.arange(self.ways[0].degraded.size, dtype=np.int64) * self.of.over_ns)


def keep_sets(folder: Path, sets: Sequence[FlowSet]) -> None:
    """Writes the sets beside a history, whole or not at all. Raises OSError."""
    write_json(folder / FLOW_SETS, [asdict(one) for one in sets])


def kept_sets(folder: Path) -> list[FlowSet]:
    """Those of a history; none where nobody wrote any, or they make no sense."""
    try:
        found = [FlowSet(**one) for one in json.loads((folder / FLOW_SETS).read_text(encoding="utf-8"))]
    except (OSError, ValueError, TypeError):
        return []
    return [one for one in found if one.of in (RECORDS, WAITS) and one.over_ns > 0]


def fitted(one: FlowSet, span_ns: int) -> FlowSet:
    """The same in intervals so wide that a period has no more of them than are looked at; of waits over more than a
    week in whole hours, since minutes of it would be too much.
    """
    width = one.over_ns * max(1, -(-span_ns // (one.over_ns * _MOST_INTERVALS)))
    if one.of == WAITS and span_ns > _FINE_NS:
        width = -(-width // HOUR_NS) * HOUR_NS
    return replace(one, over_ns=width)


def health_of(windows: Windows, one: FlowSet, first_ns: int, last_ns: int) -> SetHealth:
    """How a set fares over a period. Raises HistoryError, WhereError."""
    start = first_ns // one.over_ns * one.over_ns
    count = max(1, -(-(last_ns - start) // one.over_ns))
    if one.of == WAITS:
        return SetHealth(one, start, (_way_of_waits(windows, one, start, count),))
    return SetHealth(one, start, tuple(_way_of_records(windows, one, way, start, count) for way in (THERE, BACK)))


_OTHER_WAY = (
    "* REPLACE (dst AS src, src AS dst, dst_port AS src_port, src_port AS dst_port, peer_site AS site,"
    " site AS peer_site, ingress AS egress, egress AS ingress)"
)


def _way_of_records(windows: Windows, one: FlowSet, direction: str, start_ns: int, count: int) -> Way:
    span = (start_ns, start_ns + count * one.over_ns)
    turned = f"(SELECT {'*' if direction == THERE else _OTHER_WAY} FROM told)"
    few = f"(SELECT * FROM {turned} WHERE ({one.where}\n) AND last_ns >= {span[0]} AND last_ns < {span[1]})"
    at = f"(last_ns - {span[0]}) // {one.over_ns}"
    rows = windows.asked(
        RECORDS, *span,
        f"SELECT CAST({at} AS BIGINT) AS place, sum(packets) AS packets,"
        " 100.0 * sum(retransmissions) / nullif(sum(packets) FILTER (retransmissions IS NOT NULL), 0) AS retransmitted,"
        " sum(timeouts) AS timeouts,"
        " 1e-6 * sum(round_trip_ns * packets) / nullif(sum(packets) FILTER (round_trip_ns IS NOT NULL), 0) AS delay"
        f" FROM {few} GROUP BY ALL",
    )  # fmt: skip
    columns = {name: _filled(rows, name, count) for name in ("packets", "retransmitted", "timeouts", "delay")}
    # The other way's own ends are what was turned: near is where this direction begins.
    parts = windows.asked(
        RECORDS, *span,
        f"SELECT site, peer_site, interface, CAST(sum(packets) AS BIGINT) AS packets FROM {few} GROUP BY ALL"
        " ORDER BY packets DESC",
    ).to_pylist()  # fmt: skip
    if direction == BACK:  # The condition was asked of the turned row: its ends are turned back.
        parts = [row | {"site": row["peer_site"], "peer_site": row["site"]} for row in parts]
    near, far = _largest(parts, "site"), _largest(parts, "peer_site")
    total = sum(row["packets"] for row in parts) or 1
    path = {row["interface"] for row in parts if row["packets"] >= _LEAST_SHARE * total}
    told = tuple(sorted(part for part in path if part and not part.endswith("interface not told")))
    return _judged(one, direction, columns, _LEAST_PACKETS, near, far, told)


def _way_of_waits(windows: Windows, one: FlowSet, start_ns: int, count: int) -> Way:
    span = (start_ns, start_ns + count * one.over_ns)
    table = HOURS_OF_WAITS if one.over_ns % HOUR_NS == 0 else WAITS  # Minutes are not kept for so long.
    few = f"(SELECT * FROM told WHERE server <> '' AND ({one.where}\n))"
    rows = windows.asked(
        table, *span,
        f"SELECT CAST((time_ns - {start_ns}) // {one.over_ns} AS BIGINT) AS place, sum(exchanges) AS packets,"
        " NULL::DOUBLE AS retransmitted, sum(timeouts) AS timeouts,"
        f" 1e-6 * sum({' + '.join(_NETWORK)}) / nullif(sum(exchanges), 0) AS delay FROM {few} GROUP BY ALL",
    )  # fmt: skip
    columns = {name: _filled(rows, name, count) for name in ("packets", "retransmitted", "timeouts", "delay")}
    parts = windows.asked(
        table, *span,
        "SELECT site, server || ' ' || port AS peer_site, '' AS interface,"
        f" CAST(sum(exchanges) AS BIGINT) AS packets FROM {few}"
        " GROUP BY ALL ORDER BY packets DESC",
    ).to_pylist()  # fmt: skip
    return _judged(one, THERE, columns, _LEAST_EXCHANGES, _largest(parts, "site"), _largest(parts, "peer_site"), ())


def _largest(parts: list[dict[str, object]], name: str) -> str:
    """What most of the packets have in common; empty where it is less than half of them."""
    sums: dict[str, int] = {}
    for row in parts:
        sums[str(row[name] or "")] = sums.get(str(row[name] or ""), 0) + int(str(row["packets"]))
    best = max(sums, key=lambda key: sums[key], default="")
    return best if sums and sums[best] * 2 >= sum(sums.values()) else ""


def _filled(rows: object, name: str, count: int) -> Float64s:
    found = np.full(count, np.nan)
    places, values = (rows[key].to_pylist() for key in ("place", name))  # type: ignore[index]
    for place, value in zip(places, values, strict=True):
        if value is not None and 0 <= place < count:
            found[place] = float(value)
    return found


def _judged(
    one: FlowSet, direction: str, columns: dict[str, Array], least: int, near: str, far: str, path: tuple[str, ...]
) -> Way:
    packets, repeated, delay = columns["packets"], columns["retransmitted"], columns["delay"]
    enough = np.nan_to_num(packets) >= least
    known = delay[enough & np.isfinite(delay)]
    median = float(np.median(known)) if known.size else float("nan")
    late = np.isfinite(delay) & (delay >= _TIMES * median) & (delay >= median + _MORE_MS)
    again = np.isfinite(repeated) & (repeated > one.retransmissions)
    told = enough & (np.isfinite(delay) | np.isfinite(repeated))
    degraded = np.where(told, (late | again).astype(float), np.nan)
    between = f"{near} to {far}" if near and far else ""
    return Way(
        direction, packets, repeated, columns["timeouts"], delay, median, degraded, near, far,
        path or ((between,) if between else ()),
    )  # fmt: skip
