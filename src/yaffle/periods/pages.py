"""A period as a report: what has to be known on two pages, the tables behind it in an appendix."""

from collections.abc import Mapping, Sequence
from math import isfinite
from typing import Any

import numpy as np

from yaffle.findings.headline import headline
from yaffle.ledger import causes
from yaffle.periods.period import Period
from yaffle.periods.waits import Waited
from yaffle.records.catalogue import entry_of
from yaffle.report.figure import Figure
from yaffle.report.html import page_of
from yaffle.report.plan import Letterhead
from yaffle.report.sections import Section
from yaffle.units import (
    count,
    date_and_moment,
    day,
    duration,
    moment,
    rate,
    share,
    size,
    zone_name,
)
from yaffle.watching.event_words import figure as figure_words
from yaffle.watching.service_levels import LevelKept

_SHORT, _FEW = 6, 4  # rows before the appendix
WAITS, TRAFFIC, RESPONSES = "waits", "traffic", "responses"  # figures, by what they belong to
Figures = Mapping[str, Sequence[Figure]]

_METHOD = (
    "Waits, their parts and their numbers are of all exchanges that captures of this history kept, by hours; medians"
    " and 95th percentiles are of histograms, within 1.9 %. Traffic is as the exporter named reported it, since several"
    " along a path count the same.",
    "The baseline is the median of the same hours of the week in the weeks before. Whether a period differs from it is"
    " Wilcoxon's signed-rank test over the differences of quarter days; “significant” means p < 0.01. “Too few samples”"
    " stands where less than two days can be compared.",
    "A service level judges each interval of its own length; an interval without a measurement is neither good nor bad,"
    " and stands apart. Events are what watches noticed while a collector ran.",
)


def period_words(period: Period) -> str:
    """From when to when, and how it is called."""
    span = period.span
    named = f"{span.words[:1].upper()}{span.words[1:]}: " if span.words else ""
    low, high = (f"{day(at)} {moment(at)[:5]}" for at in (span.first_ns, span.last_ns))
    return f"{named}{low} to {high} {zone_name()}"


def period_page(period: Period, figures: Figures, letterhead: Letterhead = Letterhead(), title: str = "") -> str:
    """The page."""
    usual = f"{period.span.words[:1].upper()}{period.span.words[1:]}" or "A period"
    page_title = title or f"{usual} on the network"
    return page_of(sections_of(period, figures), page_title, period_words(period), letterhead)


def sections_of(period: Period, figures: Figures) -> list[Section]:
    """What has to be known, then everything."""
    found = [_short(period)]
    found += [_missed(period)] if period.levels else []
    if period.waits is not None:
        found.append(_waits(period, period.waits.applications[:_SHORT], figures))
        if period.waits.bad_hours:
            found.append(_bad_hours(period))
    if period.traffic is not None:
        found.append(_traffic(period, figures))
    if period.findings:
        lines = [f.sentence for f in period.findings[:3]]
        found.append(Section("trouble", "Findings", "text", {"lines": lines, "figures": []}))
    found += _events(period, figures)
    return [*found, *_appendix(period)]


def _table(
    key: str, title: str, columns: Sequence[str], rows: Sequence[Sequence[str]], *, texts: Sequence[int] = (0,),
    lead: str = "", note: str = "", figures: Sequence[Figure] = (), appendix: bool = False,
) -> Section:  # fmt: skip
    content: dict[str, Any] = {
        "columns": columns, "rows": rows, "texts": texts, "lead": lead, "note": note,
        "figures": [(one.inline(), one.sentence) for one in figures],
    }  # fmt: skip
    return Section(key, title, "table", content, appendix=appendix)


def _short(period: Period) -> Section:
    """The period in a few sentences."""
    lines = []
    waits, traffic = period.waits, period.traffic
    if waits is not None and waits.applications:
        exchanges = sum(one.exchanges for one in waits.applications)
        parties = np.sum([one.parties for one in waits.applications], axis=0)
        total = float(parties.sum())
        parts = ", ".join(f"{share(parties[k] / total)} {name}" for k, name in enumerate(causes.PARTIES) if parties[k])
        lines.append(f"{count(exchanges)} exchanges waited {duration(round(total))} in all: {parts}.")
        moved = [one for one in waits.by_site if one.change.sure and _felt(one)]
        if moved:
            told = [f"{one.application} at {one.site} {one.change.words(one.median_ns)}" for one in moved[:4]]
            lines.append(f"Changed against previous weeks: {'; '.join(told)} (median wait).")
        else:
            lines.append("No application's median wait changed by a tenth or more against previous weeks.")
    if traffic is not None:
        lines.append(
            f"Traffic at {traffic.exporter}: {size(round(traffic.octets))},"
            f" against previous weeks {traffic.change.words(traffic.octets)}."
        )
    lines += [_levels_told(period.levels)] if period.levels else []
    if period.findings:
        lines.append(f"Findings: {'; '.join(headline(f) for f in period.findings[:3])}.")
    elif lines:
        lines.append("No problem found.")
    return Section("short", "Summary", "text", {"lines": lines or ["Nothing is known of this period."], "figures": []})


