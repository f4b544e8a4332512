"""Links under high utilization: when, by what traffic, and whom it affects; from counters and flow records alone."""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Float64s, Structs
from yaffle.capture.addresses import Labels
from yaffle.findings.finding import Finding
from yaffle.findings.flow_labels import REST, FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.findings.interfaces import OVER, InterfaceUse, interfaces, through
from yaffle.findings.worn_interfaces import worn_interfaces
from yaffle.ledger import causes
from yaffle.units import count, date_and_moment, day, duration, hour, rate, share

CAUSE = "full-line"
_LEAST_NS = 600 * 10**9  # A line is full for so long, or it is not told.
_GAP_NS = 900 * 10**9  # Stretches that lie closer are one.
_MOST = 10  # findings
_HOUR_NS = 3600 * 10**9
_WORKING = range(6, 20)  # Hours of the day in which being full hurts most.


@dataclass(frozen=True)
class _Stretch:
    first_ns: int
    last_ns: int

    @property
    def length_ns(self) -> int:
        return self.last_ns - self.first_ns

    @property
    def working_ns(self) -> int:
        """How much of it lies in working hours."""
        hours = np.arange(self.first_ns // _HOUR_NS, self.last_ns // _HOUR_NS + 1)
        return sum(
            min(self.last_ns, int(h + 1) * _HOUR_NS) - max(self.first_ns, int(h) * _HOUR_NS)
            for h in hours
            if hour(int(h) * _HOUR_NS) in _WORKING
        )


def _stretches(one: InterfaceUse) -> list[_Stretch]:
    """When an interface was over the limit, long enough to be told."""
    full = np.maximum(*one.bps) > OVER * one.speed_bps
    half = int(np.median(np.diff(one.middles_ns))) // 2 if one.middles_ns.size > 1 else 0
    times = one.middles_ns[full]
    if not times.size:
        return []
    parts = np.split(times, np.flatnonzero(np.diff(times) > _GAP_NS) + 1)
    return [
        s for s in (_Stretch(int(part[0]) - half, int(part[-1]) + half) for part in parts) if s.length_ns >= _LEAST_NS
    ]


def _within(rows: Structs, stretch: _Stretch) -> Float64s:
    """Bytes of each record that fall into a stretch."""
    span = np.maximum(1, rows["last_ns"] - rows["first_ns"])
    inside = np.minimum(rows["last_ns"], stretch.last_ns) - np.maximum(rows["first_ns"], stretch.first_ns)
    return np.asarray(rows["octets"] * np.clip(inside / span, 0, 1))


def _what_fills(analysis: Analysis, one: InterfaceUse, stretch: _Stretch) -> tuple[str, dict[str, object]]:
    """In words what went through, and the figures."""
    exporter, [*way] = through(analysis, one)
    if exporter < 0:
        return (
            (
                f"its device exported no flow records, so the traffic is not known; flow records of {one.device}"
                " would tell."
            ),
            {},
        )
    held = held_flows(analysis, stretch.first_ns, stretch.last_ns)
    rows = held.rows[held.rows["exporter"] == exporter]
    for dimension, label in way:
        way_labels = FlowLabels(held, rows, analysis.places).by(dimension)
        rows = rows[way_labels.codes == way_labels.code(label)]
    if not rows.size:
        return "no flow record lies in that time, so the traffic is not known.", {}
    octets = _within(rows, stretch)
    total = max(1.0, float(octets.sum()))
    labels = FlowLabels(held, rows, analysis.places)
    pair, part = _largest(labels.by("pair"), octets)
    application, of_application = _largest(labels.by("application"), octets)
    hosts, sites = labels.by("host"), labels.by("site")
    host, _ = _largest(hosts, octets)
    rest = (octets > 0) & (hosts.codes != hosts.code(host)) & (hosts.codes != hosts.code(REST))
    others = np.unique(hosts.codes[rest]).size
    hurt_sites = sorted({sites.texts[k] for k in np.unique(sites.codes[rest]).tolist()})
    hurt = (
        f"{count(others)} other"
        f" host{'s' if others != 1 else ''}{' of ' + ', '.join(hurt_sites[:3]) if hurt_sites else ''} shared the"
        " remaining capacity"
        if others
        else "no other host used it then"
    )
    words = f"{share(part / total)} of it was {pair}, {share(of_application / total)} {application}; {hurt}."
    return words, {
        "pair": pair,
        "pair_share": part / total,
        "application": application,
        "hosts_hurt": others,
        "sites_hurt": hurt_sites,
        "level": held.words,
    }


def _largest(labels: Labels, octets: Float64s) -> tuple[str, float]:
    sums = np.bincount(labels.codes, octets, len(labels.texts))
    return labels.texts[int(np.argmax(sums))], float(sums.max())


def interface_findings(analysis: Analysis) -> list[Finding]:
    """A finding for each interface that was full for long, most of it in working hours first; then for those with
    errors or discards. Raises HistoryError.
    """
    times = [(s.first_ns, s.last_ns) for s in analysis.capture.sources if s.last_ns]
    if not analysis.flows.counters.rows.size and (analysis.history is None or not analysis.history.counters.devices):
        return []
    readings = analysis.flows.counters.rows["time_ns"]
    times += [(int(readings.min()), int(readings.max()))] if readings.size else []
    found = []
    every = interfaces(analysis, min(t[0] for t in times), max(t[1] for t in times)).rows
    for one in every:
        stretches = _stretches(one) if one.speed_bps > 0 else []
        if stretches:
            found.append(_finding(analysis, one, stretches))
    full = sorted(found, key=lambda f: -float(f.grounds["working_hours_ms"]))[:_MOST]
    return full + worn_interfaces(every)


def _how_clean(one: InterfaceUse) -> str:
    """Whether it was more than full: what its device counts of broken frames."""
    if not one.errors_known:
        return ""
    if not one.errors:
        return " It counted no errors: the link is clean, it is only full."
    return f" It counted {count(one.errors)} errors, too: check cable and transceiver."


def _finding(analysis: Analysis, one: InterfaceUse, stretches: list[_Stretch]) -> Finding:
    worst = max(stretches, key=lambda s: (s.working_ns, s.length_ns))
    days = len({day(s.first_ns) for s in stretches})
    working = sum(s.working_ns for s in stretches)
    filled, grounds = _what_fills(analysis, one, worst)
    often = f"on {days} days" if days > 1 else "once"
    subject = f"{one.device} {one.name}"
    sentence = (
        f"{one.name[:1].upper()}{one.name[1:]} of {one.device} had {one.direction} utilization above {share(OVER)} of"
        f" {rate(one.speed_bps)} {often}, worst from {date_and_moment(worst.first_ns)[:16]} for"
        f" {duration(worst.length_ns)}, {duration(worst.working_ns)} of that in working hours;"
        f" {filled}{_how_clean(one)}"
    )
    step = (
        "Move this traffic to another hour, or limit its rate; the same hour of earlier weeks shows since when it grew"
        " (Compare)."
    )
    if not grounds:
        step = f"Have {one.device} export flow records, or capture there while utilization is high."
    grounds |= {
        "interface": one.number,
        "device": one.device,
        "way": one.direction,
        "speed_bps": one.speed_bps,
        "errors": one.errors if one.errors_known else None,
        "days": days,
        "working_hours_ms": working / 1e6,
    }
    grounds |= {"stretches": [[s.first_ns, s.last_ns] for s in stretches], "connections": []}
    severity = "critical" if working >= _HOUR_NS else "major" if working >= _LEAST_NS else "minor"
    hurt = grounds.get("hosts_hurt", 0)
    return Finding(
        causes.NETWORK, CAUSE, severity, subject, sentence, step, 0.95 if "pair" in grounds else 0.7,
        worst.first_ns, worst.last_ns, 0,
        int(hurt) if isinstance(hurt, int) else 0, "", [], [], grounds,
    )  # fmt: skip
