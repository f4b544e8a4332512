"""What is watched in a history: where everything stands over the period, what was told and done, and how the collector
is doing.
"""

import json
import sqlite3
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.layout import EVENTS, HOUR_NS, counting, folders
from yaffle.history.store import History
from yaffle.progress import Progress, go_on, step
from yaffle.session.scene import Scene
from yaffle.session.watch_offers import Offer, offers
from yaffle.watching.book import FILE
from yaffle.watching.event_rows import CLEARED, EFFECT, Event, event_of
from yaffle.watching.member_values import Question, values
from yaffle.watching.states import FINE, RAISED, UNKNOWN
from yaffle.watching.watch import Watch
from yaffle.watching.windows import Windows

_MOST_EVENTS, _POINTS = 20_000, 240
_ORDER = {RAISED: 0, "clearing": 1, "pending": 2, UNKNOWN: 3, FINE: 4}
_SEVERE = {"critical": 0, "warning": 1, "notice": 2}


@dataclass(frozen=True)
class Watched:
    """One member of a watch. stretches: (from, to, state) over the period, where it was not fine."""

    watch: Watch
    subject: str
    state: str
    since_ns: int
    value: float
    stretches: tuple[tuple[int, int, str], ...]

    @property
    def rank(self) -> tuple[int, float, int, str, str]:
        """Worst first; of those that are well, those that were not for longest."""
        bad = sum(last - first for first, last, state in self.stretches if state == RAISED)
        severe = _SEVERE.get(self.watch.severity, 3)
        return _ORDER.get(self.state, 5), -float(bad), severe, self.watch.name, self.subject


@dataclass(frozen=True)
class WatchPicture:
    """The station's picture. watches: None where nothing is watched; offers: what could be."""

    rows: list[Watched]
    events: list[Event]
    tasks: list[dict[str, Any]]
    trouble: str
    first_ns: int
    last_ns: int
    offers: list[Offer] = field(default_factory=list)
    config: str = ""  # the collector's configuration, where it is known
    is_watched: bool = True
    is_elsewhere: bool = False  # a history in a store: watches are looked at where its collectors run


@dataclass(frozen=True)
class Course:
    """A watched measure over the period, for its plot."""

    row: Watched
    times_ns: Array
    values: Array
    marks: list[Event]  # responses and what they changed


def watch_picture(scene: Scene, progress: Progress = go_on) -> WatchPicture | None:
    """What is watched, over the period; None without a history. Raises HistoryError, Cancelled."""
    history = scene.evidence.analysis.history
    if history is None:
        return None
    step(progress, 0.1, "reading what is watched")
    watches, stand = _book(history)
    told = events_of(history, scene.last_ns)  # Those before the period too: they say how it began.
    rows = _rows(watches, stand, told, scene.first_ns, scene.last_ns)
    try:
        status = status_of(history.folder)
    except YaffleError as error:
        status = {"tasks": [], "trouble": str(error), "config": ""}
    step(progress, 0.5, "looking for what could be watched")
    offered = [] if watches else offers(history, scene.first_ns, scene.last_ns, progress)
    inside = [one for one in told if scene.first_ns <= one.time_ns <= scene.last_ns]
    return WatchPicture(
        sorted(rows, key=lambda one: one.rank), list(reversed(inside)), status["tasks"], status["trouble"],
        scene.first_ns, scene.last_ns, offered, status.get("config", ""), bool(watches),
        bool(history.address),
    )  # fmt: skip


def standings(history: History) -> dict[tuple[str, str], tuple[str, int, float]]:
    """By watch and subject: (state, since when, value) as the collector wrote them last. Raises YaffleError."""
    return _book(history)[1]


