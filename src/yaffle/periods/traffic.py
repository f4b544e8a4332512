"""What was carried in a period, by application and by site, against the weeks before."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Float64s
from yaffle.findings.flow_labels import FlowLabels, exporter_words
from yaffle.findings.flow_source import held_flows
from yaffle.history.layout import HOUR_NS
from yaffle.periods.change import Change, change_of, usual_hours
from yaffle.periods.span import Span
from yaffle.session.evidence import Evidence
from yaffle.session.flow_parts import octets_over

_MOST = 12


@dataclass(frozen=True)
class Carried:
    """One application or site. hours: (n,) bytes of each hour of the period; usual: of the same hours before."""

    label: str
    octets: float
    share: float
    change: Change
    hours: Float64s
    usual: Float64s


@dataclass(frozen=True)
class Traffic:
    """Of one exporter: several along a path count the same traffic."""

    exporter: str
    octets: float
    change: Change
    by: dict[str, list[Carried]]  # by dimension, largest first


def traffic_of(evidence: Evidence, span: Span) -> Traffic | None:
    """None where nobody told of traffic. Raises HistoryError."""
    low = span.before_ns
    held = held_flows(evidence.analysis, low, span.last_ns)
    exporter = evidence.busiest_exporter if held.rows.size else -1
    rows = held.rows[held.rows["exporter"] == exporter] if exporter >= 0 else held.rows[:0]
    if not rows.size:
        return None
    count = (span.last_ns - low) // HOUR_NS
    begin = count - span.hours
    told = int(np.searchsorted(np.arange(count) * HOUR_NS + low, int(rows["first_ns"].min()) // HOUR_NS * HOUR_NS))

    def hours_of(some: Array) -> Array:
        found = octets_over(some, low, span.last_ns, count)
        found[:told] = np.nan  # Before the first record nothing is known.
        return found

    def carried(label: str, some: Array, whole: float) -> Carried:
        hours = hours_of(some)
        now = hours[begin:]
        octets = float(np.nansum(now))
        change = change_of(hours[:begin], now, summed=True)
        return Carried(label, octets, octets / max(1.0, whole), change, now, usual_hours(hours[:begin], now.size))

    everything = hours_of(rows)
    whole = float(np.nansum(everything[begin:]))
    by: dict[str, list[Carried]] = {}
    for dimension in ("application", "site"):
        labels = FlowLabels(held, rows, evidence.places).by(dimension)
        inside = rows["last_ns"] >= span.first_ns
        sizes = np.bincount(labels.codes[inside], rows["octets"][inside], len(labels.texts))
        order = [k for k in np.argsort(-sizes, kind="stable")[:_MOST].tolist() if sizes[k] > 0]
        by[dimension] = [carried(labels.texts[k], rows[labels.codes == k], whole) for k in order]
    change = change_of(everything[:begin], everything[begin:], summed=True)
    return Traffic(exporter_words(held.exporters[exporter]), whole, change, by)
