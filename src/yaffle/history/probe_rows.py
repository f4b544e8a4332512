"""Rows of the table `probes`: results of tests on purpose; what has parts of its own stands there as JSON."""

import json
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

_TEXTS = ("name", "kind", "target", "why", "outcome", "server", "direction", "source", "over")
_WHOLE = ("at_ns", "sequence", "status", "bytes", "redirects", "certificate_end_ns", "packets", "lost", "lost_there",
          "lost_back", "duplicates", "reordered", "streams", "path_mtu_bytes")  # fmt: skip
_FIGURES = (
    "round_trip_ms", "look_up_ms", "connect_ms", "encryption_ms", "first_byte_ms", "total_ms", "clock_offset_ms",
    "uncertainty_ms", "bps", "seconds", "retransmitted_percent", "idle_ms", "loaded_ms", "efficiency_percent",
    "buffer_delay_percent", "loss_percent", "mos", "interrupts_per_s", "receive_softirqs_per_s",
    "responder_interrupts_per_s", "responder_receive_softirqs_per_s",
)  # fmt: skip
_PARTS = (
    "elements",
    "against",
    "answers",
    "hops",
    "found",
    "ways",
    "new",
    "vanished",
    "arrived_dscp",
    "there_ms",
    "back_ms",
    "jitter_ms",
)
# Of one result: packets that were lost, %, as SQL; a test of one packet that failed lost it.
LOST = (
    "coalesce(loss_percent, 100.0 * (coalesce(lost_there, 0) + coalesce(lost_back, 0)) / nullif(packets, 0),"
    " CASE WHEN ok THEN 0.0 ELSE 100.0 END)"
)
SCHEMA = pa.schema(
    [
        ("at_ns", pa.int64()),
        *((name, pa.string()) for name in _TEXTS),
        ("ok", pa.bool_()),
        *((name, pa.int64()) for name in _WHOLE if name != "at_ns"),
        *((name, pa.float64()) for name in _FIGURES),
        *((name, pa.string()) for name in _PARTS),
    ]
)


def every_column(rows: str) -> str:
    """Rows as SQL, with the columns that files of a former version lack."""
    kinds = {pa.int64(): "BIGINT", pa.float64(): "DOUBLE", pa.bool_(): "BOOLEAN", pa.string(): "VARCHAR"}
    lacking = ", ".join(f'NULL::{kinds[field.type]} AS "{field.name}"' for field in SCHEMA)
    return f"(SELECT * FROM {rows} UNION ALL BY NAME SELECT {lacking} WHERE false)"


def rows_of(name: str, results: Sequence[dict[str, Any]]) -> pa.Table:
    """Results, as they stand in a document, of the test that has a name."""
    told = [
        {"name": name}
        | {key: json.dumps(value) if key in _PARTS and value is not None else value for key, value in one.items()}
        for one in results
    ]
    known = {key for one in told for key in one}
    columns = {
        field.name: pa.array([_fit(one.get(field.name), field.type) for one in told], field.type)
        if field.name in known
        else pa.nulls(len(told), field.type)
        for field in SCHEMA
    }
    return pa.table(columns, schema=SCHEMA)


def _fit(value: Any, kind: pa.DataType) -> Any:
    return float(value) if value is not None and pa.types.is_floating(kind) else value
