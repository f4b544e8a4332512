"""How long applications were waited for in a period, on whom, and in which hours far longer than usual."""

from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s
from yaffle.findings.long_waits import ran_beside
from yaffle.history.layout import HOUR_NS, WAIT_LEVELS
from yaffle.history.wait_rows import BIN_COUNTS, BINS, CHARGES, quantile
from yaffle.history.wait_sums import Grouping
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.periods.change import Change, change_of, usual_hours
from yaffle.periods.span import Span
from yaffle.session.evidence import Evidence
from yaffle.session.kept_names import application_of

_HOURLY = WAIT_LEVELS[1]
_LEAST = 5  # exchanges of an hour whose median counts
_MOST_HOURS = 8
_TIMES = 2.0  # An hour is a bad one from so many times its usual median on.
_WHERE = "application <> ''"


@dataclass(frozen=True)
class Waited:
    """One application, of all sites or of one. Times in ns; clients: in the hour with most, site by site; change: of
    the hours' medians.
    """

    application: str
    site: str
    exchanges: int
    clients: int
    failures: int
    median_ns: float
    p95_ns: float
    parties: Int64s  # (4,) of all its waits, in the order of causes.PARTIES
    change: Change


@dataclass(frozen=True)
class BadHour:
    """An hour in which an application was waited for far longer than usual, at one site."""

    application: str
    site: str
    first_ns: int
    median_ns: float
    usual_ns: float
    exchanges: int
    party: str  # whose part grew most
    lost_ns: float
    ran: str = ""  # what carried most to or from the site then, of what it did not wait for; empty: nothing did
    ran_share: float = 0.0


@dataclass(frozen=True)
class Waits:
    """All of it."""

    applications: list[Waited]  # those that were waited for most first
    by_site: list[Waited]
    bad_hours: list[BadHour]  # those that cost most first


def waits_of(evidence: Evidence, span: Span) -> Waits | None:
    """None where no waits are kept. Raises HistoryError."""
    history = evidence.analysis.history
    if history is None or history.waits.span is None:
        return None
    kept = history.waits
    name = application_of(kept, evidence.places, span.before_ns, span.last_ns)

    def asked(keys: dict[str, str], first_ns: int) -> list[dict[str, object]]:
        found: list[dict[str, object]] = kept.asked(Grouping(keys, _WHERE), first_ns, span.last_ns, _HOURLY).to_pylist()
        return found

    at = {"at": f"time_ns // {HOUR_NS} * {HOUR_NS}"}
    named, sited = {"application": name}, {"application": name, "site": "site"}
    hourly = _by_group(asked(at | named, span.before_ns), span, ("application",))
    hourly_sites = _by_group(asked(at | sited, span.before_ns), span, ("application", "site"))
    whole, sites = asked(named, span.first_ns), asked(sited, span.first_ns)
    applications = [_waited(row, hourly[str(row["application"]),], "") for row in whole]
    by_site = [_waited(row, hourly_sites[str(row["application"]), str(row["site"])], str(row["site"])) for row in sites]
    clients: dict[str, int] = {}
    for one in by_site:  # Hours keep how many there were, not who: those of different sites are different.
        clients[one.application] = clients.get(one.application, 0) + one.clients
    applications = [replace(one, clients=clients.get(one.application, one.clients)) for one in applications]
    bad = [hour for key, own in hourly_sites.items() for hour in own.bad_hours(key[0], key[1], span)]
    return Waits(
        sorted(applications, key=lambda one: -float(one.parties.sum())),
        sorted(by_site, key=lambda one: -float(one.parties.sum())),
        [_with_what_ran(evidence, one) for one in sorted(bad, key=lambda one: -one.lost_ns)[:_MOST_HOURS]],
    )


def _with_what_ran(evidence: Evidence, one: BadHour) -> BadHour:
    span = (one.first_ns, one.first_ns + HOUR_NS)
    ran, part = ran_beside(evidence.analysis, one.site, *span, [one.application]) if one.site else ("", 0.0)
    return replace(one, ran=ran, ran_share=part)


@dataclass
class _Hours:
    """Of one group, over the weeks before and the period: medians (nan where too few), exchanges, parties' means."""

    medians: Float64s
    exchanges: Int64s
    parties: Float64s2
    begin: int  # the first hour of the period

    def bad_hours(self, application: str, site: str, span: Span) -> list[BadHour]:
        usual = usual_hours(self.medians[: self.begin], self.medians.size - self.begin)
        usual_parties = np.stack(
            [usual_hours(column, usual.size) for column in self.parties[: self.begin].T], axis=1
        ) if usual.size else np.zeros((0, len(causes.PARTIES)))  # fmt: skip
        now, counts = self.medians[self.begin :], self.exchanges[self.begin :]
        found = []
        for hour in np.flatnonzero(now >= _TIMES * usual).tolist():
            more = np.nan_to_num(self.parties[self.begin + hour] - usual_parties[hour])
            bad = BadHour(
                application, site, span.first_ns + hour * HOUR_NS, float(now[hour]), float(usual[hour]),
                int(counts[hour]),
                causes.PARTIES[int(np.argmax(more))], float((now[hour] - usual[hour]) * counts[hour]),
            )  # fmt: skip
            found.append(bad)
        return found


def _by_group(rows: list[dict[str, object]], span: Span, keys: tuple[str, ...]) -> dict[tuple[str, ...], _Hours]:
    count = (span.last_ns - span.before_ns) // HOUR_NS
    found: dict[tuple[str, ...], _Hours] = {}
    for row in rows:
        key = tuple(str(row[name]) for name in keys)
        own = found.get(key)
        if own is None:
            own = found[key] = _Hours(
                np.full(count, np.nan), np.zeros(count, np.int64), np.full((count, len(causes.PARTIES)), np.nan),
                count - span.hours,
            )  # fmt: skip
        place, exchanges = (int(str(row["at"])) - span.before_ns) // HOUR_NS, int(str(row["exchanges"]))
        if exchanges >= _LEAST and 0 <= place < count:
            own.medians[place] = _quantile(row, 0.5)
            own.exchanges[place] = exchanges
            own.parties[place] = _parties(row) / exchanges
    return found


def _parties(row: dict[str, object]) -> Int64s:
    return np.asarray(party_sums(np.array([[row[name] for name in CHARGES]], np.int64))[0])


def _quantile(row: dict[str, object], share: float) -> float:
    found = quantile(np.array(row[BINS] or [], np.int64), np.array(row[BIN_COUNTS] or [], np.int64), share)
    return float(found) if found >= 0 else float("nan")


def _waited(row: dict[str, object], hours: _Hours, site: str) -> Waited:
    change = change_of(hours.medians[: hours.begin], hours.medians[hours.begin :], summed=False)
    return Waited(
        str(row["application"]), site, int(str(row["exchanges"])), int(str(row["clients"])), int(str(row["failures"])),
        _quantile(row, 0.5), _quantile(row, 0.95), _parties(row), change,
    )  # fmt: skip