def _book(history: History) -> tuple[dict[str, Watch], dict[tuple[str, str], tuple[str, int, float]]]:
    """(watches by name, (state, since when, value) by watch and subject) as the collector wrote them last."""
    path = history.folder / FILE
    if not path.exists():
        return {}, {}
    try:
        own = sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=2.0)
        try:
            told = own.execute("SELECT value FROM held WHERE name = 'watches'").fetchone()
            rows = own.execute("SELECT watch, subject, state, since_ns, value FROM standings").fetchall()
        finally:
            own.close()
        watches = [Watch.from_json(one) for one in json.loads(told[0])] if told else []
    except (sqlite3.Error, ValueError, KeyError, TypeError) as error:
        raise YaffleError(f"{path} cannot be read: {error}") from error
    standings = {
        (watch, subject): (UNKNOWN if state.startswith(UNKNOWN) else state, since, float("nan") if v is None else v)
        for watch, subject, state, since, v in rows
    }
    return {one.name: one for one in watches}, standings


def event_files(history: History, last_ns: int, first_ns: int = 0) -> list[Path]:
    """Those that hold the events between two moments, as they stand now; they are never changed."""
    return [
        path
        for start, folder in folders(history.folder / EVENTS)
        if first_ns - HOUR_NS < start <= last_ns + HOUR_NS
        for path in counting(folder)
    ]


def events_of(history: History, last_ns: int, first_ns: int = 0) -> list[Event]:
    """Events between two moments, in order of time; the latest where there are very many. Raises HistoryError."""
    names = 'time_ns, watch, subject, state, severity, value, "limit", unit, words, id, about'
    table = history.told(
        lambda: event_files(history, last_ns, first_ns),
        f"SELECT * FROM (SELECT DISTINCT ON (id) {names} FROM told"
        f" WHERE time_ns BETWEEN {int(first_ns)} AND {int(last_ns)} ORDER BY id)"
        f" ORDER BY time_ns DESC LIMIT {_MOST_EVENTS}",
    )
    return [event_of(row) for row in reversed(table.to_pylist())] if table is not None else []


def _rows(
    watches: dict[str, Watch],
    standings: dict[tuple[str, str], tuple[str, int, float]],
    told: list[Event],
    first_ns: int,
    last_ns: int,
) -> list[Watched]:
    by_member: dict[tuple[str, str], list[Event]] = {key: [] for key in standings}
    for one in told:
        if one.watch in watches and one.state in (RAISED, CLEARED, UNKNOWN):
            by_member.setdefault((one.watch, one.subject), []).append(one)
    found = []
    for (name, subject), own in by_member.items():
        if name not in watches:
            continue
        state, since, value = standings.get((name, subject), (UNKNOWN, own[-1].time_ns if own else 0, float("nan")))
        found.append(Watched(watches[name], subject, state, since, value, _stretches(own, first_ns, last_ns)))
    return found


def _stretches(own: list[Event], first_ns: int, last_ns: int) -> tuple[tuple[int, int, str], ...]:
    """From when to when it was raised, or not known, within a period."""
    found = []
    ends = [*(one.time_ns for one in own[1:]), last_ns]
    for one, end_ns in zip(own, ends, strict=False):
        low, high = max(first_ns, one.time_ns), min(last_ns, end_ns)
        if one.state != CLEARED and high > low:
            found.append((low, high, one.state))
    return tuple(found)


def course(scene: Scene, row: Watched, events: list[Event], progress: Progress = go_on) -> Course:
    """A watched measure over the period. Raises HistoryError, WhereError, Cancelled."""
    history = scene.evidence.analysis.history
    marks = [one for one in events if one.watch == row.watch.name and one.subject == row.subject]
    marks = [one for one in marks if one.state in (EFFECT, "response", "undone")]
    empty = np.zeros(0, np.int64)
    if history is None or row.watch.event:
        return Course(row, empty, np.zeros(0), marks)
    step(progress, 0.2, "measuring")
    width = max(row.watch.over_ns, -(-(scene.last_ns - scene.first_ns) // _POINTS))
    first = scene.first_ns // width
    count = max(1, -(-scene.last_ns // width) - first)
    asked = Question(row.watch.entry, row.watch.of, row.watch.where)
    found = values(Windows(history), asked, first * width, width, count)
    own = found.of.get(row.subject, np.full(count, np.nan))
    return Course(row, (first + np.arange(count)) * width + width // 2, own, marks)
