"""What exporters told, as part of a case: columns of records, and beside them exporters, their own elements,
counters.
"""

from dataclasses import asdict
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.records.counter_table import COUNTER, Counters
from yaffle.records.flow_table import FLOW, MEASURED, PROTOCOLS, FlowRecords, exporter_of


def flow_columns(flows: FlowRecords) -> dict[str, Array]:
    """The records, a column a field."""
    return {name: flows.rows[name] for name in FLOW.names or ()}


def beside(flows: FlowRecords) -> dict[str, Any]:
    """What is no column, for JSON."""
    return {
        "exporters": [asdict(e) for e in flows.exporters],
        "own": {str(row): named for row, named in flows.own.items()},
        "devices": flows.counters.devices,
        "ports": [[*key, name] for key, name in flows.counters.names.items()],
    }


def counter_columns(flows: FlowRecords) -> dict[str, Array]:
    """Readings of interfaces, a column a field."""
    return {name: flows.counters.rows[name] for name in COUNTER.names or ()}


def _filled(columns: dict[str, Array], form: np.dtype) -> Array:
    rows = np.zeros(next(iter(columns.values())).size, form)
    for name in form.names or ():
        rows[name] = columns[name] if name in columns or name not in MEASURED else -1  # Of former versions.
    return rows


def read_flows(columns: dict[str, Array], readings: dict[str, Array], told: dict[str, Any]) -> FlowRecords:
    """The reverse. Raises KeyError, TypeError or ValueError where it makes no sense."""
    rows, counters = _filled(columns, FLOW), Counters(_filled(readings, COUNTER), [str(d) for d in told["devices"]])
    counters.names = {(int(device), int(interface)): str(name) for device, interface, name in told["ports"]}
    if counters.rows.size and not (
        int(counters.rows["device"].min()) >= 0 and int(counters.rows["device"].max()) < len(counters.devices)
    ):
        raise ValueError("a reading points outside the devices")
    exporters = [exporter_of(e) for e in told["exporters"]]
    own = {int(row): dict(named) for row, named in told["own"].items()}
    if rows.size and not (int(rows["exporter"].min()) >= 0 and int(rows["exporter"].max()) < len(exporters)):
        raise ValueError("a flow record points outside the exporters")
    if any(not 0 <= e.protocol < len(PROTOCOLS) for e in exporters) or any(not 0 <= row < rows.size for row in own):
        raise ValueError("an exporter or an element of its own makes no sense")
    return FlowRecords(rows, exporters, own, counters)
