"""What one analysis says of each minute on the air and of each minute of a cyclic stream: rows that are told once."""

from collections.abc import Mapping, Sequence
from typing import Any

import pyarrow as pa

from yaffle.analysis import Analysis
from yaffle.cyclic import cycle_rows
from yaffle.history.layout import CYCLIC, RADIO
from yaffle.radio import air_rows

_SCHEMAS = {RADIO: air_rows.SCHEMA, CYCLIC: cycle_rows.SCHEMA}
_KEYS = {RADIO: ("time_ns", "what", "address"), CYCLIC: ("time_ns", "source", "destination", "kind")}


def stretches_of(analysis: Analysis, from_ns: int) -> dict[str, list[dict[str, Any]]]:
    """Rows by table, of what was captured from a moment on."""
    return {
        RADIO: list(air_rows.minutes_of(analysis.radio, from_ns)),
        CYCLIC: list(cycle_rows.minutes_of(analysis.cyclic, from_ns)),
    }


def stretch_key(table: str, row: Mapping[str, Any]) -> tuple[object, ...]:
    """What one row is known by."""
    return (table, *(row[name] for name in _KEYS[table]))


def stretch_table(table: str, rows: Sequence[Mapping[str, Any]], capture: str, run: int) -> pa.Table:
    """As rows of the history."""
    schema = _SCHEMAS[table]
    filled = [{"capture": capture, "run": run, **row} for row in rows]
    columns = {one.name: pa.array([row.get(one.name) for row in filled], one.type) for one in schema}
    return pa.table(columns, schema=schema)


def schema_of(table: str) -> pa.Schema:
    """The columns of a table."""
    return _SCHEMAS[table]
