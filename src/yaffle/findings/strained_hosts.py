"""Hosts and devices that are themselves the bottleneck: CPU or one core of several saturated, packets dropped in the
kernel, full accept queues, frame errors. From what they count, kept in a history.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import TYPE_CHECKING

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.findings.finding import Finding
from yaffle.findings.flow_labels import FlowLabels
from yaffle.findings.flow_source import HeldFlows
from yaffle.inventory.places import Places
from yaffle.ledger import causes
from yaffle.units import count, date_and_moment, day, duration, share

if TYPE_CHECKING:
    from yaffle.history.store import History

CPU_CAUSES = ("CPU core saturated", "CPU saturated")  # one core of several, all of them
_WIDTH_NS = 600 * 10**9  # Stretches of so long are judged.
_BUSY = 0.9  # A core that works so much of a stretch has no room left: queues before it grow without bound.
_OTHERS_IDLE = 0.5  # Below, on the mean, the other cores have room: it is one process, or one queue of a device.
_MOST = 12  # findings
_LOW = (1 << 64) - 1
_WHOLE = 100.0
_CPU_TIMES = ("cpu user", "cpu nice", "cpu system", "cpu irq", "cpu softirq", "cpu steal")
_IDLE, _LOAD, _SOFT = "cpu idle", "processor load", "cpu softirq"


@dataclass(frozen=True)
class _Rule:
    """Something that should not be counted at all. least: rises an hour, at worst, from which it is told."""

    measure: str
    cause: str
    least: float
    party: str
    words: str
    step: str


_RULES = (
    _Rule(
        "softnet drops", "softnet drops", 1, causes.SERVER,
        "packets were dropped in the softnet backlog of a core before the IP layer saw them",
        "Spread the interface's receive queues over more cores (RSS, RPS; now {where}), or raise"
        " net.core.netdev_max_backlog.",
    ),
    _Rule(
        "softnet squeezes", "softnet squeezes", 3600, causes.SERVER,
        "times the NET_RX soft interrupt ran out of budget with packets left",
        "Spread the interface's receive queues over more cores (RSS, RPS), or raise net.core.netdev_budget.",
    ),
    _Rule(
        "tcp listen overflows", "listen overflows", 1, causes.SERVER,
        "connection attempts were dropped because an accept queue was full",
        "Find the listening socket with the full accept queue (Survey, connections), and why its process does not"
        " accept: too few workers, or all of them waiting.",
    ),
    _Rule(
        "udp receive buffer errors", "UDP buffer drops", 10, causes.SERVER,
        "datagrams were dropped because a socket's receive buffer was full",
        "Give the process a larger receive buffer (net.core.rmem_max), or find what keeps it from reading.",
    ),
    _Rule(
        "fcs errors", "FCS errors", 10, causes.NETWORK,
        "frames were received with FCS errors",
        "Replace cable and transceiver of {where}; if the far end counts none, it is this direction.",
    ),
    _Rule(
        "late collisions", "late collisions", 1, causes.NETWORK,
        "late collisions occurred, which means a duplex mismatch",
        "Set both ends of {where} to autonegotiation, or both to full duplex.",
    ),
)  # fmt: skip


@dataclass(frozen=True)
class _Course:
    """One number over stretches: what it rose by, or where it stood at its highest."""

    device: str
    object: str
    measure: str
    starts_ns: Int64s
    values: Float64s


def strained_hosts(analysis: Analysis) -> list[Finding]:
    """A finding for each host and what strains it, worst first. Raises HistoryError."""
    history = analysis.history
    if history is None or not history.has_readings:
        return []
    wanted = (_IDLE, _LOAD, *_CPU_TIMES, *(rule.measure for rule in _RULES))
    courses = _courses(history, wanted)
    found = [*_busy_findings(analysis, history, courses), *_counted(courses)]
    return sorted(found, key=lambda f: (-_RANKS[f.severity], -(f.last_ns - f.first_ns)))[:_MOST]


_RANKS = {"critical": 2, "major": 1, "minor": 0}


def _courses(history: "History", measures: Sequence[str]) -> list[_Course]:
    table = history.host_readings(history.first_ns, history.last_ns, _WIDTH_NS, measures)
    if not table.num_rows:
        return []
    names = [table[name].to_numpy(zero_copy_only=False) for name in ("device", "object", "measure")]
    times = table["time_ns"].to_numpy() // _WIDTH_NS * _WIDTH_NS
    rise, spans = (table[name].fill_null(0).to_numpy().astype(np.float64) for name in ("rise", "span_ns"))
    value = table["value"].to_numpy()
    new = np.ones(times.size, bool)
    new[1:] = np.any([one[1:] != one[:-1] for one in names], axis=0)
    found = []
    for own in np.split(np.arange(times.size), np.flatnonzero(new)[1:]):
        device, place, measure = (str(one[own[0]]) for one in names)
        if measure == _LOAD:
            values = value[own] / _WHOLE
        elif measure.startswith("cpu "):  # Seconds over seconds.
            values = rise[own] / np.maximum(1e-9, spans[own] / 1e9)
        else:
            values = rise[own]
        found.append(_Course(device, place, measure, times[own], values))
    return found


# --- processors ---
@dataclass(frozen=True)
class _Strain:
    """Stretches in which a core had no room left."""

    course: _Course
    busy: Bools
    others: Float64s  # the mean of the other cores at the same time; nan without any
    periods: list[tuple[int, int]] = field(default_factory=list)


def _busy_findings(analysis: Analysis, history: "History", courses: list[_Course]) -> Iterator[Finding]:
    loads: dict[str, list[_Course]] = {}
    for one in courses:
        if one.measure == _IDLE:
            loads.setdefault(one.device, []).append(
                _Course(one.device, one.object, one.measure, one.starts_ns, 1 - one.values)
            )
        elif one.measure == _LOAD:
            loads.setdefault(one.device, []).append(one)
    for device, cores in loads.items():
        strains = [strain for core in cores if (strain := _strain(core, cores)).periods]
        if strains:
            worst = max(strains, key=lambda one: sum(b - a for a, b in one.periods))
            yield _busy(analysis, history, device, worst, len(cores), courses)


def _strain(core: _Course, cores: list[_Course]) -> _Strain:
    others = np.full(core.values.size, np.nan)
    rest = [one for one in cores if one is not core]
    if rest:
        sums, counts = np.zeros(core.values.size), np.zeros(core.values.size)
        for one in rest:
            place = np.minimum(np.searchsorted(one.starts_ns, core.starts_ns), one.starts_ns.size - 1)
            same = one.starts_ns[place] == core.starts_ns
            sums[same] += one.values[place[same]]
            counts[same] += 1
        others = np.where(counts > 0, sums / np.maximum(1, counts), np.nan)
    full = core.values >= _BUSY
    return _Strain(core, full, others, _periods(core.starts_ns[full]))


def _periods(starts_ns: Int64s) -> list[tuple[int, int]]:
    """Stretches that follow each other, as one."""
    if not starts_ns.size:
        return []
    parts = np.split(starts_ns, np.flatnonzero(np.diff(starts_ns) > 1.5 * _WIDTH_NS) + 1)
    return [(int(part[0]), int(part[-1]) + _WIDTH_NS) for part in parts]


def _busy(
    analysis: Analysis, history: "History", device: str, strain: _Strain, cores: int, courses: list[_Course]
) -> Finding:
    core, periods = strain.course, strain.periods
    first_ns, last_ns = max(periods, key=lambda one: one[1] - one[0])
    within = (core.starts_ns >= first_ns) & (core.starts_ns < last_ns)
    total_ns = sum(b - a for a, b in periods)
    days = len({day(a) for a, _ in periods})
    others = (
        float(np.nanmean(strain.others[within])) if cores > 1 and not np.isnan(strain.others[within]).all() else 1.0
    )
    alone = cores > 1 and others < _OTHERS_IDLE
    what = f"one core of {cores} ({core.object})" if alone else "the CPU" if cores == 1 else f"{core.object}"
    often = f"on {days} days, {duration(total_ns)} in all" if days > 1 else f"for {duration(total_ns)}"
    with_what, kind = _doing(courses, core, first_ns, last_ns)
    beside = f" while the other cores averaged {share(others)}" if alone else ""
    name = analysis.places.host(device)
    sentence = (
        f"{name}: {what} was above {share(_BUSY)} CPU utilization {often}, worst from {date_and_moment(first_ns)[:16]}"
        f" for {duration(last_ns - first_ns)}{beside}{with_what};"
        f" {_then(analysis.places, history, device, first_ns, last_ns)}"
    )
    if kind == _SOFT:
        step = (
            "One core processes all packets: spread the interface's receive queues and interrupts over the cores (RSS,"
            " RPS)."
        )
    elif alone:
        step = (
            f"One process cannot use more than one core: on {name}, see which one it is then (top, by thread), and"
            " split its work."
        )
    else:
        step = f"See which programs work then on {name} (top), and move them to another hour or another host."
    severity = "critical" if total_ns >= 4 * 3600 * 10**9 else "major"
    return Finding(
        causes.SERVER, CPU_CAUSES[0] if alone else CPU_CAUSES[1], severity, device, sentence, step,
        0.9 if with_what else 0.8, first_ns, last_ns, 0, 0, "", [], [],
        {"device": device, "object": core.object, "cores": cores, "busy": float(core.values[within].mean()),
         "others": others if alone else None, "days": days, "stretches": [list(one) for one in periods],
         "connections": []},
    )  # fmt: skip


def _doing(courses: list[_Course], core: _Course, first_ns: int, last_ns: int) -> tuple[str, str]:
    """(what kind of work it was, in words; its measure): where the kernel tells times apart."""
    shares: dict[str, float] = {}
    for one in courses:
        if one.measure in _CPU_TIMES and (one.device, one.object) == (core.device, core.object):
            within = (one.starts_ns >= first_ns) & (one.starts_ns < last_ns)
            shares[one.measure] = float(one.values[within].mean()) if within.any() else 0.0
    if not shares:
        return "", ""
    kind = max(shares, key=lambda name: shares[name])
    words = {
        "cpu user": "user time", "cpu nice": "user time at low priority", "cpu system": "system time",
        "cpu irq": "interrupts", _SOFT: "soft interrupts (packets)", "cpu steal": "stolen by other guests",
    }  # fmt: skip
    return f", {share(shares[kind])} of it {words[kind]}", kind


def _then(places: Places, history: "History", device: str, first_ns: int, last_ns: int) -> str:
    """What went to and from it meanwhile, by its flow records."""
    try:
        own = ip_address(device)
    except ValueError:
        return "no flow records name it by address, so its traffic at that time is not known"
    found = history.flows_of(int(own) >> 64, int(own) & _LOW, first_ns, last_ns)
    rows = found.records.rows
    if not rows.size:
        return "no flow records of it in that time: it was not working for the network"
    span = np.maximum(1, rows["last_ns"] - rows["first_ns"])
    inside = np.minimum(rows["last_ns"], last_ns) - np.maximum(rows["first_ns"], first_ns)
    octets = rows["octets"] * np.clip(inside / span, 0, 1)
    labels = FlowLabels(HeldFlows(rows, found.records.exporters), rows, places).by("application")
    sums = np.bincount(labels.codes, octets, len(labels.texts))
    most = int(np.argmax(sums))
    return f"{share(sums[most] / max(1.0, float(sums.sum())))} of its traffic at that time was {labels.texts[most]}"


# --- what should not be counted ---
def _counted(courses: list[_Course]) -> Iterator[Finding]:
    for rule in _RULES:
        devices: dict[str, list[_Course]] = {}
        for one in courses:
            if one.measure == rule.measure and one.values.max(initial=0) * 3600e9 / _WIDTH_NS >= rule.least:
                devices.setdefault(one.device, []).append(one)
        for device, own in devices.items():
            yield _of_rule(rule, device, own)


def _of_rule(rule: _Rule, device: str, own: list[_Course]) -> Finding:
    worst = max(own, key=lambda one: float(one.values.sum()))
    total = sum(float(one.values.sum()) for one in own)
    counted = np.flatnonzero(worst.values > 0)
    first_ns, last_ns = int(worst.starts_ns[counted[0]]), int(worst.starts_ns[counted[-1]]) + _WIDTH_NS
    most = int(np.argmax(worst.values))
    where = worst.object or device
    part = f", {share(float(worst.values.sum()) / total)} of them at {worst.object}" if worst.object else ""
    sentence = (
        f"{device}: {count(round(total))} {rule.words}{part}; most from"
        f" {date_and_moment(int(worst.starts_ns[most]))[:16]} on ({count(round(float(worst.values[most])))} in"
        f" {duration(_WIDTH_NS)})."
    )
    return Finding(
        rule.party, rule.cause, "major", device, sentence, rule.step.format(where=where), 0.9, first_ns, last_ns, 0, 0,
        "", [], [],
        {"device": device, "object": worst.object, "measure": rule.measure, "count": total,
         "stretches": [list(one) for one in _periods(worst.starts_ns[counted])], "connections": []},
    )  # fmt: skip