def _levels_told(levels: Sequence[LevelKept]) -> str:
    missed = [_called(one) for one in levels if one.used > 1]
    unknown = sum(1 for one in levels if not one.good_ns + one.bad_ns)
    told = f"{count(len(missed))} of {count(len(levels))} service levels missed"
    told += f": {', '.join(missed[:3])}{', …' if len(missed) > 3 else ''}" if missed else ""
    return f"{told}; {count(unknown)} not measured." if unknown else f"{told}."


def _felt(one: Waited) -> bool:
    return bool(one.change.usual) and abs(one.median_ns / one.change.usual - 1) >= 0.1


def _called(one: LevelKept) -> str:
    return f"{one.level.name}, {one.member}" if one.level.of else one.level.name


def _missed(period: Period) -> Section:
    """Levels with violations; how many had none, and how many were not measured, is said."""
    some = sorted((one for one in period.levels if one.bad_ns), key=lambda one: -one.used)
    clean = sum(1 for one in period.levels if one.good_ns and not one.bad_ns)
    unknown = len(period.levels) - len(some) - clean
    told = [f"{count(len(some) - _FEW)} more with violations stand in the appendix"] if len(some) > _FEW else []
    told += [f"{count(clean)} without a violation"] if clean else []
    told += [f"{count(unknown)} not measured"] if unknown else []
    return _levels(some[:_FEW], appendix=False, lead=f"{'; '.join(told)}." if told else "")


def _levels(levels: Sequence[LevelKept], *, appendix: bool, lead: str = "") -> Section:
    rows = []
    for one in levels:
        worst = ", ".join(f"{date_and_moment(start)[5:10]} ({duration(bad)})" for start, bad in one.worst_days[:2])
        rows.append([
            _called(one), f"{one.level.target:g} %", _percent(one.percent),
            share(one.used) if one.allowance_ns else "–", duration(one.bad_ns),
            duration(one.unknown_ns), worst or "–",
        ])  # fmt: skip
    return _table(
        "levels-all" if appendix else "levels", "All service levels" if appendix else "Service levels",
        ["level", "target", "achieved", "error budget used", "violated for", "not measured", "worst days"], rows,
        texts=(0, 6), appendix=appendix, lead=lead,
    )  # fmt: skip


def _percent(value: float) -> str:
    return f"{value:.2f} %" if isfinite(value) else "not known"


def _octets(octets: float) -> str:
    return size(round(octets)) if isfinite(octets) else "–"


def _known(ns: float) -> str:
    return duration(round(ns)) if isfinite(ns) else "–"


_WAIT_COLUMNS = ("exchanges", "clients", "median", "p95", "client, network, server", "failed", "vs. previous weeks")


def _wait_row(one: Waited) -> list[str]:
    total = float(one.parties.sum()) or 1.0
    parts = ", ".join(f"{100 * one.parties[k] / total:.0f} %" for k in range(3))
    return [
        count(one.exchanges), count(one.clients), _known(one.median_ns), _known(one.p95_ns), parts,
        share(one.failures / one.exchanges) if one.failures else "–", one.change.words(one.median_ns),
    ]  # fmt: skip


def _waits(period: Period, waits: Sequence[Waited], figures: Figures) -> Section:
    rows = [[one.application, *_wait_row(one)] for one in waits]
    return _table(
        "waits", "Applications", ["application", *_WAIT_COLUMNS], rows, figures=figures.get(WAITS, ()),
        texts=(0,), note="Clients in the hour with most; against the median of the same hours in the weeks before.",
    )  # fmt: skip


