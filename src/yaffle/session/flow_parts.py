"""What flow records tell of a period: volume by any dimension, with share and trend, and rates over time.

A record counts in the period as far as its span lies in it: its bytes and packets are taken to be spread evenly over
its span. Exporters along one path count the same traffic each for itself: one of them is looked at, not their sum.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s, Structs
from yaffle.findings.flow_labels import DIMENSIONS, FlowLabels
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.findings.kernel_figures import KernelFigures, kernel_figures
from yaffle.kernels import int64
from yaffle.kernels import kernel as compiled_kernel
from yaffle.progress import Progress, go_on
from yaffle.records.flow_table import PACKETS, Exporter
from yaffle.session.evidence import Evidence
from yaffle.session.flow_filter import narrowed
from yaffle.session.make_up import TREND

RECENT_S = (10, 60, 300)
BINS = 240
_MOST = 300
_MOST_EXPORTERS = 64


@dataclass(frozen=True)
class FlowPart:
    """One line."""

    label: str
    octets: float
    packets: float
    records: int
    share: float
    trend: Float64s  # bytes in TREND equal stretches of the period
    measured: str = ""  # what the exporter measured of these records, beside counting them
    kernel: KernelFigures | None = None  # what their senders' kernels did


@dataclass(frozen=True)
class FlowSettings:
    """What the user chose to see of flow records."""

    by: str = DIMENSIONS[0]
    exporter: int = -1  # -1: whichever told most
    inside: tuple[tuple[str, str], ...] = ()  # (dimension, label) of each step down
    filter: str = ""  # of the focus


@dataclass(frozen=True)
class FlowPicture:
    """What the station shows of flow records."""

    exporters: list[tuple[int, Exporter]]  # those with records
    exporter: int  # whose are shown; -1 without any
    settings: FlowSettings
    parts: list[FlowPart]
    edges_ns: Int64s
    bits_per_s: Float64s
    octets: float
    records: int
    words: str  # at which level a history's records are; empty where each stands alone
    recent_bps: Float64s2  # of each part, in the last RECENT_S seconds of the period


@compiled_kernel
def _spread(
    first_ns: Int64s,
    last_ns: Int64s,
    octets: Int64s,
    packets: Int64s,
    records: Int64s,
    code: Int64s,
    start_ns: int,
    end_ns: int,
    sums: Float64s2,
    trends: Float64s2,
    rate: Float64s,
) -> None:
    """Adds each record, as far as it lies in the period, to its label: bytes, packets, records; and to intervals of
    both resolutions.
    """
    span = end_ns - start_ns
    for i in range(first_ns.size):
        # From the start of the period on, so that fractions of a nanosecond are not lost in the age of the world.
        first = first_ns[i] - start_ns
        last = max(last_ns[i] - start_ns, first + 1000)
        a, b = max(first, 0), min(last, span)
        if b <= a:
            continue
        part = (b - a) / (last - first)
        k = code[i]
        sums[k, 0] += octets[i] * part
        sums[k, 1] += packets[i] * part
        sums[k, 2] += records[i]
        for out in range(2):
            bins = trends.shape[1] if out == 0 else rate.size
            width = span / bins
            j = min(bins - 1, int64(a / width))
            while j < bins:
                low, high = j * width, (j + 1) * width
                share = (min(float(b), high) - max(float(a), low)) / (last - first)
                if share > 0:
                    if out == 0:
                        trends[k, j] += octets[i] * share
                    else:
                        rate[j] += octets[i] * share
                if high >= b:
                    break
                j += 1


def flow_picture(
    evidence: Evidence, first_ns: int, last_ns: int, settings: FlowSettings, progress: Progress = go_on
) -> FlowPicture:
    """The records of one exporter (of the one with most bytes where none is given) in a period.

    Raises HistoryError; FilterError where the filter fails on them; Cancelled when `progress` says so.
    """
    held = narrowed(held_flows(evidence.analysis, first_ns, last_ns), evidence.places, settings.filter, progress)
    rows, by, exporter = held.rows, settings.by, settings.exporter
    sizes = (
        np.bincount(rows["exporter"], rows["octets"], len(held.exporters))
        if rows.size
        else np.zeros(len(held.exporters))
    )
    having = [(k, e) for k, e in enumerate(held.exporters) if e.flow_records]
    if exporter not in [k for k, _ in having]:
        exporter = max(
            (k for k, _ in having), key=lambda k: (held.exporters[k].protocol != PACKETS, sizes[k]), default=-1
        )
    edges_ns = first_ns + np.array([k * max(1, last_ns - first_ns) // BINS for k in range(BINS + 1)], np.int64)
    if exporter < 0:
        return FlowPicture(
            [], -1, settings, [], edges_ns, np.zeros(BINS), 0.0, 0, held.words, np.zeros((0, len(RECENT_S)))
        )
    place = np.flatnonzero(rows["exporter"] == exporter)
    own = rows[place]
    for dimension, label in settings.inside:
        labels = FlowLabels(held, own, evidence.places).by(dimension)
        inner = np.flatnonzero(labels.codes == labels.code(label)) if own.size else np.empty(0, np.int64)
        place, own = place[inner], own[inner]
    labels = FlowLabels(held, own, evidence.places).by(by)
    measured = _measured(held, place, labels.codes)
    count = max(1, len(labels.texts))
    sums, trends, rate = np.zeros((count, 3)), np.zeros((count, TREND)), np.zeros(BINS)
    _added(own, labels.codes, first_ns, max(last_ns, first_ns + 1), sums, trends, rate)
    kernel = kernel_figures(own, labels.codes, count)
    total = float(sums[:, 0].sum())
    order = [k for k in np.argsort(-sums[:, 0], kind="stable")[:_MOST].tolist() if sums[k, 2]]
    parts = [
        FlowPart(
            labels.texts[k],
            float(sums[k, 0]),
            float(sums[k, 1]),
            int(sums[k, 2]),
            float(sums[k, 0]) / max(1.0, total),
            trends[k],
            measured.get(k, ""),
            kernel.get(k),
        )
        for k in order
    ]
    seconds = np.maximum(np.diff(edges_ns) / 1e9, 1e-9)
    recent = (
        np.stack([_recent(own, labels.codes, last_ns, s, count) for s in RECENT_S], axis=1)[order]
        if order
        else np.zeros((0, len(RECENT_S)))
    )
    return FlowPicture(
        having,
        exporter,
        settings,
        parts,
        edges_ns,
        rate * 8 / seconds,
        total,
        int(sums[:, 2].sum()),
        held.words,
        recent,
    )


def _measured(held: HeldFlows, place: Int64s, codes: Int64s) -> dict[int, str]:
    """By label: figures of the exporter's own in words, the mean and the most of each; texts as they are."""
    figures: dict[int, dict[str, list[int]]] = {}
    texts: dict[int, dict[str, str]] = {}
    own = dict(zip(place.tolist(), codes.tolist(), strict=True)) if held.own else {}
    for row, told in held.own.items():
        if row in own:
            for name, value in told.items():
                if isinstance(value, int):
                    figures.setdefault(own[row], {}).setdefault(name, []).append(value)
                else:
                    texts.setdefault(own[row], {})[name] = value
    found = {}
    for code in {*figures, *texts}:
        parts = [
            f"{name} {sum(v) / len(v):.4g} (most {max(v)})" if len(set(v)) > 1 else f"{name} {v[0]}"
            for name, v in figures.get(code, {}).items()
        ]
        found[code] = ", ".join([*parts, *(f"{name} {text}" for name, text in texts.get(code, {}).items())])
    return found


