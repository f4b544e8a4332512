"""Hours in which a site waited for its applications far longer than it usually does, from the waits that a history
keeps: when, on whom, and what else passed then.
"""

from dataclasses import dataclass, field

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Float64s, Float64s2, Int64s
from yaffle.findings.finding import Finding
from yaffle.findings.flow_labels import BETWEEN, FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.history.layout import DAY_NS, HOUR_NS, WAIT_LEVELS
from yaffle.history.wait_rows import BIN_COUNTS, BINS, CHARGES, quantile
from yaffle.ledger import causes
from yaffle.quantiles import median
from yaffle.units import count, date_and_moment, day, duration, share

_LOOKED_AT_NS = 35 * DAY_NS  # The last weeks; earlier ones are Compare's.
_MOST_GROUPS, _MOST = 60, 8  # applications of sites that are looked at; findings
_LEAST_EXCHANGES, _LEAST_HOURS = 20, 24  # of an hour; of hours, before it is known what is usual
_TIMES, _MORE_NS = 2.0, 100_000_000  # A median so much above the usual one is long.
_LEAST_LOST_NS = 60 * 10**9
_FILLS = 0.3  # A share of the volume from which on an application is told to have passed then.

Group = tuple[str, str]  # application, site


@dataclass
class _Hours:
    """Hours of one application at one site."""

    start_ns: Int64s
    exchanges: Int64s
    median_ns: Float64s
    charges: Float64s2  # (hours, columns), ns an exchange
    clients: Int64s

    @property
    def usual_ns(self) -> float:
        """The median of the hours' medians."""
        return median(self.median_ns)

    @property
    def is_long(self) -> Bools:
        """Which hours are far above what is usual."""
        return (self.median_ns >= _TIMES * self.usual_ns) & (self.median_ns >= self.usual_ns + _MORE_NS)


@dataclass
class _Trouble:
    """Long hours of one site for one reason. parts: of each application its extra waits, ns, and hours."""

    site: str
    column: int
    lost_ns: int = 0
    share: float = 0.0
    parts: dict[str, int] = field(default_factory=dict)
    hours: set[int] = field(default_factory=set)
    worst: tuple[str, int, float, float] = ("", 0, 0.0, 0.0)  # application, hour, median then, usual one
    clients: int = 0


def long_wait_findings(analysis: Analysis) -> list[Finding]:
    """A finding for each site and reason, those that cost most first. Raises HistoryError."""
    history = analysis.history
    if history is None or (span := history.waits.span) is None:
        return []
    first = max(span[0], span[1] - _LOOKED_AT_NS)
    troubles: dict[tuple[str, int], _Trouble] = {}
    for (application, site), hours in _hours(analysis, first, span[1]).items():
        _take(troubles, application, site, hours)
    kept = [one for one in troubles.values() if one.lost_ns >= _LEAST_LOST_NS]
    return [_finding(analysis, one) for one in sorted(kept, key=lambda one: -one.lost_ns)[:_MOST]]


def _hours(analysis: Analysis, first_ns: int, last_ns: int) -> dict[Group, _Hours]:
    """Of the groups that waited most: their hours with enough exchanges."""
    from yaffle.history.wait_sums import Grouping  # With the database, which captures alone do not ask.

    assert analysis.history is not None
    kept, hourly = analysis.history.waits, WAIT_LEVELS[1]
    keys = {"application": "application", "site": "site"}
    sums = kept.asked(Grouping(keys, "application <> ''"), first_ns, last_ns, hourly).to_pylist()
    order = sorted(sums, key=lambda row: -sum(row[name] for name in CHARGES))[:_MOST_GROUPS]
    wanted = {(row["application"], row["site"]) for row in order}
    by_hour = {"at": f"time_ns // {HOUR_NS} * {HOUR_NS}"} | keys
    rows = kept.asked(Grouping(by_hour, "application <> ''"), first_ns, last_ns, hourly).to_pylist()
    found: dict[Group, list[dict[str, object]]] = {}
    for row in rows:
        if row["exchanges"] >= _LEAST_EXCHANGES and (row["application"], row["site"]) in wanted:
            found.setdefault((row["application"], row["site"]), []).append(row)
    return {group: _columns(own) for group, own in found.items() if len(own) >= _LEAST_HOURS}


def _columns(rows: list[dict[str, object]]) -> _Hours:
    exchanges = np.array([row["exchanges"] for row in rows], np.int64)
    charges = np.array([[row[name] for name in CHARGES] for row in rows], np.float64)
    medians = [quantile(np.array(row[BINS]), np.array(row[BIN_COUNTS]), 0.5) for row in rows]
    return _Hours(
        np.array([row["at"] for row in rows], np.int64), exchanges, np.array(medians, np.float64),
        charges / exchanges[:, np.newaxis], np.array([row["clients"] for row in rows], np.int64),
    )  # fmt: skip


