"""The book of what is watched: where each subject stands, events that are not in the history yet, notices that are to
go out, responses under way.

One file of SQLite beside the history. What one look changes is written in one transaction, with the notices that it
sends: a kill leaves all of it, or nothing. An event goes to the history from here, and is struck out when it is on the
disk there; by its id it is known again, should that be said twice.
"""

import json
import sqlite3
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yaffle.watching.event_rows import Event, event_of
from yaffle.watching.states import Standing

FILE = "watching.sqlite"
_TABLES = """
CREATE TABLE IF NOT EXISTS standings (watch TEXT, subject TEXT, state TEXT, since_ns INTEGER, raised_ns INTEGER,
    raised_id TEXT, heard_ns INTEGER, value REAL, PRIMARY KEY (watch, subject));
CREATE TABLE IF NOT EXISTS events (number INTEGER PRIMARY KEY AUTOINCREMENT, id TEXT UNIQUE, row TEXT, handed INTEGER);
CREATE TABLE IF NOT EXISTS notices (number INTEGER PRIMARY KEY AUTOINCREMENT, channel TEXT, event TEXT,
    due_ns INTEGER, tries INTEGER, trouble TEXT);
CREATE TABLE IF NOT EXISTS responses (id TEXT PRIMARY KEY, response TEXT, event TEXT, began_ns INTEGER, state TEXT,
    told TEXT);
CREATE TABLE IF NOT EXISTS held (name TEXT PRIMARY KEY, value TEXT);
"""


@dataclass
class Entry:
    """Where a subject stands. raised_id: the event that raised it; heard_ns: when there was anything of it last."""

    standing: Standing
    raised_id: str = ""
    heard_ns: int = 0
    value: float = float("nan")


@dataclass(frozen=True)
class Waiting:
    """A notice that is to go out."""

    number: int
    channel: str
    event: Event
    due_ns: int
    tries: int
    trouble: str


class Book:
    """Opened by one collector. Raises sqlite3.Error where it cannot be written."""

    def __init__(self, folder: Path) -> None:
        self._db = sqlite3.connect(folder / FILE, isolation_level=None, check_same_thread=False)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.execute("PRAGMA synchronous=FULL")
        self._db.executescript(_TABLES)
        self._lock = threading.RLock()

    def close(self) -> None:
        """Ends."""
        self._db.close()

    @contextmanager
    def together(self) -> Iterator[None]:
        """All that is written inside is there, or nothing of it."""
        with self._lock:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                self._db.execute("ROLLBACK")
                raise
            self._db.execute("COMMIT")

    def _rows(self, query: str, told: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        """What a question finds, never in the middle of what another thread writes."""
        with self._lock:
            return self._db.execute(query, told).fetchall()

    # --- standings ---
    def standings(self) -> dict[tuple[str, str], Entry]:
        """Where all subjects stand."""
        rows = self._rows(
            "SELECT watch, subject, state, since_ns, raised_ns, raised_id, heard_ns, value FROM standings"
        )
        return {
            (watch, subject): Entry(Standing(state, since, raised), raised_id, heard, float("nan") if v is None else v)
            for watch, subject, state, since, raised, raised_id, heard, v in rows
        }

    def stand(self, entries: Iterable[tuple[str, str, Entry]]) -> None:
        """Writes where some stand."""
        self._db.executemany(
            "INSERT OR REPLACE INTO standings VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            [
                (watch, subject, e.standing.state, e.standing.since_ns, e.standing.raised_ns, e.raised_id, e.heard_ns,
                 None if e.value != e.value else e.value)
                for watch, subject, e in entries
            ],
        )  # fmt: skip

    def forget(self, subjects: Iterable[tuple[str, str]]) -> None:
        """They are not watched any more."""
        self._db.executemany("DELETE FROM standings WHERE watch = ? AND subject = ?", list(subjects))

    # --- events ---
    def tell(self, events: Iterable[Event]) -> None:
        """Writes events, which go on to the history."""
        self._db.executemany(
            "INSERT OR IGNORE INTO events (id, row, handed) VALUES (?, ?, 0)",
            [(one.id, json.dumps(one.as_json())) for one in events],
        )

    def unwritten(self) -> list[tuple[int, Event, bool]]:
        """(number, event, whether it was handed on) of those that are not known to be in the history."""
        rows = self._rows("SELECT number, row, handed FROM events ORDER BY number")
        return [(number, event_of(json.loads(row)), bool(handed)) for number, row, handed in rows]

    def handed(self, numbers: Iterable[int]) -> None:
        """They were handed to the history."""
        self._db.executemany("UPDATE events SET handed = 1 WHERE number = ?", [(number,) for number in numbers])

    def strike(self, numbers: Iterable[int]) -> None:
        """They are in the history."""
        self._db.executemany("DELETE FROM events WHERE number = ?", [(number,) for number in numbers])

    # --- notices ---
    def send(self, notices: Iterable[tuple[str, Event]], now_ns: int) -> None:
        """Notices that are to go out: (channel, event)."""
        self._db.executemany(
            "INSERT INTO notices (channel, event, due_ns, tries, trouble) VALUES (?, ?, ?, 0, '')",
            [(channel, json.dumps(event.as_json()), now_ns) for channel, event in notices],
        )

    def waiting(self) -> list[Waiting]:
        """All that are to go out, in order."""
        rows = self._rows("SELECT number, channel, event, due_ns, tries, trouble FROM notices ORDER BY number")
        return [Waiting(n, channel, event_of(json.loads(event)), due, tries, trouble)
                for n, channel, event, due, tries, trouble in rows]  # fmt: skip

    def sent(self, numbers: Iterable[int]) -> None:
        """They went out, or were given up."""
        self._db.executemany("DELETE FROM notices WHERE number = ?", [(number,) for number in numbers])

    def put_off(self, numbers: Iterable[int], due_ns: int, trouble: str) -> None:
        """They are tried again."""
        self._db.executemany(
            "UPDATE notices SET due_ns = ?, tries = tries + 1, trouble = ? WHERE number = ?",
            [(due_ns, trouble, number) for number in numbers],
        )

    # --- responses ---
    def response(self, own_id: str, name: str, event: Event, began_ns: int, state: str, told: dict[str, Any]) -> None:
        """Writes how a response stands."""
        row = (own_id, name, json.dumps(event.as_json()), began_ns, state, json.dumps(told))
        self._db.execute("INSERT OR REPLACE INTO responses VALUES (?, ?, ?, ?, ?, ?)", row)

    def responses(self) -> list[tuple[str, str, Event, int, str, dict[str, Any]]]:
        """(id, response, event, when it began, state, what is known of it) of all that are not forgotten."""
        rows = self._rows("SELECT id, response, event, began_ns, state, told FROM responses ORDER BY began_ns")
        return [
            (own, name, event_of(json.loads(e)), began, state, json.loads(t)) for own, name, e, began, state, t in rows
        ]

    def forget_responses(self, before_ns: int, state: str) -> None:
        """Those that came to an end long ago."""
        self._db.execute("DELETE FROM responses WHERE state = ? AND began_ns < ?", (state, before_ns))

    # --- single values ---
    def hold(self, name: str, value: Any) -> None:
        """Keeps a value under a name."""
        self._db.execute("INSERT OR REPLACE INTO held VALUES (?, ?)", (name, json.dumps(value)))

    def held(self, name: str) -> Any:
        """The value under a name; None without one."""
        row = next(iter(self._rows("SELECT value FROM held WHERE name = ?", (name,))), None)
        return json.loads(row[0]) if row else None