def _recent(rows: Structs, codes: Int64s, last_ns: int, seconds: int, count: int) -> Float64s:
    """Bits/s of each label in the last seconds of the period."""
    late = np.flatnonzero(rows["last_ns"] >= last_ns - seconds * 10**9)
    sums = np.zeros((count, 3))
    _added(rows[late], codes[late], last_ns - seconds * 10**9, last_ns, sums, np.zeros((count, 1)), np.zeros(1))
    return np.asarray(sums[:, 0] * 8 / seconds)


def _added(
    rows: Structs, codes: Int64s, first_ns: int, last_ns: int, sums: Float64s2, trends: Float64s2, rate: Float64s
) -> None:
    first, last, octets, packets, records = (
        np.ascontiguousarray(rows[name]) for name in ("first_ns", "last_ns", "octets", "packets", "records")
    )
    _spread(first, last, octets, packets, records, codes, first_ns, last_ns, sums, trends, rate)


def flow_octets(evidence: Evidence, first_ns: int, last_ns: int, bins: int) -> Float64s:
    """The most bytes that any one exporter told of each of equal intervals, (bins,). Raises HistoryError."""
    held = held_flows(evidence.analysis, first_ns, last_ns)
    octets = np.zeros(bins)
    for exporter in largest_exporters(held):
        octets = np.maximum(octets, octets_over(held.rows[held.rows["exporter"] == exporter], first_ns, last_ns, bins))
    return octets


def largest_exporters(held: HeldFlows) -> list[int]:
    """Numbers of the exporters with most bytes, most first; no more than are looked at one by one."""
    if not held.rows.size:
        return []
    sizes = np.bincount(held.rows["exporter"], held.rows["octets"], len(held.exporters))
    return [k for k in np.argsort(-sizes, kind="stable")[:_MOST_EXPORTERS].tolist() if sizes[k] > 0]


def octets_over(rows: Structs, first_ns: int, last_ns: int, bins: int) -> Float64s:
    """Bytes of some records in equal intervals of a period, each record spread evenly over its span, (bins,)."""
    octets = np.zeros(bins)
    _added(
        rows,
        np.zeros(rows.size, np.int64),
        first_ns,
        max(last_ns, first_ns + 1),
        np.zeros((1, 3)),
        np.zeros((1, 1)),
        octets,
    )
    return octets


def flow_series(
    evidence: Evidence, first_ns: int, last_ns: int, settings: FlowSettings, edges_ns: Int64s
) -> tuple[Float64s, list[str]]:
    """(bytes in equal intervals with these edges, labels of the dimension from the largest on) of one exporter.

    Raises HistoryError.
    """
    held = held_flows(evidence.analysis, first_ns, last_ns)
    rows = held.rows
    if not rows.size:
        return np.zeros(edges_ns.size - 1), []
    own = rows[rows["exporter"] == (settings.exporter if settings.exporter >= 0 else evidence.busiest_exporter)]
    for dimension, label in settings.inside:
        labels = FlowLabels(held, own, evidence.places).by(dimension)
        own = own[labels.codes == labels.code(label)] if own.size else own
    labels = FlowLabels(held, own, evidence.places).by(settings.by)
    sums = np.bincount(labels.codes, own["octets"], max(1, len(labels.texts)))
    octets = octets_over(own, int(edges_ns[0]), int(edges_ns[-1]), edges_ns.size - 1)
    return octets, [labels.texts[k] for k in np.argsort(-sums, kind="stable").tolist() if sums[k]]
