"""Reads a history: the records of a period at the finest level that is kept and not too much, sums by anything,
readings of counters.

Others may be writing at the same time: what is asked for is looked up anew each time, and a file that was merged away
meanwhile is looked for once more.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.arrays import Float64s, Int64s, Structs
from yaffle.history import layout
from yaffle.history.asker import Asker, ChangedError, put_together
from yaffle.history.database import cursor
from yaffle.history.layout import COUNTERS, DAY_NS, HOUR_NS, LEVELS, READINGS, TABLE_SUMS, TABLES, Level, folders
from yaffle.history.mirror import at_hand, mirror_at, row_count
from yaffle.history.parts import Own, rows_of
from yaffle.history.wait_sums import WaitHistory
from yaffle.history.writer import files_of
from yaffle.records.counter_table import COUNTER, Counters
from yaffle.records.flow_table import FLOW, Exporter, FlowRecords

MOST_ROWS = 2_000_000
MOST_READINGS = 1_000_000
_WIDTHS_NS = tuple(minutes * 60 * 10**9 for minutes in (5, 15, 60, 360, 1440))
_LONGEST_LAG_NS = 7 * DAY_NS
_TRIES = 3
_NAMED_BY = 3  # hours
_HOST_READINGS = """
WITH steps AS (
    SELECT *, value - lag(value) OVER one AS step, time_ns - lag(time_ns) OVER one AS span
    FROM told WHERE time_ns <= {last_ns}{only}
    WINDOW one AS (PARTITION BY device, object, measure ORDER BY time_ns)
)
SELECT device, object, measure, any_value(unit) AS unit, max(time_ns) AS time_ns, arg_max(value, time_ns) AS value,
    max(value) AS highest, avg(value) AS mean, sum(step) FILTER (step >= 0 AND span > 0) AS rise,
    CAST(sum(span) FILTER (step >= 0 AND span > 0) AS BIGINT) AS span_ns,
    max(step * 1e9 / span) FILTER (step >= 0 AND span > 0) AS fastest, count(*) FILTER (step < 0) AS resets
