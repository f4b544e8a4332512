"""The part of the report on flow records: for each exporter the largest applications and pairs of hosts."""

from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.findings.flow_labels import FlowLabels, exporter_words
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.units import count, share, size

_MOST_EXPORTERS, _MOST_LINES = 6, 8


def flow_tables(analysis: Analysis) -> list[dict[str, Any]]:
    """One table an exporter, those with most bytes first; of a history all that is kept. Raises HistoryError."""
    times = [(s.first_ns, s.last_ns) for s in analysis.capture.sources if s.last_ns]
    if not times or not (analysis.flows.rows.size or analysis.history is not None):
        return []
    held = held_flows(analysis, min(t[0] for t in times), max(t[1] for t in times), packets=False)
    sizes = np.bincount(held.rows["exporter"], held.rows["octets"], len(held.exporters))
    order = [k for k in np.argsort(-sizes, kind="stable")[:_MOST_EXPORTERS].tolist() if sizes[k] > 0]
    return [_table(analysis, held, k, float(sizes[k])) for k in order]


def _table(analysis: Analysis, held: HeldFlows, exporter: int, octets: float) -> dict[str, Any]:
    rows = held.rows[held.rows["exporter"] == exporter]
    labels = FlowLabels(held, rows, analysis.places)
    return {
        "exporter": exporter_words(held.exporters[exporter]),
        "words": f"{count(int(rows['records'].sum()))} records, {size(octets)}",
        "parts": [(by, _largest(labels, by, rows["octets"].astype(float), octets)) for by in ("application", "pair")],
    }


def _largest(labels: FlowLabels, by: str, octets: Any, total: float) -> list[tuple[str, str, str]]:
    """(label, bytes, share) of the largest."""
    found = labels.by(by)
    sums = np.bincount(found.codes, octets, len(found.texts))
    order = [k for k in np.argsort(-sums, kind="stable")[:_MOST_LINES].tolist() if sums[k] > 0]
    return [(found.texts[k], size(float(sums[k])), share(float(sums[k]) / max(1.0, total))) for k in order]
