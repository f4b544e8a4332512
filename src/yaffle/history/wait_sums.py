"""Sums of the table `waits`: the files that hold a period, grouped by whatever is asked, histograms put together."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq

from yaffle.history.asker import Asker, ChangedError
from yaffle.history.database import cursor
from yaffle.history.ladder import ALWAYS, NEVER, files_of_period, starts
from yaffle.history.layout import WAIT_LEVELS, HistoryError, Level
from yaffle.history.mirror import at_hand
from yaffle.history.wait_rows import BIN_COUNTS, BINS, SCHEMA
from yaffle.history.wait_rows import SUMS as SUMMED

_TRIES = 3
_COARSE_KEYS = ("capture", "application", "server", "port", "site")


@dataclass(frozen=True)
class Grouping:
    """By what rows of waits are put together. keys: expressions over their columns, by the names they get."""

    keys: Mapping[str, str]
    where: str = "true"

    @property
    def query(self) -> str:
        """Of the rows `told`: a row a group, ordered by the keys."""
        return _grouped("told", self.keys, self.where, "> 0")

    @property
    def of_some(self) -> str:
        """What is asked of the rows of some files: each client apart, since the same one counts once; and what was told
        wrong, which is set right in another file.
        """
        keys = self.keys if "client" in self.keys else {**self.keys, "client": "client"}
        return _grouped("told", keys, self.where, "<> 0")

    @property
    def of_answers(self) -> str:
        """Of answers to that (`parts`): what is asked of all files."""
        return _grouped("parts", {name: f'"{name}"' for name in self.keys}, "true", "> 0")


def _grouped(rows: str, keys: Mapping[str, str], where: str, cells: str) -> str:
    """Of the rows of a view: a row a group, ordered by the keys. cells: which of its histogram."""
    own = ", ".join(f"{expression} AS {name}" for name, expression in keys.items())
    names = ", ".join(f'"{name}"' for name in keys)
    join = " AND ".join(f's."{name}" = l."{name}"' for name in keys)
    sums = ", ".join(f"CAST(sum({name}) AS BIGINT) AS {name}" for name in SUMMED)
    return (
        f"WITH few AS (SELECT * FROM {rows} WHERE {where}),"
        f" s AS (SELECT {own}, {sums}, CAST(greatest(count(DISTINCT nullif(client, '')), max(clients)) AS BIGINT)"
        f" AS clients FROM few GROUP BY ALL),"  # By what the keys say, not by columns of the same names.
        f" cells AS (SELECT {own}, unnest({BINS}) AS bin, unnest({BIN_COUNTS}) AS many FROM few),"
        f" cell AS (SELECT {names}, bin, sum(many) AS many FROM cells GROUP BY ALL HAVING sum(many) {cells}),"
        f" l AS (SELECT {names}, list(bin ORDER BY bin) AS {BINS}, list(CAST(many AS INTEGER) ORDER BY bin)"
        f" AS {BIN_COUNTS} FROM cell GROUP BY {names})"
        f" SELECT s.*, l.{BINS}, l.{BIN_COUNTS} FROM s LEFT JOIN l ON {join} ORDER BY {names}"
    )


def text(value: str) -> str:
    """A text as SQL has it."""
    return "'" + value.replace("'", "''") + "'"


def coarser(parts: Sequence[Path], level: Level) -> pa.Table:
    """Rows of a level from finer ones: without clients, whose number stays. Raises duckdb.Error."""
    keys = {name: name for name in _COARSE_KEYS}
    grouping = Grouping({"time_ns": f"time_ns // {level.width_ns} * {level.width_ns}"} | keys)
    with cursor() as db:
        told = db.read_parquet(at_hand(parts))
        table: pa.Table = told.query("told", grouping.query).to_arrow_table()
    blank = {"client": pa.array([""] * table.num_rows), "run": pa.array([0] * table.num_rows)}
    columns = {name: blank[name] if name in blank else table[name] for name in SCHEMA.names}
    return pa.table(columns).cast(SCHEMA)


def is_whole(path: Path) -> bool:
    """Whether a file of sums can be read, and each of its groups has one row: it had several, with the histogram of all
    of them in each, where an earlier version wrote it.
    """
    try:
        with pq.ParquetFile(path) as file:
            keys = file.read(["time_ns", *_COARSE_KEYS])
    except (OSError, pa.ArrowException):  # What the disk lost is made anew.
        return False
    return bool(keys.group_by(keys.column_names).aggregate([]).num_rows == keys.num_rows)


def wait_files(root: Path, level: Level, first_ns: int = ALWAYS, last_ns: int = NEVER) -> list[Path]:
    """The files that hold a period at a level."""
    return files_of_period(root, WAIT_LEVELS, level, first_ns, last_ns)


class WaitHistory:
    """The waits that a history keeps."""

    def __init__(self, folder: Path, asker: Asker | None = None) -> None:
        self.folder, self._asker = folder, asker

    @property
    def span(self) -> tuple[int, int] | None:
        """From when to when there are any, by hours; None without."""
        held = [(start, start + one.folder_ns) for one in WAIT_LEVELS for start in starts(self.folder / one.name)]
        return (min(low for low, _ in held), max(high for _, high in held)) if held else None

    def level_for(self, first_ns: int, last_ns: int) -> Level:
        """The level at which a period is not too much to be asked."""
        span = last_ns - first_ns
        return next((one for one in WAIT_LEVELS if span <= one.longest_ns), WAIT_LEVELS[-1])

    def coarsest(self, first_ns: int, last_ns: int) -> Level:
        """The coarsest level of what is asked of a period: finer rows may not be kept of it."""
        asked = self.level_for(first_ns, last_ns)
        names = {path.parents[1].name for path in wait_files(self.folder, asked, first_ns, last_ns)}
        return max((one for one in WAIT_LEVELS if one.name in names), key=lambda one: one.width_ns, default=asked)

    def asked(
        self, grouping: Grouping, first_ns: int = ALWAYS, last_ns: int = NEVER, level: Level | None = None
    ) -> pa.Table:
        """Groups of the minutes (hours, days) that begin in a period, in order of their keys. Raises HistoryError."""
        level = level or self.level_for(first_ns, last_ns)
        own = Grouping(grouping.keys, f"time_ns >= {int(first_ns)} AND time_ns < {int(last_ns)} AND ({grouping.where})")
        for last_try in (False,) * (_TRIES - 1) + (True,):
            try:
                return self._found(own, wait_files(self.folder, level, first_ns, last_ns))
            except (duckdb.Error, pa.ArrowException, ChangedError) as error:
                if last_try:
                    raise HistoryError(f"{self.folder} cannot be read: {error}") from error
        raise AssertionError

    def _found(self, grouping: Grouping, files: Sequence[Path]) -> pa.Table:
        answers = None
        if self._asker is not None and files:
            answers = self._asker.answers(self.folder, files, "told", grouping.of_some)
        with cursor() as db:
            if answers is not None:
                found: pa.Table = db.from_arrow(answers).query("parts", grouping.of_answers).to_arrow_table()
            else:
                told = db.read_parquet(at_hand(files)) if files else db.from_arrow(SCHEMA.empty_table())
                found = told.query("told", grouping.query).to_arrow_table()
        return found
