"""The highest hours of a measure, with what made them and which complaints came then."""

from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Float64s, Structs
from yaffle.findings.flow_labels import FlowLabels, exporter_words
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.session.baselines import FLOW_VOLUME, Subject, groups_of, measured
from yaffle.session.flow_parts import largest_exporters, octets_over
from yaffle.session.kept import Complaint
from yaffle.session.measures import MOST_INTERVALS
from yaffle.session.scene import Scene

_WIDTH_NS = 3600 * 10**9
_MOST = 24
_MOST_GROUPS = 12
_NEAR_NS = 3600 * 10**9
_SAME = 0.9  # A stretch that stays above so much of a peak is one with it.


@dataclass(frozen=True)
class Peak:
    """One hour that was higher than those beside it, at one exporter, interface or whatever was measured."""

    at: str
    first_ns: int
    last_ns: int
    lasted_ns: int  # for how long it stayed nearly as high
    value: float
    unit: str
    pair: str  # what carried most then; empty where no flow record tells
    pair_share: float
    application: str
    complaints: tuple[Complaint, ...]  # while it lasted, or within an hour of that


def highest(octets: Float64s, most: int) -> list[int]:
    """Places that are higher than what surrounds them, highest first; of a stretch that stays nearly as high only the
    highest.
    """
    found: list[int] = []
    for place in np.argsort(-octets, kind="stable").tolist():
        if len(found) == most or octets[place] <= 0:
            break
        between = (octets[min(place, other) : max(place, other) + 1] for other in found)
        if not any(stretch.min() >= _SAME * octets[place] for stretch in between) and _is_top(octets, place):
            found.append(place)
    return found


def _is_top(octets: Float64s, place: int) -> bool:
    """Whether neither neighbor is higher."""
    return bool(octets[place] >= octets[max(0, place - 1) : place + 2].max())


def lasting(values: Float64s, place: int) -> tuple[int, int]:
    """From where to where it stays nearly as high as at a place: the first, and the one behind the last."""
    low = np.flatnonzero(values < _SAME * values[place])
    before, after = low[low < place], low[low > place]
    return int(before[-1]) + 1 if before.size else 0, int(after[0]) if after.size else values.size


def peaks(
    scene: Scene, complaints: tuple[Complaint, ...], subject: Subject, span: tuple[int, int] | None = None
) -> list[Peak]:
    """The highest hours of a measure, of all its groups, highest first: of the volume of flow records those of all
    exporters. span: of these only; None for all. Raises HistoryError or FilterError.
    """
    if subject.measure != FLOW_VOLUME:
        return _of_measure(scene, complaints, subject, span)
    evidence = scene.evidence
    low, high = span or (evidence.first_ns, evidence.last_ns)
    first, last = low // _WIDTH_NS, -(-high // _WIDTH_NS)
    start_ns, bins = first * _WIDTH_NS, max(1, last - first)
    held = held_flows(evidence.analysis, start_ns, start_ns + bins * _WIDTH_NS)
    found: list[tuple[float, int, int, tuple[int, int]]] = []
    for exporter in largest_exporters(held):
        octets = octets_over(held.rows[held.rows["exporter"] == exporter], start_ns, start_ns + bins * _WIDTH_NS, bins)
        found += [(float(octets[p]), exporter, p, lasting(octets, p)) for p in highest(octets, _MOST)]
    best = sorted(found, key=lambda one: -one[0])[:_MOST]
    hours = [start_ns + place * _WIDTH_NS for place in range(bins + 1)]
    return [_peak(scene, held, one, hours, complaints) for one in best]


def _of_measure(
    scene: Scene, complaints: tuple[Complaint, ...], subject: Subject, span: tuple[int, int] | None
) -> list[Peak]:
    low, high = span or (scene.evidence.first_ns, scene.evidence.last_ns)
    first, last = low // _WIDTH_NS, -(-high // _WIDTH_NS)
    edge_ns = np.arange(first, max(first + 1, last) + 1, dtype=np.int64)[: MOST_INTERVALS + 1] * _WIDTH_NS
    labels = groups_of(scene, subject)[:_MOST_GROUPS] if subject.by else [""]
    found: list[tuple[float, str, int, tuple[int, int]]] = []
    for label in labels:
        values = np.nan_to_num(measured(scene, replace(subject, label=label), edge_ns), nan=0.0)
        found += [(float(values[p]), label, p, lasting(values, p)) for p in highest(values, _MOST)]
    best = sorted(found, key=lambda one: -one[0])[:_MOST]
    return [_of_group(scene, complaints, subject, one, edge_ns.tolist()) for one in best]


def _of_group(
    scene: Scene,
    complaints: tuple[Complaint, ...],
    subject: Subject,
    found: tuple[float, str, int, tuple[int, int]],
    hours: list[int],
) -> Peak:
    """One hour of a group; of an interface with what passed it, where its device told flow records."""
    value, label, place, (first, stop_at) = found
    start, stop = hours[place], hours[place + 1]
    made = ("", 0.0, "")
    if subject.by == "interface":
        held = held_flows(scene.evidence.analysis, start, stop)
        for number, exporter in enumerate(held.exporters):
            ports = [port for port, name in exporter.interfaces.items() if f"{exporter.address} {name}" == label]
            if ports and exporter.flow_records:
                way = np.isin(held.rows["ingress"], ports) | np.isin(held.rows["egress"], ports)
                made = _made_by(scene, held, held.rows[way & (held.rows["exporter"] == number)], start, stop)
    near = _near(complaints, hours[first], hours[stop_at])
    lasted = hours[stop_at] - hours[first]
    return Peak(label or subject.words, start, stop, lasted, value, subject.unit, *made, near)


def _made_by(scene: Scene, held: HeldFlows, rows: Structs, start: int, stop: int) -> tuple[str, float, str]:
    """(the pair that carried most, its share, the application that did)."""
    rows = rows[(rows["last_ns"] >= start) & (rows["first_ns"] < stop)]
    if not rows.size:
        return "", 0.0, ""
    inside = np.minimum(rows["last_ns"], stop) - np.maximum(rows["first_ns"], start)
    parts = rows["octets"] * np.clip(inside / np.maximum(1, rows["last_ns"] - rows["first_ns"]), 0, 1)
    labels = FlowLabels(held, rows, scene.evidence.places)
    pairs, applications = labels.by("pair"), labels.by("application")
    sums = np.bincount(pairs.codes, parts, len(pairs.texts))
    best = int(np.argmax(sums))
    by_application = np.bincount(applications.codes, parts, len(applications.texts))
    share_of = float(sums[best] / max(1e-9, sums.sum()))
    return pairs.texts[best], share_of, applications.texts[int(np.argmax(by_application))]


def _near(complaints: tuple[Complaint, ...], start: int, stop: int) -> tuple[Complaint, ...]:
    return tuple(c for c in complaints if c.first_ns <= stop + _NEAR_NS and c.last_ns >= start - _NEAR_NS)


def _peak(
    scene: Scene,
    held: HeldFlows,
    found: tuple[float, int, int, tuple[int, int]],
    hours: list[int],
    complaints: tuple[Complaint, ...],
) -> Peak:
    octets, exporter, place, (first, stop_at) = found
    start, stop = hours[place], hours[place + 1]
    made = _made_by(scene, held, held.rows[held.rows["exporter"] == exporter], start, stop)
    near = _near(complaints, hours[first], hours[stop_at])
    bits_per_s, lasted = octets * 8e9 / _WIDTH_NS, hours[stop_at] - hours[first]
    return Peak(exporter_words(held.exporters[exporter]), start, stop, lasted, bits_per_s, "bit/s", *made, near)
