"""Flow records of a period, from wherever there are some: exporters' in captures, the captures' own packets, a
history.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Structs
from yaffle.records.flow_table import Exporter


@dataclass(frozen=True)
class HeldFlows:
    """Records and their exporters. words: at which level they are, as the user reads it; empty where each stands
    alone.
    """

    rows: Structs
    exporters: list[Exporter]
    words: str = ""
    width_ns: int = 0  # of the sums among them; 0 single records
    own: dict[int, dict[str, int | str]] = field(
        default_factory=dict
    )  # by row: what exporters measured, and elements of enterprises


def held_flows(analysis: Analysis, first_ns: int, last_ns: int, *, packets: bool = True) -> HeldFlows:
    """The records that touch a period.

    Exporters keep their numbers from call to call. packets: those made of captures, too. Raises HistoryError.
    """
    told, history = analysis.flows, analysis.history
    exporters, parts = analysis.flow_tellers[: len(told.exporters) + len(analysis.capture.points)], [told.rows]
    if packets:
        own = analysis.seen_flows.rows.copy()
        own["exporter"] += len(told.exporters)
        exporters = [*told.exporters, *analysis.seen_flows.exporters]
        parts.append(own)
    if history is None:
        return HeldFlows(np.concatenate(parts), exporters, own=told.own)
    found = history.rows(first_ns, last_ns)
    rows = found.records.rows
    before = sum(part.size for part in parts)
    measured = told.own | {before + row: one for row, one in found.records.own.items()}
    rows["exporter"] += len(exporters)
    return HeldFlows(
        np.concatenate([*parts, rows]),
        [*exporters, *(replace(e) for e in found.records.exporters)],
        found.words,
        found.width_ns,
        measured,
    )
