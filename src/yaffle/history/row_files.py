"""Rows of the tables beside flow records, read from their files without a database: for those who ask every minute for
what lies a little later than before. A file of a history never changes under its name, so that it is kept in memory.
"""

from collections import OrderedDict
from pathlib import Path
from typing import NamedTuple

import pyarrow as pa
import pyarrow.compute as pc

from yaffle.history.layout import HOUR_NS, HistoryError, branches, counting, folder_name
from yaffle.history.mirror import at_hand
from yaffle.history.parts import read_part

_MOST_BYTES = 64 << 20  # of tables that are kept
_TRIES = 3


class RowFiles:
    """The files of one history."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._held: OrderedDict[Path, _Held] = OrderedDict()
        self._bytes = 0

    def between(self, table: str, time: str, after_ns: int, until_ns: int) -> pa.Table | None:
        """Rows whose time lies after a moment, and not after another; None where there is no file. A file that was
        merged away meanwhile is looked for once more. Raises HistoryError.
        """
        for last_try in (False,) * (_TRIES - 1) + (True,):
            try:
                parts = [self._read(path, time) for path in self._paths(table, after_ns, until_ns)]
            except (OSError, pa.ArrowException) as error:
                if last_try:
                    raise HistoryError(f"{self._folder / table} cannot be read: {error}") from error
                continue
            if not parts:
                return None
            some = [one for part in parts if (one := _cut(part, time, after_ns, until_ns)) is not None]
            return pa.concat_tables(some or [parts[0].rows.slice(0, 0)], promote_options="default")
        return None

    def _paths(self, table: str, after_ns: int, until_ns: int) -> list[Path]:
        """Those that may hold such rows: an hour's folder holds what came late, too. By their names, not by listing
        them: months have thousands.
        """
        first = max(0, after_ns // HOUR_NS - 1) * HOUR_NS
        hours = range(first, until_ns, HOUR_NS)
        own = [branch / table for branch in branches(self._folder)]
        return [path for start in hours for one in own for path in counting(one / folder_name(start, HOUR_NS))]

    def _read(self, path: Path, time: str) -> "_Held":
        found = self._held.pop(path, None)
        if found is None or found.time != time:
            at_hand([path])
            rows = read_part(path)
            edges = pc.min_max(rows[time])
            self._bytes += rows.nbytes - (found.rows.nbytes if found is not None else 0)
            found = _Held(rows, time, edges["min"].as_py(), edges["max"].as_py())
        self._held[path] = found
        while self._bytes > _MOST_BYTES and len(self._held) > 1:
            self._bytes -= self._held.popitem(last=False)[1].rows.nbytes
        return found


class _Held(NamedTuple):
    """A file, and between what its times lie; None where it has no rows."""

    rows: pa.Table
    time: str
    low_ns: int | None
    high_ns: int | None


def _cut(part: _Held, time: str, after_ns: int, until_ns: int) -> pa.Table | None:
    if part.low_ns is None or part.high_ns is None or part.high_ns <= after_ns or part.low_ns > until_ns:
        return None
    rows = part.rows
    if part.low_ns > after_ns and part.high_ns <= until_ns:
        return rows
    return rows.filter(pc.and_(pc.greater(rows[time], after_ns), pc.less_equal(rows[time], until_ns)))
