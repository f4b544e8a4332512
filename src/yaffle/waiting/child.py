"""The process that accounts for a ring while it is written.

Told as JSON in its first argument: ring, capture, history. Gives lines of JSON, the first when it can be asked to end;
after one that names a table and its bytes follow these, an Arrow stream; one that asks to settle is answered by a line
when all rows are on the disk. Ends with a last look when it is asked to.
"""

import json
import os
import signal
import sys
import threading
from pathlib import Path

import pyarrow as pa

from yaffle.errors import YaffleError
from yaffle.history.database import cursor
from yaffle.history.layout import QUESTIONS, WAIT_LEVELS, WAITS, counting, folders
from yaffle.history.wait_rows import MINUTE_NS, SCHEMA
from yaffle.history.wait_sums import text, wait_files
from yaffle.waiting.accounting import Accounting
from yaffle.waiting.minutes import QUESTION
from yaffle.waiting.stretches import TABLES, schema_of

_LOOK_S = 10.0
_BEFORE_NS = 2 * 3600 * 10**9  # A run's first rows may be of minutes that lie so long before it.
_NICE = 5


class _Told:
    """Tells whoever started this process, and asks the history what was told before."""

    def __init__(self, history: Path, capture: str, ended: threading.Event) -> None:
        self._history, self._capture, self._ended = history, capture, ended

    def say(self, document: dict[str, object], body: bytes = b"") -> None:
        """A line, and what follows it."""
        try:
            sys.stdout.buffer.write(json.dumps(document).encode() + b"\n" + body)
            sys.stdout.buffer.flush()
        except BrokenPipeError:  # Nobody listens any more.
            self._ended.set()

    def tell(self, name: str, table: pa.Table) -> None:
        """Rows of a table."""
        sink = pa.BufferOutputStream()
        with pa.ipc.new_stream(sink, table.schema) as stream:
            stream.write_table(table)
        body = sink.getvalue().to_pybytes()
        self.say({"table": name, "bytes": len(body)}, body)

    def settle(self) -> None:
        """Asks, and waits for the answer."""
        self.say({"settle": True})
        if not sys.stdin.buffer.readline():
            raise YaffleError("whoever keeps the history is gone")

    def told(self, run: int) -> dict[str, pa.Table]:
        """Rows of a run by table, and questions of its time."""
        since = run - _BEFORE_NS
        waits = self._asked(self._waits(since), SCHEMA.names, f"run = {run}")
        found = {WAITS: waits, QUESTIONS: self._asked(self._files(QUESTIONS, since), QUESTION.names, "true")}
        for table in TABLES:
            found[table] = self._asked(self._files(table, since), schema_of(table).names, f"run = {run}")
        return {name: table for name, table in found.items() if table is not None}

    def _files(self, table: str, since_ns: int) -> list[Path]:
        hours = [folder for start, folder in folders(self._history / table) if start >= since_ns - _BEFORE_NS]
        return [path for folder in hours for path in counting(folder)]

    def latest_ns(self) -> int:
        """The end of the last minute that was told of this capture."""
        found = self._asked(self._waits(0), ["max(time_ns) AS latest"], "application <> ''")
        latest = found["latest"][0].as_py() if found is not None else None
        return latest + MINUTE_NS if latest is not None else 0

    def _waits(self, since_ns: int) -> list[Path]:
        return wait_files(self._history, WAIT_LEVELS[0], since_ns)

    def _asked(self, files: list[Path], columns: list[str], where: str) -> pa.Table | None:
        """What rows of this capture say; None without any file."""
        if not files:
            return None
        query = f"SELECT {', '.join(columns)} FROM told WHERE {where} AND capture = {text(self._capture)}"
        with cursor() as db:
            table: pa.Table = (
                db.read_parquet([str(path) for path in files], union_by_name=True).query("told", query).to_arrow_table()
            )
        return table


def main() -> int:
    """Exit code 0, or 2 where it cannot be done."""
    told = json.loads(sys.argv[1])
    ended = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ended.set())
    os.nice(_NICE)
    kept = _Told(Path(told["history"]), told["capture"], ended)
    kept.say({"begun": True})
    try:
        accounting = Accounting(Path(told["ring"]), told["capture"], kept)
        while not ended.wait(_LOOK_S):
            accounting.look()
            kept.say({"exchanges": accounting.exchanges, "trouble": accounting.trouble})
        accounting.look(last=True)
    except (YaffleError, OSError) as error:
        kept.say({"error": str(error)})
        return 2
    kept.say({"exchanges": accounting.exchanges, "trouble": accounting.trouble, "ended": True})
    return 0


if __name__ == "__main__":
    sys.exit(main())
