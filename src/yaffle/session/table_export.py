"""Any table of a history as CSV or Parquet, a file of the history at a time."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet as pq

from yaffle.errors import YaffleError
from yaffle.history.layout import COUNTERS, HOUR_NS, RECORDS, TABLE, TABLES, counting, folders, tellers_of
from yaffle.history.parts import read_part, rows_of
from yaffle.history.store import History
from yaffle.records.counter_table import UNKNOWN, Counters
from yaffle.records.flow_table import FLOW
from yaffle.session.exports import flows_table

_TIMES = {RECORDS: ("first_ns", "last_ns")}  # of which columns a row begins and ends; others are of one moment
NAMES = (RECORDS, *(table.name for table in TABLES))


def write_rows(history: Path, name: str, out: Path, first_ns: int = 0, last_ns: int = 1 << 62) -> int:
    """Writes the rows of a table whose time lies in a period; how many. Raises YaffleError."""
    if name not in NAMES:
        raise YaffleError(f"--table {name}: there is no such table; these are: {', '.join(NAMES)}")
    if out.suffix not in (".csv", ".parquet"):
        raise YaffleError(f"{out}: a table is written as .csv or .parquet")
    part = out.with_name(f"{out.name}.part")
    count, writer = 0, None
    try:
        for table in _parts(history, name, first_ns, last_ns):
            writer = writer or _writer(part, out.suffix, table.schema)
            writer.write_table(table)
            count += table.num_rows
        if writer is None:
            raise YaffleError(f"{history}: its table {name} holds nothing of that period")
        writer.close()
        part.replace(out)
    except OSError as error:
        raise YaffleError(f"{out}: cannot be written ({error.strerror or error})") from error
    finally:
        part.unlink(missing_ok=True)
    return count


def _writer(path: Path, suffix: str, schema: pa.Schema) -> Any:
    return pa.csv.CSVWriter(path, schema) if suffix == ".csv" else pq.ParquetWriter(path, schema, compression="zstd")


def _parts(history: Path, name: str, first_ns: int, last_ns: int) -> Iterator[pa.Table]:
    """The rows of a period, file by file, in order of their hours; intervals together."""
    if name != RECORDS and TABLE[name].same:
        found = History(history).intervals(name, first_ns, last_ns)
        if found.num_rows:
            yield found
        return
    told = tellers_of(history)
    for start, folder in folders(history / name):
        # Records lie in the hour of their arrival: some time after they ended.
        if start + HOUR_NS <= first_ns or (start > last_ns and name != RECORDS):
            continue
        for file in counting(folder):
            table = read_part(file)
            begins, ends = (table[column].to_numpy() for column in _TIMES.get(name, ("time_ns", "time_ns")))
            table = table.filter(pa.array((ends >= first_ns) & (begins <= last_ns)))
            if not table.num_rows:
                continue
            if name == RECORDS:
                yield flows_table(rows_of(table, FLOW)[0], told.exporters)
            else:
                yield _named(table, told.counters) if name == COUNTERS else table


def _named(table: pa.Table, devices: Counters) -> pa.Table:
    """Readings of counters with the names of what they are of; what was not told is empty."""
    device, interface = (table[name].to_numpy() for name in ("device", "interface"))
    names = [devices.name(d, i) for d, i in zip(device.tolist(), interface.tolist(), strict=True)]
    columns = {
        "time_ns": table["time_ns"],
        "device": pa.array([devices.devices[d] for d in device.tolist()]),
        "interface": table["interface"],
        "name": pa.array(names),
    }
    for name in table.column_names:
        if name not in columns:
            values = table[name].to_numpy()
            lacking = values == UNKNOWN if values.dtype == np.uint64 else np.zeros(values.size, bool)
            columns[name] = pa.array(values, mask=lacking)
    return pa.table(columns)
