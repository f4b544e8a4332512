"""What flow records tell of a period: volume by any dimension, with share and trend, and rates over time.

A record counts in the period as far as its span lies in it: its bytes and packets are taken to be spread evenly over its
span. Exporters along one path count the same traffic each for itself: one of them is looked at, not their sum.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import Labels, labels_of
from yaffle.capture.registry import marking
from yaffle.kernels import kernel
from yaffle.records.flow_table import Exporter
from yaffle.session.evidence import Evidence
from yaffle.session.make_up import TREND, protocol_name

DIMENSIONS = ("application", "host", "pair", "conversation", "port", "interface", "marking", "protocol")
BINS = 240
_MOST = 300


@dataclass(frozen=True)
class FlowPart:
    """One line."""

    label: str
    octets: float
    packets: float
    records: int
    share: float
    trend: Array  # bytes in TREND equal stretches of the period


@dataclass(frozen=True)
class FlowPicture:
    """What the station shows of flow records."""

    exporters: list[tuple[int, Exporter]]  # those with records
    exporter: int  # whose are shown; -1 without any
    by: str
    parts: list[FlowPart]
    edges_ns: Array
    bits_per_s: Array
    octets: float
    records: int


@kernel
def _spread(first_ns, last_ns, octets, packets, code, start_ns, end_ns, sums, trends, rate):  # type: ignore[no-untyped-def]
    """Adds each record, as far as it lies in the period, to its label: bytes, packets, records; and to intervals of both resolutions."""
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
        sums[k, 2] += 1
        for out in range(2):
            bins = trends.shape[1] if out == 0 else rate.size
            width = span / bins
            j = min(bins - 1, np.int64(a / width))
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


def _labels(evidence: Evidence, rows: Array, exporter: Exporter, by: str) -> Labels:
    """A label for each record."""
    places = evidence.places
    if by in ("host", "pair", "conversation"):
        source = labels_of(rows["src_hi"], rows["src_lo"], rows["ipv6"]).named(places.short)
        target = labels_of(rows["dst_hi"], rows["dst_lo"], rows["ipv6"]).named(places.short)
        if by == "host":
            return source
        key, mark = source.codes * (len(target.texts) + 1) + target.codes, " to "
        if by == "pair":
            keys, codes = np.unique(key, return_inverse=True)
            return Labels(codes, [f"{source.texts[k // (len(target.texts) + 1)]}{mark}{target.texts[k % (len(target.texts) + 1)]}" for k in keys.tolist()])
        table = np.stack([key, rows["transport"], rows["src_port"], rows["dst_port"]], axis=1).astype(np.int64)
        kinds, codes = np.unique(table, axis=0, return_inverse=True)
        wide = len(target.texts) + 1
        texts = [f"{protocol_name(t)} {source.texts[k // wide]}:{a}{mark}{target.texts[k % wide]}:{b}" for k, t, a, b in kinds.tolist()]
        return Labels(codes.reshape(-1), texts)
    if by == "interface":
        return _numbered(rows["egress"], lambda n: f"out of {exporter.interfaces.get(n, f'interface {n}')}" if n >= 0 else "not told")
    if by == "marking":
        return _numbered(rows["dscp"].astype(np.int64), marking)
    if by == "protocol":
        return _numbered(rows["transport"].astype(np.int64), protocol_name)
    port = np.minimum(rows["src_port"], rows["dst_port"]).astype(np.int64)  # The lower one is the server's, mostly.
    port[(rows["src_port"] == 0) | (rows["dst_port"] == 0)] = 0
    keyed = rows["transport"].astype(np.int64) * 65536 + port
    if by == "port":
        return _numbered(keyed, lambda k: f"{protocol_name(k // 65536)} {k % 65536}" if k % 65536 else protocol_name(k // 65536))
    named = np.where(rows["application"] >= 0, rows["application"] + (1 << 40), keyed)
    return _numbered(named, lambda k: _application(k, exporter, evidence))


def _application(key: int, exporter: Exporter, evidence: Evidence) -> str:
    if key >= 1 << 40:
        return exporter.applications.get(key - (1 << 40), f"application {key - (1 << 40)}")
    return evidence.places.application("", key % 65536) if key % 65536 else protocol_name(key // 65536)


def _numbered(values: Array, name: Callable[[int], str]) -> Labels:
    keys, codes = np.unique(values, return_inverse=True)
    return Labels(codes, [name(k) for k in keys.tolist()]).named(str)


def flow_picture(evidence: Evidence, first_ns: int, last_ns: int, by: str, exporter: int = -1) -> FlowPicture:
    """The records of one exporter (of the one with most bytes where none is given) in a period."""
    told = evidence.analysis.flows
    rows = told.rows
    sizes = np.bincount(rows["exporter"], rows["octets"], len(told.exporters)) if rows.size else np.zeros(len(told.exporters))
    having = [(k, e) for k, e in enumerate(told.exporters) if e.flow_records]
    if exporter not in [k for k, _ in having]:
        exporter = int(np.argmax(sizes)) if having else -1
    edges_ns = first_ns + np.array([k * max(1, last_ns - first_ns) // BINS for k in range(BINS + 1)], np.int64)
    if exporter < 0:
        return FlowPicture([], -1, by, [], edges_ns, np.zeros(BINS), 0.0, 0)
    own = rows[rows["exporter"] == exporter]
    labels = _labels(evidence, own, told.exporters[exporter], by)
    count = max(1, len(labels.texts))
    sums, trends, rate = np.zeros((count, 3)), np.zeros((count, TREND)), np.zeros(BINS)
    columns = [np.ascontiguousarray(own[name]) for name in ("first_ns", "last_ns", "octets", "packets")]
    _spread(*columns, labels.codes, first_ns, max(last_ns, first_ns + 1), sums, trends, rate)
    total = float(sums[:, 0].sum())
    order = [k for k in np.argsort(-sums[:, 0], kind="stable")[:_MOST].tolist() if sums[k, 2]]
    parts = [FlowPart(labels.texts[k], float(sums[k, 0]), float(sums[k, 1]), int(sums[k, 2]), float(sums[k, 0]) / max(1.0, total), trends[k]) for k in order]
    seconds = np.maximum(np.diff(edges_ns) / 1e9, 1e-9)
    return FlowPicture(having, exporter, by, parts, edges_ns, rate * 8 / seconds, total, int(sums[:, 2].sum()))