def _bad_hours(period: Period) -> Section:
    assert period.waits is not None
    rows = []
    for one in period.waits.bad_hours[:_FEW]:
        ran = f"{one.ran} ({share(one.ran_share)})" if one.ran else "–"
        rows.append([
            date_and_moment(one.first_ns)[:16], one.application, one.site or "elsewhere",
            duration(round(one.median_ns)), duration(round(one.usual_ns)), one.party, ran,
        ])  # fmt: skip
    columns = ["hour from", "application", "site", "median", "baseline", "main party", "concurrent traffic"]
    return _table(
        "bad-hours", "Worst hours", columns, rows,
        texts=(0, 1, 2, 5, 6),
        note="Concurrent traffic: the application with most bytes of the site then, and its share.",
    )  # fmt: skip


def _traffic(period: Period, figures: Figures) -> Section:
    traffic = period.traffic
    assert traffic is not None
    rows = [
        [one.label, size(round(one.octets)), share(one.share), one.change.words(one.octets)]
        for one in traffic.by["application"][:_FEW]
    ]
    peaks = []
    for one in period.peaks[:2]:
        told = f"{rate(one.value)} at {one.at} from {date_and_moment(one.first_ns)[:16]}"
        told += f", the largest part {one.pair} ({share(one.pair_share)}), mostly {one.application}" if one.pair else ""
        if one.complaints:
            told += f"; complained then: {', '.join(c.who or 'somebody' for c in one.complaints)}"
        peaks.append(told)
    return _table(
        "traffic", "Traffic", ["application", "bytes", "share", "vs. previous weeks"], rows,
        figures=figures.get(TRAFFIC, ()), lead=f"Highest hours: {'; '.join(peaks)}." if peaks else "",
        note=f"As {traffic.exporter} reported it.",
    )  # fmt: skip


def _events(period: Period, figures: Figures) -> list[Section]:
    told = period.happened
    if not (told.noticed or told.effects or told.others):
        return []
    rows = [
        [
            one.watch,
            one.subject,
            one.severity,
            count(one.times),
            duration(one.lasted_ns),
            date_and_moment(one.last_ns)[:16],
        ]
        for one in told.noticed[:_SHORT]
    ]
    effects = [f"{date_and_moment(e.time_ns)[:16]} {e.words}" for e in told.effects[-3:]]
    lead = f"{count(told.notices)} notifications sent. " if told.notices else ""
    lead += f"Responses: {'; '.join(effects)}." if effects else ""
    note = "; ".join(f"{date_and_moment(e.time_ns)[:16]} {e.words}" for e in told.others[-3:])
    columns = ["watch", "of", "severity", "times", "raised for", "last"]
    return [_table("noticed", "Events and responses", columns, rows, texts=(0, 1, 2, 5), lead=lead.strip(),
                   note=note, figures=figures.get(RESPONSES, ()))]  # fmt: skip


def _appendix(period: Period) -> list[Section]:
    found = []
    waits, traffic = period.waits, period.traffic
    if waits is not None and waits.by_site:
        rows = [[one.application, one.site or "elsewhere", *_wait_row(one)] for one in waits.by_site]
        found.append(_table("by-site", "Applications by site", ["application", "site", *_WAIT_COLUMNS], rows,
                            texts=(0, 1), appendix=True))  # fmt: skip
    if traffic is not None:
        for dimension, own in traffic.by.items():
            rows = [
                [o.label, size(round(o.octets)), share(o.share), _octets(o.change.usual), o.change.words(o.octets)]
                for o in own
            ]
            columns = [dimension, "bytes", "share", "baseline", "vs. previous weeks"]
            found.append(_table(f"carried-{dimension}", f"Traffic by {dimension}", columns, rows, appendix=True))
    if period.levels:
        found.append(_levels(period.levels, appendix=True))
    missed = [one for one in period.levels if one.stretches][:8]
    rows = [
        [_called(one), date_and_moment(s.first_ns)[:16], duration(s.last_ns - s.first_ns),
         figure_words(s.worst, _unit(one))]
        for one in missed for s in one.stretches[:4]
    ]  # fmt: skip
    if rows:
        found.append(_table("used-up", "Longest violations", ["level", "from", "for", "at worst"], rows,
                            texts=(0, 1), appendix=True))  # fmt: skip
    if len(period.happened.noticed) > _SHORT:
        rows = [
            [o.watch, o.subject, o.severity, count(o.times), duration(o.lasted_ns)] for o in period.happened.noticed
        ]
        columns = ["watch", "of", "severity", "times", "raised for"]
        found.append(_table("noticed-all", "All events", columns, rows, texts=(0, 1, 2), appendix=True))
    found.append(Section("method", "Method and limits", "text", {"lines": _METHOD, "figures": []}, appendix=True))
    return found


def _unit(one: LevelKept) -> str:
    return entry_of(one.level.measure, one.level.of).unit
