"""What one analysis says of each minute on the air, of cyclic streams and of nodes: rows that are told once."""

from collections.abc import Collection, Mapping, Sequence
from typing import Any

import pyarrow as pa

from yaffle.analysis import Analysis
from yaffle.cyclic import cycle_rows
from yaffle.history.layout import CYCLIC, HOPS, RADIO
from yaffle.hops import hop_rows
from yaffle.radio import air_rows

_SCHEMAS = {RADIO: air_rows.SCHEMA, CYCLIC: cycle_rows.SCHEMA, HOPS: hop_rows.SCHEMA}
TABLES = tuple(_SCHEMAS)
_KEYS = {RADIO: ("time_ns", "what", "address"), CYCLIC: ("time_ns", "source", "destination", "kind")}


def stretches_of(
    analysis: Analysis, from_ns: int, until_ns: int = 1 << 62, known: Collection[tuple[object, ...]] = ()
) -> dict[str, list[dict[str, Any]]]:
    """Rows by table, of what was captured from a moment on, in minutes that ended before another, but for those that
    are known by their keys.
    """
    found = {
        RADIO: list(air_rows.minutes_of(analysis.radio, from_ns)),
        CYCLIC: list(cycle_rows.minutes_of(analysis.cyclic, from_ns)),
    }
    minutes = {key[1] for key in known if key[0] == HOPS}
    return {
        **{
            table: [row for row in rows if row["to_ns"] <= until_ns and stretch_key(table, row) not in known]
            for table, rows in found.items()
        },
        HOPS: list(hop_rows.minutes_of(analysis.telemetry, from_ns, until_ns, minutes)),
    }


def stretch_key(table: str, row: Mapping[str, Any]) -> tuple[object, ...]:
    """What one row is known by; of what nodes told a whole minute."""
    if table == HOPS:
        return HOPS, row["time_ns"] // hop_rows.MINUTE_NS
    return (table, *(row[name] for name in _KEYS[table]))


def stretch_table(table: str, rows: Sequence[Mapping[str, Any]], capture: str, run: int) -> pa.Table:
    """As rows of the history."""
    schema = _SCHEMAS[table]
    filled = [{**row, "capture": capture, "run": run} for row in rows]
    columns = {one.name: pa.array([row.get(one.name) for row in filled], one.type) for one in schema}
    return pa.table(columns, schema=schema)


def schema_of(table: str) -> pa.Schema:
    """The columns of a table."""
    return _SCHEMAS[table]
