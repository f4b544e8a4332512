"""Parquet files of a history: rows to tables and back, written whole or not at all."""

import json
import os
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from yaffle.arrays import Array
from yaffle.records.flow_table import FLOW, MEASURED, Columns, empty_flows

Own = dict[int, dict[str, int | str]]
_LONG_ROWS = 100_000
OWN = "own"  # What enterprises' elements told, as JSON.


def table_of(rows: Array, own: Own | None = None) -> pa.Table:
    """A table with a column a field, and one for what enterprises told."""
    columns = {name: pa.array(np.ascontiguousarray(rows[name])) for name in rows.dtype.names or ()}
    if own is not None:  # All files of records have the same columns.
        texts = (
            pa.array([json.dumps(own[k]) if k in own else None for k in range(rows.size)], pa.string())
            if own
            else pa.nulls(rows.size, pa.string())
        )
        columns[OWN] = texts
    return pa.table(columns)


def rows_of(table: pa.Table, form: np.dtype, only: tuple[str, ...] = ()) -> tuple[Array, Own]:
    """The reverse; fields that `only` does not name stay zero. What former versions did not keep is not known."""
    rows = np.zeros(table.num_rows, form)
    for name in only or form.names or ():
        if name not in MEASURED:
            rows[name] = table[name].to_numpy()
        else:
            rows[name] = table[name].fill_null(-1).to_numpy() if name in table.column_names else -1
    own: Own = {}
    if OWN in table.column_names and not only:
        own = {k: json.loads(text) for k, text in enumerate(table[OWN].to_pylist()) if text}
    return rows, own


def read_part(path: Path) -> pa.Table:
    """A file of a history."""
    with pq.ParquetFile(path, pre_buffer=False) as file:
        return file.read(use_threads=_is_long(file))


def _is_long(file: pq.ParquetFile) -> bool:
    """Whether several threads read it sooner than one: most files of a history hold a minute or an hour."""
    return bool(file.metadata.num_rows > _LONG_ROWS)


def flow_columns(path: Path, names: Sequence[str]) -> Columns:
    """Columns of a file of flow records or their sums. What former versions did not keep is not known."""
    with pq.ParquetFile(path, pre_buffer=False) as file:
        table = file.read(sorted(set(names) & set(file.schema_arrow.names)), use_threads=_is_long(file))
    unknown = np.full(table.num_rows, -1)
    told = {
        name: (table[name].fill_null(-1) if name in MEASURED else table[name]).to_numpy() for name in table.column_names
    }
    return {name: told.get(name, unknown).astype(FLOW[name], copy=False) for name in names}


def table_of_sums(columns: Columns) -> pa.Table:
    """A table of flow records of which only these columns are known."""
    count = len(next(iter(columns.values())))
    blank = empty_flows(1)
    whole = {name: columns[name] if name in columns else np.repeat(blank[name], count) for name in FLOW.names or ()}
    return pa.table({**whole, OWN: pa.nulls(count, pa.string())})


def write_part(path: Path, table: pa.Table, settle: bool = True) -> None:
    """Writes a file under its name when it is whole. Raises OSError."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_suffix(".part")
    try:
        with part.open("wb") as file:
            pq.write_table(table, file, compression="zstd", compression_level=1, use_dictionary=_texts(table))
            file.flush()
            if settle:
                os.fsync(file.fileno())
        part.replace(path)
    except OSError:
        part.unlink(missing_ok=True)
        raise


def _texts(table: pa.Table) -> list[str] | bool:
    """Columns of texts that come again and again; all others are numbers, which no dictionary makes smaller."""
    return [field.name for field in table.schema if pa.types.is_string(field.type) and field.name != OWN] or False


def write_json(path: Path, content: object) -> None:
    """The same for what is no table."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_suffix(".part")
    with part.open("w") as file:
        json.dump(content, file)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)
