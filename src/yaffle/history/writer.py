"""Writes a history: every flush is a file of its own at once; hours are merged, summed and given up beside it.

Killed at any moment it loses what came since the last flush, and nothing that is under its name is ever half. A full
disk stops writing with a word; what came meanwhile waits within bounds, then goes on or is counted as given up.
"""

import os
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Int64s
from yaffle.history import layout, probe_sums, wait_sums
from yaffle.history.ladder import files_of_period
from yaffle.history.layout import (
    COUNTERS,
    DAY_NS,
    EXPORTERS,
    HOUR_NS,
    LEVELS,
    MANIFEST,
    PROBE_LEVELS,
    PROBES,
    RECORDS,
    SUMS,
    TABLE_SUMS,
    TABLES,
    USUAL_DAYS,
    WAIT_LEVELS,
    WAITS,
    HistoryError,
    Level,
    Tellers,
    counting,
    folder_name,
    folders,
    part_name,
    part_range,
    tellers_told,
)
from yaffle.history.parts import (
    Own,
    flow_columns,
    read_part,
    rows_of,
    table_of,
    table_of_sums,
    write_json,
    write_part,
)
from yaffle.history.sums import SUMMED, joined, summed, summed_columns
from yaffle.records.counter_table import Counters
from yaffle.records.flow_table import FLOW, Columns, Exporter, FlowRecords

_SPARE = 64 << 20  # Bytes of the disk that are left to others.
_MOST_WAITING = 2_000_000  # records that wait for room
_AT_ONCE = 2  # hours, or days, that are summed at once
_MERGE_AT = 60  # Files of one hour from which on they are merged.
_GRACE_NS = 120 * 10**9  # after an hour, before it is summed
_BLOCK_ROWS = 1_000_000  # Records of an open hour after which they are summed as a block.
_GONE = ".gone"  # of a folder that is given up: it goes at once, whoever looks
_LARGEST_FILE = 256 << 20  # Bytes up to which files are merged.


@dataclass(frozen=True)
class _Ladder:
    """Sums of one table: its levels, how a coarser one is made of files, whether a file of sums is as it should be."""

    levels: Sequence[Level]
    coarser: Callable[[Sequence[Path], Level], pa.Table]
    is_whole: Callable[[Path], bool]


_LADDERS = {
    WAITS: _Ladder(WAIT_LEVELS, wait_sums.coarser, wait_sums.is_whole),
    PROBES: _Ladder(PROBE_LEVELS, probe_sums.coarser, lambda _: True),
}


def _free(folder: Path) -> int:
    return shutil.disk_usage(folder).free


@dataclass(frozen=True)
class _Unit:
    """What one file is made of: records or readings of one hour."""

    kind: str
    hour_ns: int
    rows: "Array | pa.Table"
    own: Own

    @property
    def count(self) -> int:
        """How many rows."""
        return len(self.rows)

    @property
    def table(self) -> pa.Table:
        """As it is written."""
        if isinstance(self.rows, pa.Table):
            return self.rows
        return table_of(self.rows, self.own if self.kind == RECORDS else None)


def _units(kind: str, rows: Array, times_ns: Int64s, own: Own) -> list[_Unit]:
    """Rows by the hour of their arrival."""
    hours = times_ns // HOUR_NS
    found = []
    for hour in np.unique(hours).tolist():
        member = np.flatnonzero(hours == hour)
        mine = {k: own[row] for k, row in enumerate(member.tolist()) if row in own} if own else {}
        found.append(_Unit(kind, hour * HOUR_NS, rows[member], mine))
    return found


def _together(units: list[_Unit]) -> list[_Unit]:
    """One file for all of an hour that came together; records, which may wait for long, as they came."""
    found: dict[tuple[str, int, int], list[_Unit]] = {}
    for k, unit in enumerate(units):
        alone = k if unit.kind == RECORDS else -1
        found.setdefault((unit.kind, unit.hour_ns, alone), []).append(unit)
    return [_joined(some) for some in found.values()]


