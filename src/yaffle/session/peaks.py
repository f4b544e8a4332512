"""The highest hours of flow records, with what made them and which complaints came then."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.findings.flow_labels import FlowLabels, exporter_words
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.session.flow_parts import largest_exporters, octets_over
from yaffle.session.kept import Complaint
from yaffle.session.scene import Scene

_WIDTH_NS = 3600 * 10**9
_MOST = 24
_NEAR_NS = 3600 * 10**9
_SAME = 0.9  # A stretch that stays above so much of a peak is one with it.


@dataclass(frozen=True)
class Peak:
    """One hour that was higher than those beside it, at one exporter."""

    exporter: str
    first_ns: int
    last_ns: int
    bits_per_s: float
    pair: str
    pair_share: float
    application: str
    complaints: tuple[Complaint, ...]  # within an hour of it


def highest(octets: Array, most: int) -> list[int]:
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


def _is_top(octets: Array, place: int) -> bool:
    """Whether neither neighbor is higher."""
    return bool(octets[place] >= octets[max(0, place - 1) : place + 2].max())


def peaks(scene: Scene, complaints: tuple[Complaint, ...]) -> list[Peak]:
    """The highest hours of all exporters, highest first. Raises HistoryError."""
    evidence = scene.evidence
    first, last = evidence.first_ns // _WIDTH_NS, -(-evidence.last_ns // _WIDTH_NS)
    start_ns, bins = first * _WIDTH_NS, max(1, last - first)
    held = held_flows(evidence.analysis, start_ns, start_ns + bins * _WIDTH_NS)
    found: list[tuple[float, int, int]] = []
    for exporter in largest_exporters(held):
        octets = octets_over(held.rows[held.rows["exporter"] == exporter], start_ns, start_ns + bins * _WIDTH_NS, bins)
        found += [(float(octets[place]), exporter, place) for place in highest(octets, _MOST)]
    return [
        _peak(scene, held, octets, exporter, start_ns + place * _WIDTH_NS, complaints)
        for octets, exporter, place in sorted(found, key=lambda one: -one[0])[:_MOST]
    ]


def _peak(
    scene: Scene, held: HeldFlows, octets: float, exporter: int, start: int, complaints: tuple[Complaint, ...]
) -> Peak:
    stop = start + _WIDTH_NS
    rows = held.rows[
        (held.rows["exporter"] == exporter) & (held.rows["last_ns"] >= start) & (held.rows["first_ns"] < stop)
    ]
    inside = np.minimum(rows["last_ns"], stop) - np.maximum(rows["first_ns"], start)
    parts = rows["octets"] * np.clip(inside / np.maximum(1, rows["last_ns"] - rows["first_ns"]), 0, 1)
    labels = FlowLabels(held, rows, scene.evidence.places)
    pairs, applications = labels.by("pair"), labels.by("application")
    sums = np.bincount(pairs.codes, parts, len(pairs.texts))
    best = int(np.argmax(sums))
    by_application = np.bincount(applications.codes, parts, len(applications.texts))
    near = tuple(c for c in complaints if c.first_ns <= stop + _NEAR_NS and c.last_ns >= start - _NEAR_NS)
    return Peak(
        exporter_words(held.exporters[exporter]), start, stop, octets * 8e9 / _WIDTH_NS, pairs.texts[best],
        float(sums[best] / max(1e-9, sums.sum())),
        applications.texts[int(np.argmax(by_application))], near,
    )  # fmt: skip
