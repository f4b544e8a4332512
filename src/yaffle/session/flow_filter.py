"""The filter of the focus on flow records: columns of their own, run like the filter of exchanges.

One expression narrows both where it has a meaning for both. What speaks of columns that only exchanges have leaves flow
records as they are, and the other way round; that is said.
"""

import re
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Structs
from yaffle.capture.addresses import Labels
from yaffle.capture.registry import marking, protocol_name
from yaffle.findings.flow_labels import FlowLabels, service_port
from yaffle.findings.flow_source import HeldFlows
from yaffle.history.locked_database import locked_database, selected
from yaffle.inventory.places import Places
from yaffle.progress import Progress, go_on

# (column, meaning).
FLOW_COLUMNS: tuple[tuple[str, str], ...] = (
    ("application", "what runs at the server's port, as the exporter or you named it"),
    ("source", "name or address that the packets came from"),
    ("destination", "name or address that they went to"),
    ("site", "site of the source"),
    ("site_pair", "sites of source and destination"),
    ("source_port", "port of the source"),
    ("destination_port", "port of the destination"),
    ("server_port", "the lower of both ports, the server's mostly"),
    ("transport", "TCP, UDP, ICMP"),
    ("dscp", "DSCP of the record, by its name"),
    ("exporter", "address of the exporter"),
    ("interface_in", "interface that the packets came in by"),
    ("interface_out", "interface that they left by"),
    ("bytes", "bytes of the record, scaled by sampling"),
    ("packets", "packets of the record, scaled by sampling"),
    ("duration_ms", "from the record's first packet to its last, ms"),
    ("began", "when the record's first packet came, UTC"),
    ("sender_retransmissions", "retransmitted segments, counted by the sender's kernel; empty where none reported"),
    ("sender_timeouts", "retransmission timeouts, likewise"),
    ("sender_rtt_ms", "smoothed RTT, likewise, ms"),
)
_NAMES = tuple(name for name, _ in FLOW_COLUMNS)


def _labels(labels: Labels) -> Any:
    return pa.DictionaryArray.from_arrays(pa.array(labels.codes.astype(np.int32)), pa.array(labels.texts, pa.string()))


def _numbered(values: Array, name: Callable[[int], str]) -> Any:
    kinds, codes = np.unique(values.astype(np.int64), return_inverse=True)
    return pa.DictionaryArray.from_arrays(
        pa.array(codes.astype(np.int32)), pa.array([name(k) for k in kinds.tolist()], pa.string())
    )


def _column(name: str, held: HeldFlows, rows: Structs, labels: FlowLabels) -> Any:
    """One of FLOW_COLUMNS."""
    by = {"application": "application", "source": "host", "destination": "peer", "site": "site",
          "site_pair": "site pair", "interface_in": "interface in", "interface_out": "interface out"}  # fmt: skip
    if name in by:
        return _labels(labels.by(by[name]))
    plain = {"source_port": "src_port", "destination_port": "dst_port", "bytes": "octets", "packets": "packets"}
    if name in plain:
        return pa.array(rows[plain[name]].astype(np.int64))
    if name == "server_port":
        return pa.array(service_port(rows).astype(np.int64))
    if name == "transport":
        return _numbered(rows["transport"], protocol_name)
    if name == "dscp":
        return _numbered(rows["dscp"], marking)
    if name == "exporter":
        return _numbered(rows["exporter"], lambda k: held.exporters[k].address)
    counted = {"sender_retransmissions": "retransmissions", "sender_timeouts": "timeouts"}
    if name in counted:
        return pa.array(rows[counted[name]].astype(np.int64), mask=rows[counted[name]] < 0)
    if name == "sender_rtt_ms":
        return pa.array(rows["round_trip_ns"] / 1e6, mask=rows["round_trip_ns"] < 0)
    if name == "duration_ms":
        return pa.array((rows["last_ns"] - rows["first_ns"]) / 1e6)
    return pa.array(rows["first_ns"].astype(np.int64), pa.timestamp("ns"))


def _table(names: list[str], held: HeldFlows, rows: Structs, places: Places) -> Any:
    labels = FlowLabels(held, rows, places)
    return pa.table({name: _column(name, held, rows, labels) for name in names or ["bytes"]})


def _used(expression: str) -> list[str]:
    """Columns that an expression may speak of: what else it names, the database refuses."""
    words = set(re.findall(r"\w+", expression.lower()))
    return [name for name in _NAMES if name in words]


@lru_cache(64)
def fits_flows(expression: str) -> bool:
    """Whether the expression has a meaning for flow records."""
    if not expression.strip():
        return True
    empty = HeldFlows(np.zeros(0, _dtype()), [])
    table = _table(list(_NAMES), empty, empty.rows, Places({}))
    database = locked_database()
    try:
        database.from_arrow(table).filter(f"({expression}\n)")  # Bound, not run.
    except duckdb.Error:
        return False
    finally:
        database.close()
    return True


def _dtype() -> Any:
    from yaffle.records.flow_table import empty_flows

    return empty_flows(0).dtype


def narrowed(held: HeldFlows, places: Places, expression: str, progress: Progress = go_on) -> HeldFlows:
    """The records that the filter selects; all of them where it has no meaning for them.

    Raises FilterError where it fails on them or runs too long; Cancelled when `progress` says so.
    """
    if not expression.strip() or not held.rows.size or not fits_flows(expression):
        return held
    table = _table(_used(expression), held, held.rows, places)
    keep = np.flatnonzero(selected(locked_database(), table, expression, progress))
    place = np.full(held.rows.size, -1, np.int64)
    place[keep] = np.arange(keep.size)
    own = {int(place[row]): told for row, told in held.own.items() if place[row] >= 0}
    return replace(held, rows=held.rows[keep], own=own)


def filter_words(expression: str) -> str:
    """What the filter does to flow records, for people."""
    if not expression.strip():
        return ""
    return "; filtered" if fits_flows(expression) else "; not filtered: the filter speaks of exchanges only"
