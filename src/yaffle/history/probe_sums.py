"""Sums of the table `probes`: hours and days of each test, with a histogram of its round trips.

A row is an hour of one test in one direction: how often it was asked, how often that went well, the sums from which
means follow, least and greatest, and round trips by the bins of history.wait_rows, whose quantiles are within 1.9 %.
"""

from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from yaffle.history.database import cursor
from yaffle.history.ladder import ALWAYS, NEVER, files_of_period
from yaffle.history.layout import PROBE_LEVELS, SUMS, Level
from yaffle.history.mirror import at_hand
from yaffle.history.probe_rows import LOST, every_column
from yaffle.history.wait_rows import LOG_RATIO
from yaffle.history.wait_sums import text

KEYS = ("name", "kind", "target", "direction", "source")
BINS, BIN_COUNTS = "trip_bins", "trip_counts"
_FIGURES = ("lost_percent", "mos", "bps")  # of which sum, least and greatest are kept
_SUMMED = ("sent", "well", "trips", "trips_ns", *(f"{name}_{part}" for name in _FIGURES for part in ("results", "sum")))
_LEAST, _GREATEST = (tuple(f"{name}_{part}" for name in ("trip_ns", *_FIGURES)) for part in ("min", "max"))
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        *((name, pa.string()) for name in KEYS),
        *((name, pa.float64() if name.endswith("_sum") else pa.int64()) for name in _SUMMED),
        *((name, pa.int64() if name.startswith("trip_ns") else pa.float64()) for name in (*_LEAST, *_GREATEST)),
        ("last_why", pa.string()),
        (BINS, pa.list_(pa.int16())),
        (BIN_COUNTS, pa.list_(pa.int32())),
    ]
)
_TRIP = "CAST(round(round_trip_ms * 1e6) AS BIGINT)"
_BIN = f"CAST(ceil(ln(greatest(1, {_TRIP})) / {LOG_RATIO!r} - 1e-9) AS SMALLINT)"
_FIGURE = {"lost_percent": LOST, "mos": "mos", "bps": "bps"}
# Results as rows of such sums, each its own.
_SINGLE = (
    "SELECT at_ns AS time_ns, name, kind, target, coalesce(direction, '') AS direction, coalesce(source, '') AS source,"
    f" 1 AS sent, CAST(ok AS INTEGER) AS well, CAST(round_trip_ms IS NOT NULL AS INTEGER) AS trips,"
    f" coalesce({_TRIP}, 0) AS trips_ns, {_TRIP} AS trip_ns_min, {_TRIP} AS trip_ns_max,"
    + "".join(
        f" CAST({of} IS NOT NULL AS INTEGER) AS {name}_results, coalesce({of}, 0.0) AS {name}_sum,"
        f" {of} AS {name}_min, {of} AS {name}_max,"
        for name, of in _FIGURE.items()
    )
    + f" coalesce(why, '') AS last_why, CASE WHEN round_trip_ms IS NULL THEN [] ELSE [{_BIN}] END AS {BINS},"
    f" CASE WHEN round_trip_ms IS NULL THEN [] ELSE [1] END AS {BIN_COUNTS} FROM {{rows}}"
)


def _grouped(rows: str, width_ns: int) -> str:
    """A question for rows put together by test and interval."""
    own = f"time_ns // {width_ns} * {width_ns} AS time_ns, {', '.join(KEYS)}"
    names = ", ".join(("time_ns", *KEYS))
    join = " AND ".join(f's."{name}" = l."{name}"' for name in ("time_ns", *KEYS))
    whole = ", ".join(
        f"CAST(sum(few.{name}) AS {'DOUBLE' if name.endswith('_sum') else 'BIGINT'}) AS {name}" for name in _SUMMED
    )
    ends = ", ".join(f"{how}({name}) AS {name}" for how, of in (("min", _LEAST), ("max", _GREATEST)) for name in of)
    why = "coalesce(arg_max(last_why, few.time_ns) FILTER (last_why <> ''), '') AS last_why"
    interval = f"few.time_ns // {width_ns} * {width_ns} AS time_ns, {', '.join(KEYS)}"
    return (
        f"WITH few AS ({rows}),"
        f" s AS (SELECT {interval}, {whole}, {ends}, {why} FROM few GROUP BY ALL),"
        f" cells AS (SELECT {own}, unnest({BINS}) AS bin, unnest({BIN_COUNTS}) AS many FROM few),"
        f" cell AS (SELECT {names}, bin, sum(many) AS many FROM cells GROUP BY ALL),"
        f" l AS (SELECT {names}, list(bin ORDER BY bin) AS {BINS}, list(CAST(many AS INTEGER) ORDER BY bin)"
        f" AS {BIN_COUNTS} FROM cell GROUP BY {names})"
        f" SELECT s.*, l.{BINS}, l.{BIN_COUNTS} FROM s LEFT JOIN l ON {join} ORDER BY name, kind, target, direction,"
        " source, time_ns"
    )


def summed(parts: Sequence[Path], width_ns: int, first_ns: int = ALWAYS, last_ns: int = NEVER) -> pa.Table:
    """Sums by test and interval of files of single results and of sums, of what begins in a period. Raises
    duckdb.Error.
    """
    within = f"time_ns >= {int(first_ns)} AND time_ns < {int(last_ns)}"
    singles, sums = ([path for path in parts if (path.name == SUMS) is kind] for kind in (False, True))
    of = [_SINGLE.format(rows=every_column(_rows_of(singles)))] if singles else []
    of += [f"SELECT * FROM {_rows_of(sums)}"] if sums else []
    if not of:
        return SCHEMA.empty_table()
    every = " UNION ALL ".join(f"SELECT {', '.join(SCHEMA.names)} FROM ({one}) WHERE {within}" for one in of)
    with cursor() as db:
        table: pa.Table = db.sql(_grouped(every, width_ns)).to_arrow_table()
    return table.select(SCHEMA.names).cast(SCHEMA)


def _rows_of(files: Sequence[Path]) -> str:
    """Files as a table of a question; their names are the history's own."""
    return f"read_parquet([{', '.join(map(text, at_hand(files)))}], union_by_name = true)"


def coarser(parts: Sequence[Path], level: Level) -> pa.Table:
    """Rows of a level from finer ones. Raises duckdb.Error."""
    return summed(parts, level.width_ns)


def probe_files(root: Path, level: Level, first_ns: int = ALWAYS, last_ns: int = NEVER) -> list[Path]:
    """The files that hold a period at a level."""
    return files_of_period(root, PROBE_LEVELS, level, first_ns, last_ns)
