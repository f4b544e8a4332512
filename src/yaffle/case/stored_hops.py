"""Per-hop telemetry as part of a case: visits as columns, flows and notes as JSON."""

from dataclasses import asdict
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.hops.edges import EdgeFlow
from yaffle.hops.telemetry import Telemetry
from yaffle.hops.visits import VISIT, FlowKey, Visits


def visit_columns(told: Telemetry) -> dict[str, Array]:
    """The visits by column; Arrow keeps no single bits that can be mapped."""
    rows = told.visits.rows
    return {
        name: rows[name].astype(np.uint8) if rows[name].dtype == bool else np.ascontiguousarray(rows[name])
        for name in VISIT.names or ()
    }


def beside_visits(told: Telemetry) -> dict[str, Any]:
    """What columns do not hold."""
    return {
        "flows": [asdict(key) for key in told.visits.flows],
        "notes": told.visits.notes,
        "edges": [asdict(one) for one in told.edges],
    }


def read_hops(columns: dict[str, Array], told: dict[str, Any]) -> Telemetry:
    """The reverse. Raises KeyError, TypeError, ValueError where it makes no sense."""
    rows = np.zeros(columns["flow"].size, VISIT)
    for name in VISIT.names or ():
        rows[name] = columns[name]
    flows = [FlowKey(**one) for one in told["flows"]]
    if rows.size and not 0 <= int(rows["flow"].min()) <= int(rows["flow"].max()) < len(flows):
        raise ValueError("a visit is of no flow")
    edges = [
        EdgeFlow(**{**one, "key": FlowKey(**one["key"]), "over_ns": tuple(one["over_ns"])})
        for one in told.get("edges", [])  # Cases of former versions lack them.
    ]
    return Telemetry(Visits(rows, flows, [str(note) for note in told["notes"]]), edges)
