"""Any table of a history as CSV or Parquet, a file of the history at a time."""

from collections.abc import Callable, Collection, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.csv
import pyarrow.parquet as pq

from yaffle.errors import YaffleError
from yaffle.history import probe_sums
from yaffle.history.layout import (
    COUNTERS,
    DAY_NS,
    HOUR_NS,
    PROBE_LEVELS,
    PROBES,
    RECORDS,
    TABLE,
    TABLE_SUMS,
    TABLES,
    WAIT_LEVELS,
    counting,
    folders,
    sums_of,
    tellers_of,
)
from yaffle.history.mirror import at_hand
from yaffle.history.parts import read_part, rows_of
from yaffle.history.store import History
from yaffle.history.wait_rows import BIN_COUNTS, BINS, KEYS, quantile
from yaffle.history.wait_sums import Grouping, WaitHistory
from yaffle.records.counter_table import UNKNOWN, Counters
from yaffle.records.flow_table import FLOW
from yaffle.session.exports import flows_table

_TIMES = {
    RECORDS: ("first_ns", "last_ns"),
    PROBES: ("at_ns", "at_ns"),
}  # of which columns a row begins and ends; others are of one moment
NAMES = (RECORDS, *(table.name for table in TABLES), *(level.name for level in TABLE_SUMS))
_QUANTILES = {"median_ns": 0.5, "p95_ns": 0.95, "p99_ns": 0.99}
Parts = Callable[[str, int, int], Iterator[pa.Table]]  # of a table by its name, and a period
_OF_WAITS = tuple(level.name for level in WAIT_LEVELS)
_OF_TESTS = tuple(level.name for level in PROBE_LEVELS[1:])


def words_of(name: str) -> str:
    """What the rows of a table are."""
    if name == RECORDS:
        return "flow records as they came"
    return TABLE[name].words if name in TABLE else next(one.words for one in TABLE_SUMS if one.name == name)


def write_rows(
    history: Path, name: str, out: Path, first_ns: int = 0, last_ns: int = 1 << 62, parts: Parts | None = None
) -> int:
    """Writes the rows of a table whose time lies in a period; how many. parts: who reads them, where this process does
    not. Raises YaffleError.
    """
    if name not in NAMES:
        raise YaffleError(f"--table {name}: there is no such table; these are: {', '.join(NAMES)}")
    if out.suffix not in (".csv", ".parquet"):
        raise YaffleError(f"{out}: a table is written as .csv or .parquet")
    part = out.with_name(f"{out.name}.part")
    count, writer = 0, None
    try:
        together = name in TABLE and TABLE[name].same
        own = parts if parts is not None and not together else partial(history_parts, history)
        for table in own(name, first_ns, last_ns):
            if out.suffix == ".csv":  # It has no lists: histograms stay away, quantiles are told.
                table = table.drop_columns([field.name for field in table.schema if pa.types.is_list(field.type)])
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


def history_parts(
    history: Path, name: str, first_ns: int, last_ns: int, of: Collection[int] | None = None
) -> Iterator[pa.Table]:
    """The rows of a period, file by file, in order of their hours; intervals together. of: only those of these hours or
    days, by their beginnings.
    """
    if name in TABLE and TABLE[name].same:
        found = History(history).intervals(name, first_ns, last_ns)
        if found.num_rows:
            yield found
        return
    if name in _OF_WAITS:
        yield from _waits(history, name, first_ns, last_ns, of)
        return
    told = tellers_of(history)
    for start, folder in folders(history / name):
        # Records lie in the hour of their arrival: some time after they ended.
        width_ns = DAY_NS if name in _OF_TESTS else HOUR_NS
        late = start > last_ns and name != RECORDS
        if start + width_ns <= first_ns or late or (of is not None and start not in of):
            continue
        for file in sums_of(folder) if name in _OF_TESTS else counting(folder):
            at_hand([file])
            table = read_part(file)
            begins, ends = (table[column].to_numpy() for column in _TIMES.get(name, ("time_ns", "time_ns")))
            table = table.filter(pa.array((ends >= first_ns) & (begins <= last_ns)))
            if not table.num_rows:
                continue
            if name in _OF_TESTS:
                table = _with_quantiles(table, probe_sums.BINS, probe_sums.BIN_COUNTS, "trip_")
            if name == RECORDS:
                yield flows_table(rows_of(table, FLOW)[0], told.exporters)
            else:
                yield _named(table, told.counters) if name == COUNTERS else table


def _waits(history: Path, name: str, first_ns: int, last_ns: int, of: Collection[int] | None) -> Iterator[pa.Table]:
    """Minutes, hours or days of waits, a folder at a time, corrections put to what they correct; with quantiles."""
    level = next(one for one in WAIT_LEVELS if one.name == name)
    grouping = Grouping({"time_ns": "time_ns"} | {key: key for key in KEYS})
    for start in sorted({start for start, _ in folders(history / name)}):
        low, high = max(start, first_ns), min(start + level.folder_ns, last_ns + 1)
        if low < high and (of is None or start in of):
            table = WaitHistory(history).asked(grouping, low, high, level)
            table = table.filter(pa.compute.field("exchanges") + pa.compute.field("covered_ns") != 0)
            if table.num_rows:
                yield _with_quantiles(table, BINS, BIN_COUNTS)


def _with_quantiles(table: pa.Table, bins: str, counts: str, before: str = "") -> pa.Table:
    """A table with quantiles of its histograms, empty where there is nothing in them. before: their names."""
    cells = list(zip(table[bins].to_pylist(), table[counts].to_pylist(), strict=True))
    for name, share in _QUANTILES.items():
        told = [quantile(np.array(b or [], np.int64), np.array(n or [], np.int64), share) for b, n in cells]
        table = table.append_column(before + name, pa.array([v if v >= 0 else None for v in told], pa.int64()))
    return table


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