FROM steps GROUP BY device, object, measure, (time_ns - {origin_ns}) // {width_ns}
ORDER BY device, object, measure, time_ns
"""
SIDES = {
    "host": "src_hi, src_lo, ipv6", "pair": "src_hi, src_lo, dst_hi, dst_lo, ipv6", "interface": "exporter, egress",
    "DSCP": "dscp", "protocol": "transport",
    "application": "application, transport, least(src_port, dst_port), greatest(src_port, dst_port)",
}  # fmt: skip


@dataclass(frozen=True)
class Found:
    """Records of a period. words: at which level, as the user reads it."""

    records: FlowRecords
    level: Level
    words: str
    width_ns: int  # of the coarsest among them; 0 single records


class History:
    """One folder. asker: others who answer what is asked of very much of it."""

    def __init__(self, folder: Path, asker: Asker | None = None) -> None:
        self.folder, self.asker = folder, asker
        self.days = layout.manifest_of(folder)["days"]
        self._mirror = mirror_at(folder)
        self.exporters: list[Exporter] = []
        self.counters = Counters()
        self.reception: dict[str, int | str] = {}
        self.first_ns = self.last_ns = 0
        self._longest_ns = 0
        self._counts: dict[Path, int] = {}
        self.refresh()

    def refresh(self) -> bool:
        """Looks whether there is more; whether there is. Raises HistoryError."""
        trouble = self.trouble
        came = self._mirror is not None and self._mirror.refresh()
        before = (self.first_ns, self.last_ns, len(self.exporters))
        self.ask_who_told()
        starts = [
            (start, level.folder_ns, path) for level in LEVELS for start, path in folders(self.folder / level.name)
        ]
        starts += [(start, HOUR_NS, path) for table in TABLES for start, path in folders(self.folder / table.name)]
        starts += [(s, one.folder_ns, p) for one in TABLE_SUMS for s, p in folders(self.folder / one.name)]
        self.first_ns = min((start for start, _, _ in starts), default=0)
        latest = max((start + width for start, width, _ in starts), default=0)
        self.last_ns = max((self._end(*one) for one in starts if one[0] + one[1] >= latest - HOUR_NS), default=0)
        return came or trouble != self.trouble or before != (self.first_ns, self.last_ns, len(self.exporters))

    @property
    def address(self) -> str:
        """Of a history in a store; empty where it lies in a folder of this machine."""
        return self._mirror.url if self._mirror is not None else ""

    @property
    def trouble(self) -> str:
        """Since when what came is lacking, and why; empty while all is well."""
        return self._mirror.trouble if self._mirror is not None else ""

    def ask_who_told(self) -> None:
        """Reads anew who told, and how receiving went. Raises HistoryError."""
        told = layout.tellers_of(self.folder)
        self.exporters, self.counters, self.reception = told.exporters, told.counters, told.reception
        self._longest_ns = min(told.longest_ns, _LONGEST_LAG_NS)

    def _end(self, start: int, width: int, path: Path) -> int:
        """When the last of a folder's records arrived: its newest file is named by that moment."""
        newest = max(
            (r[1] for file in path.glob("*.parquet") if (r := layout.part_range(file.name)) is not None),
            default=start + width,
        )
        return max(start + 1, min(start + width, newest))

    # --- records ---
    def files(self, level: Level, first_ns: int, last_ns: int) -> tuple[list[Path], set[Level]]:
        """Files with the records of a period, at a level where that is kept, else the next finer, else coarser one;
        and the levels they are of.
        """
        own = LEVELS.index(level)
        order = [level, *reversed(LEVELS[:own]), *LEVELS[own + 1 :]]
        found: list[Path] = []
        used: set[Level] = set()
        for branch in layout.branches(self.folder):
            for one, files in self._files_of(branch, order, first_ns, last_ns):
                found += files
                used.add(one)
        return found, used

    def _files_of(
        self, branch: Path, order: Sequence[Level], first_ns: int, last_ns: int
    ) -> Iterator[tuple[Level, list[Path]]]:
        """What one collector told of a period, folder by folder. order: of the levels, the best first."""
        held = {one: dict(folders(branch / one.name)) for one in order}
        covered: set[int] = set()
        low, high = first_ns // DAY_NS * DAY_NS, last_ns + self._longest_ns + HOUR_NS
        for hour in sorted(
            {
                start + k * HOUR_NS
                for one in order
                for start in held[one]
                if low <= start < high
                for k in range(one.folder_ns // HOUR_NS)
            }
        ):
            if hour >= high or hour + HOUR_NS <= first_ns or hour in covered:
                continue
            for one in order:
                start = hour // one.folder_ns * one.folder_ns
                hours = {start + k * HOUR_NS for k in range(one.folder_ns // HOUR_NS)}
                files = files_of(one, held[one][start]) if start in held[one] and not hours & covered else []
                if files:
                    covered |= hours
                    yield one, files
                    break

    def level_for(self, first_ns: int, last_ns: int, most: int = MOST_ROWS) -> Level:
        """The finest level that does not give too many rows for a period."""
        for level in LEVELS:
            files, _ = self.files(level, first_ns, last_ns)
            if sum(self._rows_in(path) for path in files) <= most:
                return level
        return LEVELS[-1]

    def _rows_in(self, path: Path) -> int:
        """Rows of a file that never changes under its name, sums made anew apart; a file that was merged away counts
        for nothing.
        """
        if path not in self._counts:
            try:
                self._counts[path] = row_count(path)
            except (OSError, pa.ArrowException):
                return 0
        return self._counts[path]

    def rows(self, first_ns: int, last_ns: int, level: Level | None = None, only: tuple[str, ...] = ()) -> Found:
        """The records that touch a period. level: the finest that is not too much, where none is asked for; only:
        columns that are needed. Raises HistoryError.
        """
        level = level or self.level_for(first_ns, last_ns)
        columns = ", ".join(only) if only else "*"
        table, used = self._ask(
            f"SELECT {columns} FROM flows WHERE last_ns >= {int(first_ns)} AND first_ns < {int(last_ns)}",
            level,
            first_ns,
            last_ns,
        )
        if table is None:
            return Found(FlowRecords(exporters=self.exporters), level, "nothing is kept of this period", 0)
        rows, own, exporters = self._taken(table, only)
        words = " and ".join(one.words for one in LEVELS if one in used)
        return Found(FlowRecords(rows, exporters, own), level, words, max(one.width_ns for one in used))

    def _taken(self, table: pa.Table, only: tuple[str, ...] = ()) -> tuple[Structs, Own, list[Exporter]]:
        """A table as rows of FLOW, and whom their numbers name. Raises HistoryError where it does not hold what it
        should.

        An exporter's number never changes, and stands on the disk before its first record: read after the records, it
        is known.
        """
        exporters = layout.tellers_of(self.folder).exporters
        try:
            rows, own = rows_of(table, FLOW, only)
        except (KeyError, ValueError, TypeError, pa.ArrowException) as error:
            raise layout.HistoryError(f"{self.folder} holds tables that are none of records: {error}") from error
        if rows.size and not (
            int(rows["exporter"].min()) >= 0 and int(rows["exporter"].max()) < max(1, len(exporters))
        ):
            raise layout.HistoryError(f"{self.folder}: a record names an exporter that is not told of")
        return rows, own, exporters

    def _ask(
        self, query: str, level: Level, first_ns: int, last_ns: int, whole: str = ""
    ) -> tuple[pa.Table | None, set[Level]]:
        """A question about the view `flows` of a period's files. whole: where it is about some of them at a time, what
        is asked of these answers (`parts`).
        """
        for last_try in (False,) * (_TRIES - 1) + (True,):
            files, used = self.files(level, first_ns, last_ns)
            if not files:
                return None, used
            try:
                if whole:
                    return put_together(self.asker, self.folder, files, "flows", query, whole), used
                with cursor() as db:
                    flows = db.read_parquet(at_hand(files), union_by_name=True)
                    table: pa.Table = flows.query("flows", query).to_arrow_table()
                return table, used
            except (duckdb.Error, ChangedError) as error:
                if last_try:
                    raise layout.HistoryError(f"{self.folder} cannot be read: {error}") from error
        return None, set()

    def top(
        self, by: str, first_ns: int, last_ns: int, count: int = 50, exporter: int = -1, level: Level | None = None
    ) -> pa.Table:
        """The largest by one of SIDES in a period: octets, packets, records, largest first.

        Records at the borders count as far as they lie in it.
        """
        within = (
            f"(least(last_ns, {int(last_ns)}) - greatest(first_ns, {int(first_ns)})) / greatest(last_ns - first_ns, 1)"
        )
        share = f"greatest(0.0, least(1.0, {within}))"
        own = f"AND exporter = {int(exporter)}" if exporter >= 0 else ""
        query = (
            f"SELECT {SIDES[by]}, sum(octets * {share}) AS octets, sum(packets * {share}) AS packets,"
            f" CAST(sum(records) AS BIGINT) AS records FROM flows WHERE last_ns >= {int(first_ns)}"
            f" AND first_ns < {int(last_ns)} {own} GROUP BY ALL"
        )
        whole = (
            "SELECT * EXCLUDE (octets, packets, records), sum(octets) AS octets, sum(packets) AS packets,"
            f" CAST(sum(records) AS BIGINT) AS records FROM parts GROUP BY ALL ORDER BY octets DESC LIMIT {int(count)}"
        )
        table, _ = self._ask(query, level or LEVELS[0], first_ns, last_ns, whole)
        return table if table is not None else pa.table({"octets": pa.array([], pa.float64())})

    def series(self, first_ns: int, last_ns: int, level: Level, exporter: int = -1) -> tuple[Int64s, Float64s]:
        """(starts of intervals, octets) of a period, from sums of a level."""
        own = f"AND exporter = {int(exporter)}" if exporter >= 0 else ""
        width = max(1, level.width_ns)
        query = (
            f"SELECT first_ns // {width} * {width} AS start, CAST(sum(octets) AS DOUBLE) AS octets FROM flows "
            f"WHERE first_ns >= {int(first_ns)} AND first_ns < {int(last_ns)} {own} GROUP BY start"
        )
        whole = "SELECT start, sum(octets) AS octets FROM parts GROUP BY start ORDER BY start"
        table, _ = self._ask(query, level, first_ns, last_ns, whole)
        if table is None:
            return np.zeros(0, np.int64), np.zeros(0)
        return table["start"].to_numpy(), table["octets"].to_numpy().astype(np.float64)

    def flows_of(self, high: int, low: int, first_ns: int, last_ns: int) -> Found:
        """The single records of one host in a period."""
        ends = f"((src_hi = {int(high)} AND src_lo = {int(low)}) OR (dst_hi = {int(high)} AND dst_lo = {int(low)}))"
        query = (
            f"SELECT * FROM flows WHERE last_ns >= {int(first_ns)} AND first_ns < {int(last_ns)} AND {ends} ORDER BY"
            " first_ns"
        )
        table, used = self._ask(query, LEVELS[0], first_ns, last_ns)
        rows, own, exporters = self._taken(table) if table is not None else (np.zeros(0, FLOW), {}, self.exporters)
        return Found(
            FlowRecords(rows, exporters, own),
            LEVELS[0],
            " and ".join(one.words for one in LEVELS if one in used),
            max((one.width_ns for one in used), default=0),
        )

    # --- counters ---
    def readings(self, first_ns: int, last_ns: int) -> Counters:
        """Readings of counters of a period, and the last before it; of very many the last of each interval, which says
        as much of the sums. Raises HistoryError.
        """
        parts = [
            path
            for start, folder in folders(self.folder / COUNTERS)
            if start < last_ns and start + 2 * HOUR_NS > first_ns
            for path in layout.counting(folder)
        ]
        found = Counters(devices=list(self.counters.devices), names=dict(self.counters.names))
        if not parts:
            return found
        try:
            with cursor() as db:
                told = db.read_parquet(at_hand(parts))
                found.width_ns = self._reading_width(
                    told, sum(self._rows_in(path) for path in parts), last_ns - first_ns
                )
                one = (
                    f"QUALIFY row_number() OVER (PARTITION BY device, interface, time_ns // {found.width_ns} ORDER BY"
                    " time_ns DESC) = 1"
                    if found.width_ns
                    else ""
                )
                found.rows, _ = rows_of(
                    told.query("told", f"SELECT * FROM told {one}").to_arrow_table(), COUNTER, COUNTER.names or ()
                )
        except (duckdb.Error, KeyError, ValueError, TypeError, pa.ArrowException) as error:
            raise layout.HistoryError(f"{self.folder} cannot be read: {error}") from error
        told_by = layout.tellers_of(
            self.folder
        ).counters  # Read after the readings: a device stands there before its first one.
        found.devices, found.names = list(told_by.devices), dict(told_by.names)
        if found.rows.size and not (
            int(found.rows["device"].min()) >= 0 and int(found.rows["device"].max()) < len(found.devices)
        ):
            raise layout.HistoryError(f"{self.folder}: a reading names a device that is not told of")
        return found

    @property
    def waits(self) -> WaitHistory:
        """How long users waited, and on whom."""
        return WaitHistory(self.folder, self.asker)

    @property
    def has_readings(self) -> bool:
        """Whether hosts or devices told anything."""
        return bool(folders(self.folder / READINGS))

    def reading_names(self) -> list[tuple[str, str, str]]:
        """(device, object, measure) of what hosts and devices told in the first and the last hours. Raises
        HistoryError.
        """
        found = self._of_first_and_last("SELECT DISTINCT device, object, measure FROM told ORDER BY ALL")
        return [(device, place, measure) for device, place, measure in found]

    def told_by(self) -> list[tuple[str, int, int, int]]:
        """(device, numbers, first and last time) of hosts and devices, by the first and the last hours of their
        readings. Raises HistoryError.
        """
        found = self._of_first_and_last(
            "SELECT device, count(DISTINCT (object, measure)), min(time_ns), max(time_ns) FROM told"
            " GROUP BY device ORDER BY device"
        )
        return [(device, numbers, first, last) for device, numbers, first, last in found]

    def _of_first_and_last(self, query: str) -> list[tuple[Any, ...]]:
        """What a question finds in the readings (`told`) of the first and the last hours."""

        def parts() -> list[Path]:
            held = layout.ends_of(self.folder / READINGS, _NAMED_BY)
            return [path for folder in held for path in layout.counting(folder)]

        table = self.told(parts, query)
        return [] if table is None else list(zip(*(column.to_pylist() for column in table.columns), strict=True))

    def told(self, parts: Callable[[], list[Path]], query: str) -> pa.Table | None:
        """What a question finds in the rows (`told`) of some files; None without any. A file that was merged away
        meanwhile is looked for once more. Raises HistoryError.
        """
        for last_try in (False,) * (_TRIES - 1) + (True,):
            if not (files := parts()):
                return None
            try:
                with cursor() as db:
                    rows = db.read_parquet(at_hand(files), union_by_name=True)
                    table: pa.Table = rows.query("told", query).to_arrow_table()
                return table
            except (duckdb.Error, pa.ArrowException) as error:
                if last_try:
                    raise layout.HistoryError(f"{self.folder} cannot be read: {error}") from error
        return None

    def host_readings(
        self, first_ns: int, last_ns: int, width_ns: int, measures: Sequence[str] = (), origin_ns: int = 0
    ) -> pa.Table:
        """Readings of hosts and devices in a period and the hour before it, interval by interval: of each number its
        last value and its highest, and what it rose by from reading to reading, over how long and how fast at most;
        steps that went back are counted, not summed. Ordered by device, object, measure and time. measures: only these;
        origin_ns: a moment at which an interval begins. Raises HistoryError.
        """

        def parts() -> list[Path]:
            return [
                path
                for start, folder in folders(self.folder / READINGS)
                if start < last_ns and start + 2 * HOUR_NS > first_ns
                for path in layout.counting(folder)
            ]

        names = ", ".join("'" + name.replace("'", "''") + "'" for name in measures)
        told = {"last_ns": int(last_ns), "width_ns": int(width_ns), "origin_ns": int(origin_ns)}
        query = _HOST_READINGS.format(only=f" AND measure IN ({names})" if measures else "", **told)
        found = self.told(parts, query)
        return found if found is not None else pa.table({"device": pa.array([], pa.string())})

    def intervals(self, kind: str, first_ns: int = 0, last_ns: int = 1 << 62) -> pa.Table:
        """What lasted from `from_ns` to `to_ns`, of those that were there at some time of a period: each once, in order
        of their beginnings. Raises HistoryError.
        """
        names = layout.TABLE[kind].same
        same = ", ".join(names)

        def parts() -> list[Path]:
            return [path for _, folder in folders(self.folder / kind) for path in layout.counting(folder)]

        found = self.told(
            parts,
            f"SELECT {same}, max(to_ns) AS to_ns FROM told GROUP BY {same} HAVING max(to_ns) >= {int(first_ns)}"
            f" AND from_ns <= {int(last_ns)} ORDER BY from_ns, {same}",
        )
        if found is not None:
            return found
        texts = {name: pa.array([], pa.string()) for name in names[:-1]}
        return pa.table(texts | {name: pa.array([], pa.int64()) for name in ("from_ns", "to_ns")})

    def row_count(self, files: Sequence[Path]) -> int:
        """How many rows files hold, by what stands at their ends."""
        return sum(self._rows_in(path) for path in files)

    def latest_probe(self, name: str) -> str:
        """Who was found (JSON) by the last sweep of a test; empty without one. Raises HistoryError."""

        def parts() -> list[Path]:
            held = layout.ends_of(self.folder / layout.PROBES, _NAMED_BY)
            return [path for folder in held for path in layout.counting(folder)]

        own = name.replace("'", "''")
        found = self.told(
            parts,
            f"SELECT arg_max(found, at_ns) AS found FROM told WHERE name = '{own}' AND found IS NOT NULL",
        )
        return str(found["found"][0].as_py() or "") if found is not None and found.num_rows else ""

    def latest_texts(self, device: str = "", until_ns: int = 1 << 62) -> list[tuple[str, str, int]]:
        """(name, text, when it came) of what a device said of itself, as it stood at a moment; where none is named,
        names are DEVICE, a line feed, NAME. Raises HistoryError.
        """

        def parts() -> list[Path]:
            return [
                path
                for start, folder in folders(self.folder / layout.TEXTS)
                if start <= until_ns
                for path in layout.counting(folder)
            ]

        found = self.told(
            parts,
            "SELECT device, name, arg_max(text, time_ns) AS text, max(time_ns) AS time_ns FROM told"
            f" WHERE time_ns <= {int(until_ns)} GROUP BY device, name ORDER BY device, name",
        )
        return [
            (row["name"] if device else f"{row['device']}\n{row['name']}", row["text"], row["time_ns"])
            for row in (found.to_pylist() if found is not None else [])
            if device in ("", row["device"])
        ]

    def _reading_width(self, told: duckdb.DuckDBPyRelation, rows: int, span_ns: int) -> int:
        """The shortest interval of which one reading for each interface is not too much; 0 where all of them are
        not.
        """
        if rows <= MOST_READINGS:
            return 0
        counted = told.query("told", "SELECT count(DISTINCT (device, interface)) FROM told").fetchall()
        interfaces = int(counted[0][0])
        return next((width for width in _WIDTHS_NS if interfaces * span_ns // width <= MOST_READINGS), _WIDTHS_NS[-1])
