"""The highest hours of flow records, with what made them and which complaints came then."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.findings.flow_labels import FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.session.flow_parts import FlowSettings, flow_series
from yaffle.session.kept import Complaint
from yaffle.session.scene import Scene

_WIDTH_NS = 3600 * 10**9
_MOST = 12
_NEAR_NS = 3600 * 10**9


@dataclass(frozen=True)
class Peak:
    """One hour that was higher than those beside it."""

    first_ns: int
    last_ns: int
    bits_per_s: float
    pair: str
    pair_share: float
    application: str
    complaints: tuple[Complaint, ...]  # within an hour of it


def highest(octets: Array, most: int) -> list[int]:
    """Places that are no lower than their neighbours and higher than one of them, highest first."""
    padded = np.concatenate([[-1.0], octets, [-1.0]])
    local = (octets >= padded[:-2]) & (octets >= padded[2:]) & ((octets > padded[:-2]) | (octets > padded[2:])) & (octets > 0)
    places = np.flatnonzero(local)
    return [int(k) for k in places[np.argsort(-octets[places], kind="stable")][:most]]


def peaks(scene: Scene, exporter: int, complaints: tuple[Complaint, ...]) -> list[Peak]:
    """The highest hours of an exporter (-1: of the one with most), highest first. Raises HistoryError."""
    evidence = scene.evidence
    first, last = evidence.first_ns // _WIDTH_NS, -(-evidence.last_ns // _WIDTH_NS)
    edge_ns = np.arange(first, max(first + 1, last) + 1, dtype=np.int64) * _WIDTH_NS
    octets, _ = flow_series(evidence, int(edge_ns[0]), int(edge_ns[-1]), FlowSettings("protocol", exporter), edge_ns)
    found = []
    for place in highest(octets, _MOST):
        start, stop = int(edge_ns[place]), int(edge_ns[place + 1])
        pair, share, application = _made_by(scene, exporter, start, stop)
        near = tuple(c for c in complaints if c.first_ns <= stop + _NEAR_NS and c.last_ns >= start - _NEAR_NS)
        found.append(Peak(start, stop, float(octets[place]) * 8e9 / _WIDTH_NS, pair, share, application, near))
    return found


def _made_by(scene: Scene, exporter: int, start: int, stop: int) -> tuple[str, float, str]:
    held = held_flows(scene.evidence.analysis, start, stop)
    rows = held.rows[(held.rows["last_ns"] >= start) & (held.rows["first_ns"] < stop)]
    rows = rows[rows["exporter"] == (exporter if exporter >= 0 else scene.evidence.busiest_exporter)]
    if not rows.size:
        return "", 0.0, ""
    inside = np.minimum(rows["last_ns"], stop) - np.maximum(rows["first_ns"], start)
    octets = rows["octets"] * np.clip(inside / np.maximum(1, rows["last_ns"] - rows["first_ns"]), 0, 1)
    labels = FlowLabels(held, rows, scene.evidence.places)
    pairs, applications = labels.by("pair"), labels.by("application")
    sums = np.bincount(pairs.codes, octets, len(pairs.texts))
    best = int(np.argmax(sums))
    by_application = np.bincount(applications.codes, octets, len(applications.texts))
    return pairs.texts[best], float(sums[best] / max(1e-9, sums.sum())), applications.texts[int(np.argmax(by_application))]
