"""Two periods side by side: the same measure in both, by how much it changed and how sure that is, and who changed and
who did not.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Float64s
from yaffle.capture.addresses import Labels
from yaffle.findings.flow_labels import FlowLabels, exporter_words
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.normal.comparison import Comparison, compare, without_best_and_worst
from yaffle.normal.extent import GroupExtent, extent
from yaffle.progress import Progress, go_on, step
from yaffle.session.baselines import FLOW_VOLUME, IN, OUT, Subject, measured
from yaffle.session.scene import Scene

Period = tuple[int, int]
_FLOW_DIMENSIONS = ("site", "site pair", "application", "host", "interface out")
_BINS = 64  # Intervals of each period in which flow records are summed for extent.
_MOST_LABELS = 40  # of a dimension, the largest, that are looked at


@dataclass(frozen=True)
class CompareSettings:
    """Two periods of a measure, or two sets of runs, a value each; trim: whether the best and the worst of each side
    are left out.

    other: the group of the second side, where that is another one.
    """

    subject: Subject
    before: tuple[Period, ...]
    after: tuple[Period, ...]
    width_ns: int
    trim: bool = False
    other: Subject | None = None

    @property
    def runs(self) -> bool:
        """Whether sets of runs are compared."""
        return max(len(self.before), len(self.after)) > 1


@dataclass(frozen=True)
class Compared:
    """Both periods on one axis, from their starts on."""

    settings: CompareSettings
    before: Float64s  # (n,) values of intervals, nan where there is none
    after: Float64s
    comparison: Comparison
    extent: list[GroupExtent]  # those that tell the changed from the unchanged best first
    counted: str  # what extent is told by


def _side(scene: Scene, settings: CompareSettings, subject: Subject, periods: tuple[Period, ...]) -> Float64s:
    """Values of the intervals of a period; of runs one each."""
    if settings.runs:
        return np.array([float(measured(scene, subject, np.array(period, np.int64))[0]) for period in periods])
    (first, last), width = periods[0], settings.width_ns
    return measured(scene, subject, first + np.arange(max(1, (last - first) // width) + 1, dtype=np.int64) * width)


def _in(times_ns: Array, periods: tuple[Period, ...]) -> Array:
    """Whether moments lie in one of some periods."""
    inside = np.zeros(times_ns.size, bool)
    for first, last in periods:
        inside |= (times_ns >= first) & (times_ns < last)
    return inside


def compared(scene: Scene, settings: CompareSettings, progress: Progress = go_on) -> Compared:
    """Compares two periods. Raises HistoryError, FilterError, or Cancelled when `progress` says so."""
    step(progress, 0.1, "measuring before")
    before = _side(scene, settings, settings.subject, settings.before)
    step(progress, 0.3, "measuring after")
    after = _side(scene, settings, settings.other or settings.subject, settings.after)
    step(progress, 0.5, "looking who changed")
    sides = [side[~np.isnan(side)] for side in (before, after)]
    if settings.trim:
        sides = [np.array(without_best_and_worst(side.tolist())) for side in sides]
    flows = settings.subject.measure in (FLOW_VOLUME, IN, OUT)
    groups = (
        []
        if settings.other is not None
        else _flow_extent(scene, settings, progress)
        if flows
        else _wait_extent(scene, settings)
    )  # Of two groups the one is not the other's past.
    counted = "mean rate" if flows else "median wait of an exchange"
    return Compared(settings, before, after, compare(*sides), groups, counted)


def _wait_extent(scene: Scene, settings: CompareSettings) -> list[GroupExtent]:
    """By exchanges: a wait is changed where it is longer than was usual before for its application."""
    evidence, rows = scene.evidence, scene.filtered_always
    waits = evidence.waits
    first, owner = waits.first_ns[rows], waits.connection[rows]
    before, after = _in(first, settings.before), _in(first, settings.after)
    kept = before | after
    rows, owner = rows[kept], owner[kept]
    names = {
        "application": evidence.application,
        "site": evidence.site,
        "server": evidence.server,
        "user": evidence.client,
    }
    dimensions = {name: Labels(labels.codes[owner], labels.texts) for name, labels in names.items()}
    return extent(waits.wait_ns[rows] / 1e9, before[kept], after[kept], evidence.application.codes[owner], dimensions)


def _flow_extent(scene: Scene, settings: CompareSettings, progress: Progress) -> list[GroupExtent]:
    """By volume: intervals of each group, a group of its own kind; what grew is told from what did not by the share of
    the growth.
    """
    evidence = scene.evidence
    held = [
        [(held_flows(evidence.analysis, *period), period) for period in side]
        for side in (settings.before, settings.after)
    ]
    exporter = settings.subject.exporter if settings.subject.exporter >= 0 else evidence.busiest_exporter
    found: list[GroupExtent] = []
    for k, dimension in enumerate((*_FLOW_DIMENSIONS, "exporter")):
        step(progress, 0.5 + 0.45 * k / 6, f"looking which {dimension} changed")
        sums = [_added([_binned(scene, one, period, dimension, exporter) for one, period in side]) for side in held]
        sizes = {
            label: sum(float(side[label].sum()) for side in sums if label in side) for label in {*sums[0], *sums[1]}
        }
        largest = sorted(sizes, key=lambda label: -sizes[label])[:_MOST_LABELS]
        means = {
            label: (_rate(sums[0], label, settings.before), _rate(sums[1], label, settings.after)) for label in largest
        }
        grown = sum(abs(after - before) for before, after in means.values())
        for label in largest:
            one, two = (
                side.get(label, np.zeros(_BINS * len(periods)))
                for side, periods in zip(sums, (settings.before, settings.after), strict=True)
            )
            sides = compare(one, two)
            separates = (means[label][1] - means[label][0]) / grown if grown else 0.0
            found.append(
                GroupExtent(
                    dimension,
                    label,
                    sides,
                    int((two > np.quantile(one, 0.95)).sum()),
                    two.size,
                    separates,
                    means[label],
                    whole=True,
                )
            )
    return sorted(found, key=lambda g: (-abs(g.separates), g.dimension))


def _rate(sums: dict[str, Array], label: str, periods: tuple[Period, ...]) -> float:
    """Bits/s of a label over whole periods."""
    return (
        float(sums[label].sum()) * 8e9 / max(1, sum(last - first for first, last in periods)) if label in sums else 0.0
    )


def _added(parts: list[dict[str, Array]]) -> dict[str, Array]:
    """Bins of several periods, one behind the other."""
    labels = {label for part in parts for label in part}
    return {label: np.concatenate([part.get(label, np.zeros(_BINS)) for part in parts]) for label in labels}


def _binned(scene: Scene, held: HeldFlows, period: Period, dimension: str, exporter: int) -> dict[str, Array]:
    """Bytes in intervals of a period, by label."""
    rows = held.rows
    if exporter >= 0 and dimension != "exporter":
        rows = rows[rows["exporter"] == exporter]
    if not rows.size:
        return {}
    labels = (
        Labels(rows["exporter"].astype(np.int64), [exporter_words(e) for e in held.exporters])
        if dimension == "exporter"
        else FlowLabels(held, rows, scene.evidence.places).by(dimension)
    )
    middle = (rows["first_ns"] + rows["last_ns"]) // 2
    place = (middle - period[0]) * _BINS // max(1, period[1] - period[0])
    kept = (place >= 0) & (place < _BINS)
    count = len(labels.texts)
    table = np.bincount(labels.codes[kept] * _BINS + place[kept], rows["octets"][kept], count * _BINS).reshape(
        count, _BINS
    )
    return {labels.texts[k]: table[k] for k in np.flatnonzero(table.sum(axis=1) > 0).tolist()}