def _take(troubles: dict[tuple[str, int], _Trouble], application: str, site: str, hours: _Hours) -> None:
    """Adds an application's long hours to what its site suffers from."""
    is_long = hours.is_long
    if not is_long.any() or is_long.all():
        return
    usual = np.array([median(column) for column in hours.charges[~is_long].T])
    more = np.maximum(0.0, hours.charges[is_long] - usual) * hours.exchanges[is_long, np.newaxis]
    column = int(np.argmax(more.sum(axis=0)))
    one = troubles.setdefault((site, column), _Trouble(site, column))
    lost = int(more.sum())
    one.share = (one.share * one.lost_ns + float(more[:, column].sum())) / max(1, one.lost_ns + lost)
    one.lost_ns += lost
    one.parts[application] = lost
    one.hours |= set(hours.start_ns[is_long].tolist())
    worst = int(np.argmax(np.where(is_long, hours.median_ns * hours.exchanges, 0)))
    if lost >= max(one.parts.values()):
        one.worst = (application, int(hours.start_ns[worst]), float(hours.median_ns[worst]), hours.usual_ns)
    one.clients = max(one.clients, int(hours.clients[is_long].max()))


def _stretches(hours: set[int]) -> list[tuple[int, int]]:
    """Hours that follow each other, put together."""
    found: list[tuple[int, int]] = []
    for start in sorted(hours):
        if found and start <= found[-1][1]:
            found[-1] = (found[-1][0], start + HOUR_NS)
        else:
            found.append((start, start + HOUR_NS))
    return found


def ran_beside(analysis: Analysis, site: str, first_ns: int, last_ns: int, waited: list[str]) -> tuple[str, float]:
    """The application that carried most to or from a site in a period, of those that nobody there waited for, and its
    share of all; empty where none carried much.
    """
    held = held_flows(analysis, first_ns, last_ns)
    if not held.rows.size:
        return "", 0.0
    sites = FlowLabels(held, held.rows, analysis.places).by("site pair")
    touched = np.array([site in pair.split(BETWEEN) for pair in sites.texts], bool)
    rows = held.rows[touched[sites.codes]]
    if not rows.size:
        return "", 0.0
    rows = rows[rows["exporter"] == np.argmax(np.bincount(rows["exporter"], rows["octets"]))]
    labels = FlowLabels(held, rows, analysis.places).by("application")
    sums = np.bincount(labels.codes, rows["octets"], len(labels.texts))
    part, name = max((sums[k], text) for k, text in enumerate(labels.texts))
    carried = float(part / max(1, sums.sum()))
    return (name, carried) if name not in waited and carried >= _FILLS else ("", 0.0)


def _finding(analysis: Analysis, one: _Trouble) -> Finding:
    party, cause = causes.CHARGES[one.column]
    stretches = _stretches(one.hours)
    worst = next(s for s in stretches if s[0] <= one.worst[1] < s[1])
    names = sorted(one.parts, key=lambda name: -one.parts[name])
    apps = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    days = len({day(start) for start in one.hours})
    beside, carried = ran_beside(analysis, one.site, *worst, names)
    application, _, then_ns, usual_ns = one.worst
    sentence = (
        f"{one.site} waited for {apps} far longer than usual in {count(len(one.hours))} hours of {days}"
        f" day{'s' if days > 1 else ''}, worst from {date_and_moment(worst[0])[:16]} for"
        f" {duration(worst[1] - worst[0])}: the median of {application} was {duration(round(then_ns))} instead of"
        f" {duration(round(usual_ns))}; {share(one.share)} of the difference is {causes.charge_name(one.column)}."
    )
    if beside:
        sentence += f" Meanwhile {beside} carried {share(carried)} of what passed to and from {one.site}."
    step = (
        f"Move {beside} to other hours, or limit its rate; Apportion has these hours with what else passed."
        if beside and party == causes.NETWORK
        else f"Look at what {party} did in these hours; Apportion has them with what else passed, Compare since when."
    )
    grounds: dict[str, object] = {
        "applications": names, "beside": beside, "beside_share": carried, "days": days,
        "median_ms": then_ns / 1e6, "usual_ms": usual_ns / 1e6, "charged_share": one.share,
        "stretches": [list(s) for s in stretches], "connections": [], "kept": True,
    }  # fmt: skip
    severity = "critical" if one.lost_ns >= 3600 * 10**9 else "major" if one.lost_ns >= 600 * 10**9 else "minor"
    return Finding(
        party, cause, severity, f"{one.site} at certain hours", sentence, step, round(min(0.95, one.share), 2),
        worst[0], worst[1], one.lost_ns, one.clients, one.site, [], [], grounds,
    )  # fmt: skip
