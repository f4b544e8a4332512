"""Counters of interfaces from tables: CSV and Parquet with columns that docs/formats.md lists."""

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet

from yaffle.errors import YaffleError
from yaffle.records.counter_table import COUNTS, Counters, unknown_counters

_NEEDED = ("device", "interface", "time")
_MOST_ROWS = 50_000_000


def read_counters(path: Path) -> Counters:
    """All readings of a table. Raises YaffleError where it is none."""
    try:
        if path.suffix.lower() == ".csv":
            table = pyarrow.csv.read_csv(path)
        else:
            if pyarrow.parquet.ParquetFile(path).metadata.num_rows > _MOST_ROWS:
                raise YaffleError(f"{path.name}: more than {_MOST_ROWS:,} rows")
            table = pyarrow.parquet.read_table(path)
    except (pa.ArrowException, OSError, ValueError) as error:
        raise YaffleError(f"{path.name} cannot be read as a table: {error}") from error
    missing = [name for name in _NEEDED if name not in table.column_names]
    if missing:
        raise YaffleError(
            f"{path.name} is no table of counters: it lacks the columns {', '.join(missing)} (docs/formats.md says"
            " which there are)"
        )
    try:
        return _taken(table)
    except (pa.ArrowException, ValueError, OverflowError) as error:
        raise YaffleError(f"{path.name}: a column does not hold what it should: {error}") from error


def _taken(table: pa.Table) -> Counters:
    found = Counters()
    rows = unknown_counters(table.num_rows)
    devices = pc.dictionary_encode(table["device"].cast(pa.string()).combine_chunks())
    devices = devices.combine_chunks() if isinstance(devices, pa.ChunkedArray) else devices
    if table.num_rows and devices.null_count:
        raise ValueError("a device has no name")
    found.devices = devices.dictionary.to_pylist()
    rows["device"] = np.asarray(devices.indices)
    rows["interface"] = np.asarray(table["interface"].cast(pa.int64()))
    time = table["time"]
    rows["time_ns"] = np.asarray(
        (time if pa.types.is_integer(time.type) else time.cast(pa.timestamp("ns"))).cast(pa.int64())
    )
    if "speed_bps" in table.column_names:
        rows["speed_bps"] = np.asarray(pc.fill_null(table["speed_bps"].cast(pa.int64()), 0))
    for name in COUNTS:
        if name in table.column_names:
            column = table[name].cast(pa.uint64())
            rows[name] = np.asarray(pc.fill_null(column, (1 << 64) - 1))
    found.rows = rows
    if "name" in table.column_names:
        named = zip(rows["device"].tolist(), rows["interface"].tolist(), table["name"].to_pylist(), strict=True)
        found.names = {(device, interface): str(text) for device, interface, text in named if text}
    return found
