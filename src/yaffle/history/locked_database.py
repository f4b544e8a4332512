"""Where filters run: a database in memory that reaches nothing else, bounded in time and memory, stopped when told."""

import re
import threading
import time
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.errors import Cancelled, YaffleError
from yaffle.progress import Progress, go_on

MOST_S = 20.0  # A filter that runs longer is stopped.
_LOOK_EVERY_S = 0.05


class FilterError(YaffleError):
    """The expression cannot be used; the text says why, `place` where (characters from its start), if known."""

    def __init__(self, text: str, place: int | None = None) -> None:
        super().__init__(text)
        self.place = place


class LateFilterError(FilterError):
    """It ran too long."""


def selected(database: Any, table: Any, expression: str, progress: Progress = go_on) -> Any:
    """A boolean mask over the rows of an Arrow table. Raises FilterError, also for an expression that runs too long;
    Cancelled when `progress` says so.
    """
    connection = database.cursor()  # Of its own: others may ask from another thread.
    watch = _Watch(connection, progress)
    try:
        relation = connection.from_arrow(table.append_column("row_", pa.array(np.arange(table.num_rows))))
        # A newline keeps a comment in the expression from swallowing the bracket; only one expression can stand here.
        rows = relation.filter(f"({expression}\n)").project("row_").fetchnumpy()["row_"]
    except duckdb.Error as error:
        watch.end()
        if watch.stopped:
            raise Cancelled from error
        if watch.late:
            raise LateFilterError(f"it ran for over {MOST_S:.0f} s and was stopped: write a simpler one") from error
        raise FilterError(_plain(str(error)), _place(str(error), expression)) from error
    finally:
        watch.end()
        connection.close()
    mask = np.zeros(table.num_rows, bool)
    mask[np.asarray(rows, np.int64)] = True
    return mask


class _Watch:
    """Looks after a question to the database from a thread of its own: ends it when the user stops it, or when it
    takes too long.
    """

    def __init__(self, connection: Any, progress: Progress) -> None:
        self.stopped = self.late = False
        self._connection, self._progress = connection, progress
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, name="filter watch", daemon=True)
        self._thread.start()

    def _look(self) -> None:
        began = time.monotonic()
        while not self._over.wait(_LOOK_EVERY_S):
            spent = time.monotonic() - began
            self.stopped = self.stopped or not self._progress(min(0.99, spent / MOST_S), "running the filter")
            self.late = self.late or spent > MOST_S
            if self.stopped or self.late:
                self._connection.interrupt()

    def end(self) -> None:
        """The question is answered."""
        self._over.set()
        self._thread.join()


def locked_database() -> Any:
    """A database in memory that cannot read files, load extensions or be reconfigured."""
    return duckdb.connect(
        ":memory:",
        config={
            "enable_external_access": "false",
            "autoload_known_extensions": "false",
            "autoinstall_known_extensions": "false",
            "lock_configuration": "true",
            "threads": "2",
            "memory_limit": "1GB",
            "temp_directory": "",
        },
    )


def _place(text: str, expression: str) -> int | None:
    """Where in the expression the database's message points to, if that can be told."""
    for word in re.findall(r"[\"'](\w+)[\"']|with name (\w+)", text.split("\nCandidate")[0]):
        found = re.search(rf"\b{re.escape(word[0] or word[1])}\b", expression, re.IGNORECASE)
        if found:
            return found.start()
    return len(expression.rstrip()) if "syntax error" in text else None


def _plain(text: str) -> str:
    """First line of the database's message, without its jargon."""
    first = text.strip().split("\n")[0]
    for prefix in (
        "Binder Error: ",
        "Parser Error: ",
        "Conversion Error: ",
        "Catalog Error: ",
        "Invalid Input Error: ",
    ):
        first = first.removeprefix(prefix)
    return first