def _joined(units: list[_Unit]) -> _Unit:
    if len(units) == 1:
        return units[0]
    parts = [unit.rows for unit in units]
    rows = pa.concat_tables(parts) if isinstance(parts[0], pa.Table) else np.concatenate(parts)
    return replace(units[0], rows=rows)


class HistoryWriter:
    """One writer a folder. `append` and `tidy` may be called from one thread at a time."""

    def __init__(
        self,
        folder: Path,
        days: dict[str, int] | None = None,
        free: Callable[[Path], int] = _free,
        now_ns: Callable[[], int] = time.time_ns,
        settle: bool = True,
    ) -> None:
        self.folder = folder
        self._free, self._now_ns, self._settle = free, now_ns, settle
        self._number = 0
        self._waiting: list[_Unit] = []
        self._told: dict[tuple[str, int, int], int] = {}
        self._base: list[Exporter] = []  # as a former run left them
        self._exporters: list[Exporter] = []
        self._counters = Counters()
        self._written_about: Any = None
        self.given_up = 0  # records for which there was no room
        self.trouble = ""  # why nothing is written at the moment; empty while all is well
        self._since: dict[Path, tuple[int, int]] = {}  # by hour: records and flushes since its last block
        self._done: set[Path] = set()  # hours and days that need no tidying
        self._changed: dict[Path, None] = {}  # hours and days with other files than when `changed` was asked last
        self._gathered: dict[Path, int] = {}  # by open hour: up to which flush it was gathered
        self.reception: dict[str, int | str] = {}  # how receiving goes, for whoever reads the history
        self.longest_ns = 0  # from a record's beginning to its arrival
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._lock()
            self._begin(days)
        except OSError as error:
            raise HistoryError(f"{folder}: a history cannot be kept here: {error.strerror or error}") from error

    def _lock(self) -> None:
        """One writer at a time: two would number their exporters against each other."""
        import fcntl

        self._held = os.open(self.folder / "lock", os.O_CREAT | os.O_RDWR, 0o644)
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(self._held)
            raise HistoryError(f"{self.folder}: somebody else is writing this history") from error

    def _begin(self, days: dict[str, int] | None) -> None:
        manifest = self.folder / MANIFEST
        told: dict[str, Any] = (
            layout.manifest_of(self.folder)
            if manifest.exists()
            else {"format": layout.FORMAT, "version": layout.VERSION, "days": {}}
        )
        self.days: dict[str, int] = {**USUAL_DAYS, **told["days"], **(days or {})}
        if told["days"] != self.days:
            write_json(manifest, {**told, "days": self.days})
        told_by = layout.tellers_of(self.folder)
        self._base, self._counters, self.longest_ns = told_by.exporters, told_by.counters, told_by.longest_ns
        self._exporters = [replace(e) for e in self._base]
        self._told = {(e.address, e.domain, e.protocol): k for k, e in enumerate(self._exporters)}
        for part in self.folder.rglob("*.part"):  # Of a run that was killed.
            part.unlink(missing_ok=True)
        for gone in self.folder.glob(f"*/*{_GONE}"):
            shutil.rmtree(gone)

    def keep(self, days: dict[str, int]) -> None:
        """From now on, how long each level or table named is kept."""
        told = {**self.days, **days}
        write_json(self.folder / MANIFEST, {"format": layout.FORMAT, "version": layout.VERSION, "days": told})
        self.days = told

    def close(self) -> None:
        """Writes what waits and lets the folder go."""
        self._flush()
        os.close(self._held)

    # --- what comes ---
    def append(self, found: FlowRecords) -> None:
        """Takes records and readings of counters in, and writes them at once if there is room."""
        self.hold(found)
        self.flush()

    def append_rows(self, kind: str, table: pa.Table) -> None:
        """Takes rows of one of TABLES in, by their time, and writes them at once if there is room."""
        self.hold_rows(kind, table)
        self.flush()

    def hold(self, found: FlowRecords) -> None:
        """Takes records and readings of counters in; `flush` writes them."""
        place = np.array([self._number_of(e) for e in found.exporters], np.int32)
        rows, own = found.rows.copy(), found.own
        if rows.size:
            rows["exporter"] = place[rows["exporter"]]
            self.longest_ns = max(self.longest_ns, int((rows["arrived_ns"] - rows["first_ns"]).max()))
        readings = found.counters.rows.copy()
        if readings.size:
            devices = np.array([self._counters.device(name) for name in found.counters.devices], np.int32)
            readings["device"] = devices[readings["device"]]
        self._counters.names.update(
            {
                (self._counters.device(found.counters.devices[d]), i): text
                for (d, i), text in found.counters.names.items()
            }
        )
        self._waiting += _units(RECORDS, rows, rows["arrived_ns"], own) + _units(
            COUNTERS, readings, readings["time_ns"], {}
        )

    def hold_rows(self, kind: str, table: pa.Table) -> None:
        """Takes rows of one of TABLES in, by their time; `flush` writes them."""
        hours = table[layout.TABLE[kind].time].to_numpy() // HOUR_NS
        if (hours[1:] < hours[:-1]).any():
            order = np.argsort(hours, kind="stable")
            hours, table = hours[order], table.take(order)
        begins = np.flatnonzero(np.diff(hours, prepend=-1)).tolist()
        for begin, end in pairwise([*begins, hours.size]):
            self._waiting.append(_Unit(kind, int(hours[begin]) * HOUR_NS, table.slice(begin, end - begin), {}))

    def flush(self) -> None:
        """Writes what waits, of each hour and table together; where nothing can be written, the oldest is given up
        beyond what may wait.
        """
        self._waiting = _together(self._waiting)
        self._flush()
        while sum(unit.count for unit in self._waiting) > _MOST_WAITING:
            dropped = self._waiting.pop(0)
            self.given_up += dropped.count if dropped.kind == RECORDS else 0

    @property
    def _records_waiting(self) -> int:
        return sum(unit.count for unit in self._waiting if unit.kind == RECORDS)

    def _number_of(self, exporter: Exporter) -> int:
        """Its number in this history; what it told is added to what it had told before this run."""
        key = (exporter.address, exporter.domain, exporter.protocol)
        if key not in self._told:
            self._told[key] = len(self._exporters)
            self._exporters.append(replace(exporter))
            self._base.append(Exporter(*key))
        number = self._told[key]
        base = self._base[number]
        summed_up = {
            name: getattr(base, name) + getattr(exporter, name)
            for name in ("records", "flow_records", "datagrams", "lost_records", "lost_datagrams", "undecoded")
        }
        self._exporters[number] = replace(
            exporter,
            **summed_up,
            interfaces={**base.interfaces, **exporter.interfaces},
            applications={**base.applications, **exporter.applications},
        )
        return number

    def _flush(self) -> None:
        if not self._waiting:
            return
        try:
            if self._free(self.folder) < _SPARE:
                self._stop("the disk is full: nothing is written until there is room")
                return
            self._write_about()
            while self._waiting:
                self._write(self._waiting[0])
                self._waiting.pop(0)  # Only now: what failed is tried again, what is written never is.
            for folder, (records, _) in list(self._since.items()):
                if (layout.folder_start(folder.name) or 0) + HOUR_NS <= self._now_ns():
                    del self._since[folder]  # It is summed as a whole.
                elif records >= _BLOCK_ROWS:
                    self._block(folder)
        except OSError as error:
            self._stop(f"writing failed ({error.strerror or error}): tried again every second")
            return
        self.trouble = ""

    def _stop(self, words: str) -> None:
        self.trouble = f"{words}; {self._records_waiting:,} records wait, {self.given_up:,} given up"

    def _write_about(self) -> None:
        """Who told, before what they told."""
        about = tellers_told(Tellers(self._exporters, self._counters, self.longest_ns, self.reception))
        if about != self._written_about:
            write_json(self.folder / EXPORTERS, about)
            self._written_about = about

    def _write(self, unit: "_Unit") -> None:
        """Writes one file."""
        self._number = max(self._number + 1, self._now_ns())
        folder = self.folder / unit.kind / folder_name(unit.hour_ns, HOUR_NS)
        if unit.kind == RECORDS:
            self._forget_sums(unit.hour_ns)
        elif unit.kind in _LADDERS:
            self._forget_days(_LADDERS[unit.kind].levels, unit.hour_ns)
        write_part(
            folder / part_name(self._number, self._number),
            unit.table,
            self._settle,
        )
        self._done.discard(folder)
        self._changed[folder] = None
        if unit.kind == RECORDS and unit.hour_ns + HOUR_NS > self._now_ns():
            records, flushes = self._since.get(folder, (0, 0))
            self._since[folder] = (records + unit.count, flushes + 1)

    def _forget_sums(self, start_ns: int) -> None:
        """Sums of an hour to which more came are made anew, as long as its records are still there."""
        if start_ns < self._now_ns() - self.days[RECORDS] * DAY_NS:
            return
        for level in LEVELS[1:]:
            folder = (
                self.folder / level.name / folder_name(start_ns // level.folder_ns * level.folder_ns, level.folder_ns)
            )
            if (folder / SUMS).exists():
                for path in (*counting(folder), folder / SUMS):
                    path.unlink(missing_ok=True)
                self._changed[folder] = None
            self._done.discard(folder)

    def _forget_days(self, levels: Sequence[Level], start_ns: int) -> None:
        """Sums of a day to which more came are made anew, as long as what they are made of is still there."""
        if start_ns >= self._now_ns() - self.days[levels[0].name] * DAY_NS:
            for level in levels[1:]:
                folder = self.folder / level.name / folder_name(start_ns // DAY_NS * DAY_NS, DAY_NS)
                (folder / SUMS).unlink(missing_ok=True)
                self._done.discard(folder)
                self._changed[folder] = None

    # --- for who keeps a copy elsewhere ---
    def gather(self) -> None:
        """Merges what came since the last time, of each open hour and table: a copy of it is one file, not a hundred.
        Trouble with the disk is told, not raised.
        """
        try:
            now = self._now_ns()
            for folder in list(self._changed):
                if (layout.folder_start(folder.name) or 0) + HOUR_NS > now:
                    self._gather(folder)
        except (OSError, pa.ArrowException) as error:
            self._stop(f"merging failed ({getattr(error, 'strerror', None) or error}): tried again every minute")

    def _gather(self, folder: Path) -> None:
        sums = self.folder / LEVELS[1].name / folder.name
        of_records = folder.parent.name == RECORDS
        fresh = []
        for path in counting(folder):
            own = part_range(path.name)
            if own and own[0] > self._gathered.get(folder, -1) and not (of_records and _is_covered(path, sums)):
                fresh.append(path)
        if len(fresh) > 1:
            merge(folder, fresh, self._settle)
        if fresh and (own := part_range(fresh[-1].name)):
            self._gathered[folder] = own[1]

    def changed(self) -> list[Path]:
        """The hours and days whose files are not those of the last time, in the order in which they changed; the first
        time, since the writer began.
        """
        found, self._changed = list(self._changed), {}
        now = self._now_ns()
        self._gathered = {
            one: high for one, high in self._gathered.items() if (layout.folder_start(one.name) or 0) + DAY_NS > now
        }
        return found

    # --- tidying ---
    def tidy(self) -> None:
        """Merges, sums and gives up what is due: a little each time, meant to be called every minute.

        Trouble with the disk is told, not raised.
        """
        try:
            if self._free(self.folder) < _SPARE:
                self._give_up()
                return
            self._sum()  # Before closed hours are merged: blocks are in sums by the files they were made of.
            for ladder in _LADDERS.values():
                self._sum_days(ladder)
            self._merge(RECORDS)
            for table in TABLES:
                self._merge(table.name)
            self._give_up()
        except (OSError, duckdb.Error, pa.ArrowException) as error:
            words = getattr(error, "strerror", None) or error
            self._stop(f"tidying failed ({words}): tried again every minute")

    def _block(self, folder: Path) -> None:
        """Merges the flushes of an hour since the last block into one file, and sums it: what an open hour holds can
        be shown without reading it whole.
        """
        sums = self.folder / LEVELS[1].name / folder.name
        fresh = [path for path in counting(folder) if not _is_covered(path, sums)]
        if not fresh:
            return
        path = merge(folder, fresh, self._settle) if len(fresh) > 1 else fresh[0]
        rows, _ = rows_of(read_part(path), FLOW)
        write_part(sums / path.name, table_of(summed(rows, LEVELS[1]), {}), self._settle)
        self._changed |= {folder: None, sums: None}
        self._since[folder] = (0, 0)

    def _merge(self, kind: str) -> None:
        now = self._now_ns()
        for start, folder in folders(self.folder / kind):
            if folder in self._done:
                continue
            files = counting(folder)
            if start + HOUR_NS + _GRACE_NS <= now:
                for run in _runs(files):
                    merge(folder, run, self._settle)
                    self._changed[folder] = None
                self._done.add(folder)
            elif kind != RECORDS and len(files) >= _MERGE_AT:
                merge(folder, files, self._settle)
                self._changed[folder] = None
            elif kind == RECORDS and self._since.get(folder, (0, 0))[1] >= _MERGE_AT:
                self._block(folder)
            counted = set(counting(folder))
            for path in folder.glob("*.parquet"):
                if path not in counted:
                    path.unlink(missing_ok=True)

    def _sum(self) -> None:
        now, fresh = self._now_ns(), _Fresh()
        finer: Level = LEVELS[0]
        for level in (level for level in LEVELS[1:] if self.days[level.name]):
            held = folders(self.folder / finer.name)
            due: list[tuple[Path, Level, list[Path]]] = []
            for start in sorted({start // level.folder_ns * level.folder_ns for start, _ in held}):
                folder = self.folder / level.name / folder_name(start, level.folder_ns)
                if folder in self._done or start + level.folder_ns + _GRACE_NS > now or (folder / SUMS).exists():
                    continue
                if start + level.folder_ns < now - self.days[level.name] * DAY_NS:
                    continue
                own = [one for hour, one in held if start <= hour < start + level.folder_ns]
                of = [summable(self.folder, one) if finer is LEVELS[0] else files_of(finer, one) for one in own]
                due.append((folder, level, [path for files in of for path in files]))
            with ThreadPoolExecutor(_AT_ONCE) as pool:
                for folder in pool.map(partial(self._sum_folder, fresh), due):
                    self._done.add(folder)
            finer = level

    def _sum_days(self, ladder: _Ladder) -> None:
        """Hours and days of a table, of closed days."""
        now = self._now_ns()
        for finer, level in pairwise(ladder.levels):
            for day in sorted({start // DAY_NS * DAY_NS for start, _ in folders(self.folder / finer.name)}):
                folder = self.folder / level.name / folder_name(day, DAY_NS)
                late = day + DAY_NS < now - self.days[level.name] * DAY_NS
                if folder in self._done or late or day + DAY_NS + _GRACE_NS > now:
                    continue
                path = folder / SUMS
                if not (path.exists() and ladder.is_whole(path)):
                    self._sum_day(ladder, finer, level, day)
                    self._changed[folder] = None
                self._done.add(folder)

    def _sum_day(self, ladder: _Ladder, finer: Level, level: Level, day: int) -> None:
        """Sums of one closed day, where what they are made of is still there."""
        own = [one for one in ladder.levels if one.width_ns <= finer.width_ns]
        if parts := files_of_period(self.folder, own, finer, day, day + DAY_NS):
            write_part(
                self.folder / level.name / folder_name(day, DAY_NS) / SUMS, ladder.coarser(parts, level), self._settle
            )

    def _sum_folder(self, fresh: "_Fresh", due: tuple[Path, Level, list[Path]]) -> Path:
        """Sums of a closed hour or day from finer rows, so many at a time that little is held; gives its folder."""
        folder, level, parts = due
        if not parts:
            return folder
        sums = [summed_columns(rows, level) for rows in _batches(parts, fresh)]
        rows = summed_columns(joined(sums), level) if len(sums) > 1 else sums[0]
        write_part(folder / SUMS, table_of_sums(rows), self._settle)
        self._changed[folder] = None
        fresh.keep(folder / SUMS, rows)
        for path in counting(folder):  # Of blocks, while the hour was open.
            path.unlink(missing_ok=True)
        return folder

    def _give_up(self) -> None:
        now = self._now_ns()
        for name, folder_ns in (
            *((level.name, level.folder_ns) for level in LEVELS),
            *((table.name, HOUR_NS) for table in TABLES),
            *((level.name, level.folder_ns) for level in TABLE_SUMS),
        ):
            for start, folder in folders(self.folder / name):
                if start + folder_ns < now - self.days[name] * DAY_NS:
                    shutil.rmtree(folder.rename(folder.with_name(f"{folder.name}{_GONE}")))


class _Fresh:
    """Sums that were just written: the next coarser ones are made of them. So many are kept that little is held."""

    def __init__(self) -> None:
        self._held: dict[Path, Columns] = {}
        self._rows = 0

    def keep(self, path: Path, rows: Columns) -> None:
        """For whoever asks for the file next."""
        if self._rows + rows["octets"].size <= _BLOCK_ROWS // 2:
            self._held[path] = rows
            self._rows += rows["octets"].size

    def take(self, path: Path) -> Columns:
        """Rows of a file, once from here, else as they were written."""
        rows = self._held.pop(path, None)
        if rows is None:
            return flow_columns(path, SUMMED)
        self._rows -= rows["octets"].size
        return rows


def _batches(parts: list[Path], fresh: _Fresh) -> Iterator[Columns]:
    """Rows of files, together as many as a block has; a file that has more stands alone."""
    held: list[Columns] = []
    count = 0
    for path in parts:
        rows = fresh.take(path)
        if held and count + rows["octets"].size > _BLOCK_ROWS:
            yield joined(held)
            held, count = [], 0
        held.append(rows)
        count += rows["octets"].size
    yield joined(held)


def _is_covered(path: Path, sums: Path) -> bool:
    """Whether a file of records is in the sums of a block."""
    own = part_range(path.name)
    return own is not None and any(
        r[0] <= own[0] and own[1] <= r[1] for other in counting(sums) if (r := part_range(other.name)) is not None
    )


def summable(root: Path, folder: Path) -> list[Path]:
    """What an hour of records is summed from: sums of its blocks, and the records of no block."""
    sums = root / LEVELS[1].name / folder.name
    return [*counting(sums), *(path for path in counting(folder) if not _is_covered(path, sums))]


def files_of(level: Level, folder: Path) -> list[Path]:
    """The files of one hour or day that count.

    Of the finest sums of an hour that is still open: those of its blocks, and records since.
    """
    if level.width_ns == 0:
        return counting(folder)
    if (folder / SUMS).exists():
        return [folder / SUMS]
    if level is LEVELS[1] and counting(folder):
        root = folder.parent.parent
        return summable(root, root / RECORDS / folder.name)
    return []


def _runs(files: list[Path]) -> list[list[Path]]:
    """Neighbouring files that together are no larger than a file should be."""
    found: list[list[Path]] = []
    total = 0
    for path in files:
        size = path.stat().st_size
        if not found or total + size > _LARGEST_FILE:
            found.append([])
            total = 0
        found[-1].append(path)
        total += size
    return [run for run in found if len(run) > 1]


def merge(folder: Path, files: list[Path], settle: bool = True) -> Path:
    """Puts neighboring files of one hour together into one, and gives it; the others are taken away when it is
    there.
    """
    ranges = [r for path in files if (r := part_range(path.name)) is not None]
    path = folder / part_name(min(r[0] for r in ranges), max(r[1] for r in ranges))
    write_part(path, pa.concat_tables([read_part(one) for one in files], promote_options="permissive"), settle)
    for one in files:
        one.unlink(missing_ok=True)
    return path
