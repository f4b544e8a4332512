"""Rows of the tables beside flow records, read from their files without a database: for those who ask every minute for
what lies a little later than before. A file of a history never changes under its name, so that it is kept in memory.
"""

from collections import OrderedDict
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from yaffle.history.layout import HOUR_NS, HistoryError, counting, folders

_MOST_BYTES = 64 << 20  # of tables that are kept
_TRIES = 3


class RowFiles:
    """The files of one history."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._held: OrderedDict[Path, pa.Table] = OrderedDict()
        self._bytes = 0

    def between(self, table: str, time: str, after_ns: int, until_ns: int) -> pa.Table | None:
        """Rows whose time lies after a moment, and not after another; None where there is no file. A file that was
        merged away meanwhile is looked for once more. Raises HistoryError.
        """
        for last_try in (False,) * (_TRIES - 1) + (True,):
            try:
                parts = [self._read(path) for path in self._paths(table, after_ns, until_ns)]
            except (OSError, pa.ArrowException) as error:
                if last_try:
                    raise HistoryError(f"{self._folder / table} cannot be read: {error}") from error
                continue
            if not parts:
                return None
            return pa.concat_tables([_cut(part, time, after_ns, until_ns) for part in parts], promote_options="default")
        return None

    def _paths(self, table: str, after_ns: int, until_ns: int) -> list[Path]:
        """Those that may hold such rows: an hour's folder holds what came late, too."""
        return [
            path
            for start, folder in folders(self._folder / table)
            if start < until_ns and start + 2 * HOUR_NS > after_ns
            for path in counting(folder)
        ]

    def _read(self, path: Path) -> pa.Table:
        found = self._held.pop(path, None)
        if found is None:
            found = pq.read_table(path, partitioning=None, use_threads=False)
            self._bytes += found.nbytes
        self._held[path] = found
        while self._bytes > _MOST_BYTES and len(self._held) > 1:
            self._bytes -= self._held.popitem(last=False)[1].nbytes
        return found


def _cut(part: pa.Table, time: str, after_ns: int, until_ns: int) -> pa.Table:
    edges = pc.min_max(part[time])
    low, high = edges["min"].as_py(), edges["max"].as_py()
    if low is None or high <= after_ns or low > until_ns:
        return part.slice(0, 0)
    if low > after_ns and high <= until_ns:
        return part
    return part.filter(pc.and_(pc.greater(part[time], after_ns), pc.less_equal(part[time], until_ns)))
