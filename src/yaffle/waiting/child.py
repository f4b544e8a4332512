"""The process that accounts for a ring while it is written.

Told as JSON in its first argument: ring, capture, history. Gives lines of JSON; after one that names a table and its
bytes follow these, an Arrow stream. Ends with a last look when it is asked to.
"""

import json
import os
import signal
import sys
import threading
from pathlib import Path

import pyarrow as pa

from yaffle.errors import YaffleError
from yaffle.history.layout import QUESTIONS, WAIT_LEVELS, counting, folders
from yaffle.history.wait_rows import SCHEMA
from yaffle.history.wait_sums import wait_files
from yaffle.waiting.accounting import Accounting
from yaffle.waiting.minutes import QUESTION

_LOOK_S = 10.0
_BEFORE_NS = 2 * 3600 * 10**9  # A run's first rows may be of minutes that lie so long before it.
_NICE = 5


def told_before(history: Path, capture: str, run: int) -> tuple[pa.Table, pa.Table]:
    """What a history holds of a run: rows of `waits`, and of `questions` since it began."""
    from yaffle.history.database import cursor

    since = run - _BEFORE_NS
    waits = wait_files(history, WAIT_LEVELS[0], since)
    asked = [
        p for start, folder in folders(history / QUESTIONS) if start >= since - _BEFORE_NS for p in counting(folder)
    ]
    found = []
    for files, schema, where in ((waits, SCHEMA, f"run = {run}"), (asked, QUESTION, "true")):
        names = ", ".join(schema.names)
        if not files:
            found.append(schema.empty_table())
            continue
        with cursor() as db:
            told = db.read_parquet([str(path) for path in files])
            query = f"SELECT {names} FROM told WHERE {where} AND capture = ?"
            found.append(
                told.query("told", query.replace("?", "'" + capture.replace("'", "''") + "'")).to_arrow_table()
            )
    return found[0], found[1]


def main() -> int:
    """Exit code 0, or 2 where it cannot be done."""
    told = json.loads(sys.argv[1])
    ended = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ended.set())
    os.nice(_NICE)
    out = sys.stdout.buffer

    def tell(document: dict[str, object], body: bytes = b"") -> None:
        try:
            out.write(json.dumps(document).encode() + b"\n" + body)
            out.flush()
        except BrokenPipeError:  # Nobody listens any more.
            ended.set()

    def rows(name: str, table: pa.Table) -> None:
        sink = pa.BufferOutputStream()
        with pa.ipc.new_stream(sink, table.schema) as stream:
            stream.write_table(table)
        body = sink.getvalue().to_pybytes()
        tell({"table": name, "bytes": len(body)}, body)

    history = Path(told["history"])
    try:
        accounting = Accounting(
            Path(told["ring"]), told["capture"], rows, lambda run: told_before(history, told["capture"], run)
        )
        while not ended.wait(_LOOK_S):
            accounting.look()
            tell({"exchanges": accounting.exchanges, "trouble": accounting.trouble})
        accounting.look(last=True)
    except (YaffleError, OSError) as error:
        tell({"error": str(error)})
        return 2
    tell({"exchanges": accounting.exchanges, "trouble": accounting.trouble, "ended": True})
    return 0


if __name__ == "__main__":
    sys.exit(main())
