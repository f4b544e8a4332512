"""Watches, notices and responses of the configuration, as tasks for the supervisor."""

import asyncio
import json
import re
import sqlite3
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any

from yaffle.capture.ring_folder import KEPT, keep_stretch
from yaffle.collector.asking import ASKED
from yaffle.collector.clock import Clock
from yaffle.collector.evidence import Evidence
from yaffle.collector.notice_configuration import Answering, Maintaining, Notify
from yaffle.collector.supervisor import BEHIND, RUNNING, Job, State
from yaffle.collector.watch_configuration import Watching
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import EVENTS, HOUR_NS, RINGS, counting, folders
from yaffle.history.store import History
from yaffle.watching.book import Book
from yaffle.watching.engine import Engine
from yaffle.watching.event_rows import ACKNOWLEDGED, RESPONSE, Event, table_of
from yaffle.watching.outbox import Outbox, wanted
from yaffle.watching.responses import Responses
from yaffle.watching.states import ALERTS, RAISED
from yaffle.watching.watch import Watch
from yaffle.watching.windows import Windows

_LOOK_S = 0.5
_NS = 10**9
_AROUND_NS = 60 * _NS
_MOST_KEPT = 50
_BACK_NS = 26 * HOUR_NS  # so far back an event that was handed on is looked for in the history


def watch_jobs(
    watch: Sequence[Watching], notify: Sequence[Notify], response: Sequence[Answering],
    maintenance: Sequence[Maintaining], keeper: Keeper | None, clock: Clock | None = None,
) -> list[Job]:  # fmt: skip
    """What is to be done: all watches are one task, since they share what they read. clock: the machine's, unless
    another is given.
    """
    if not watch:
        return []
    parts = (*watch, *notify, *response, *maintenance)
    names = ", ".join(one.name for one in watch[:5]) + (f" and {len(watch) - 5} more" if len(watch) > 5 else "")
    tell = f"; tells {', '.join(one.name for one in notify)}" if notify else ""
    return [
        Job(
            "watch",
            "",
            "watch " + " ".join(one.model_dump_json() for one in parts),
            f"watches {names}{tell}",
            lambda state: _watch(watch, notify, response, maintenance, keeper, clock or Clock(), state),
        )
    ]


async def _watch(
    watch: Sequence[Watching], notify: Sequence[Notify], response: Sequence[Answering],
    maintenance: Sequence[Maintaining], keeper: Keeper | None, clock: Clock, state: State,
) -> None:  # fmt: skip
    """Looks until it is cancelled. Raises YaffleError where it cannot begin."""
    assert keeper is not None
    folder = keeper.writer.folder
    watches = {one.name: one.watch() for one in watch}
    channels = {one.name: one.channel(str(folder)) for one in notify}
    history, book = History(folder), await asyncio.to_thread(Book, folder)
    engine = Engine(history, book, list(watches.values()), clock.now_ns(), partial(wanted, channels))
    outbox = Outbox(book, channels, [one.maintenance() for one in maintenance])
    answers = Responses(book, Windows(history), {one.name: one.response() for one in response}, watches)
    desk = _Desk(book, keeper, watches)
    work = [
        asyncio.create_task(_again(one, clock, state))
        for one in (
            lambda now: _look(engine, desk, state, now),
            lambda now: asyncio.to_thread(outbox.go_through, now),
            answers.step,
        )
    ]
    try:
        await asyncio.to_thread(desk.go_on)
        done, _ = await asyncio.wait(work, return_when=asyncio.FIRST_COMPLETED)
        for one in done:
            one.result()
    finally:
        for one in work:
            one.cancel()
        await asyncio.gather(*work, return_exceptions=True)
        await desk.end()
        await asyncio.to_thread(desk.hand_on)
        book.close()


async def _again(step: Any, clock: Clock, state: State) -> None:
    """A step again and again. A disk that takes nothing is waited for."""
    while True:
        try:
            await step(clock.now_ns())
        except sqlite3.Error as error:
            state.turn(RUNNING, f"what is watched cannot be written down: {error}")
        await clock.pause(_LOOK_S)


async def _look(engine: Engine, desk: "_Desk", state: State, now_ns: int) -> None:
    events = await asyncio.to_thread(engine.look, now_ns)
    behind = await asyncio.to_thread(desk.look_after, events, engine, now_ns)
    desk.look_into(events)
    standings = engine.standings()
    state.more["watches"] = [
        {"watch": watch.name, "subject": subject, "state": entry.standing.told, "since_ns": entry.standing.since_ns}
        for watch, subject, entry in standings
    ]
    alerts = sum(entry.standing.state in ALERTS for _, _, entry in standings)
    state.turn(RUNNING, engine.trouble or behind)
    state.rates = f"{len(standings):,} watched, {alerts:,} raised"


class _Desk:
    """Hands events on to the history, keeps packets around them, and does what people ask."""

    def __init__(self, book: Book, keeper: Keeper, watches: dict[str, Watch]) -> None:
        self._book, self._keeper, self._watches = book, keeper, watches
        self._folder = keeper.writer.folder
        self._last = 0  # the number of the last event that was handed on
        self._evidence = Evidence(keeper)
        self._under_way: set[asyncio.Task[None]] = set()

    def go_on(self) -> None:
        """After a kill: events that were handed on, and are in the history, are struck out; the rest is handed on."""
        handed = [(number, event) for number, event, was in self._book.unwritten() if was]
        if not handed:
            return
        history = History(self._folder)
        first = min(event.time_ns for _, event in handed) - _BACK_NS

        def parts() -> list[Path]:
            hours = [own for start, own in folders(self._folder / EVENTS) if start >= first - HOUR_NS]
            return [path for own in hours for path in counting(own)]

        found = history.told(parts, "SELECT DISTINCT id FROM told")
        known = set(found["id"].to_pylist()) if found is not None else set()
        with self._book.together():
            self._book.strike(number for number, event in handed if event.id in known)
        rest = [event for _, event in handed if event.id not in known]
        if rest and self._keeper.put((EVENTS, table_of(rest))):
            self._last = max(number for number, _ in handed)

    def look_into(self, events: list[Event]) -> None:
        """Has found out what evidence is to be kept beside packets, without waiting for it."""
        for event in events:
            if event.state == RAISED and self._watches[event.watch].keep:
                task = asyncio.create_task(self._found_out(event))
                self._under_way.add(task)
                task.add_done_callback(self._under_way.discard)

    async def _found_out(self, event: Event) -> None:
        told = await self._evidence.look_into(event)

        def write() -> None:
            with self._book.together():
                self._book.tell(told)

        if told:
            await asyncio.to_thread(write)

    async def end(self) -> None:
        """Gives up what is still being found out."""
        for task in list(self._under_way):
            task.cancel()
        await asyncio.gather(*self._under_way, return_exceptions=True)

    def look_after(self, events: list[Event], engine: Engine, now_ns: int) -> str:
        """After a look; why something has to wait. Raises sqlite3.Error."""
        for event in events:
            if event.state == RAISED and self._watches[event.watch].keep:
                self._keep(event, now_ns)
        self._do_what_is_asked(engine, now_ns)
        return self._keeper.trouble or ("" if self.hand_on() else BEHIND)

    def hand_on(self) -> bool:
        """Hands on what is new, and strikes out what is on the disk; False where the history takes nothing more."""
        if self._last and self._keeper.settled:
            with self._book.together():
                self._book.strike(number for number, _, was in self._book.unwritten() if was and number <= self._last)
            self._last = 0
        new = [(number, event) for number, event, was in self._book.unwritten() if not was]
        if not new:
            return True
        with self._book.together():
            self._book.handed(number for number, _ in new)
        if not self._keeper.put((EVENTS, table_of([event for _, event in new]))):
            return False
        self._last = new[-1][0]
        return True

    def _keep(self, event: Event, now_ns: int) -> None:
        path = self._folder / RINGS
        rings = json.loads(path.read_text()) if path.exists() else {}
        first = event.time_ns - self._watches[event.watch].over_ns - _AROUND_NS
        told = []
        for capture, ring in rings.items():
            name = re.sub(r"[^\w-]+", "-", f"watch-{event.watch}-{event.time_ns // _NS}").strip("-")
            kept = list((Path(ring) / KEPT).glob("watch-*"))
            if len(kept) >= _MOST_KEPT:
                words = f"packets are not kept: {_MOST_KEPT} stretches are kept at {capture} already"
            else:
                try:
                    words = f"kept: {keep_stretch(Path(ring), name, first, now_ns)}"
                except YaffleError as error:
                    words = f"packets are not kept: {error}"
            told.append(
                Event(now_ns, event.watch, event.subject, RESPONSE, event.severity, words=words, about=event.id)
            )
        with self._book.together():
            self._book.tell(told)

    def _do_what_is_asked(self, engine: Engine, now_ns: int) -> None:
        """Acknowledgements. What is asked wrongly is put away."""
        for path in sorted((self._folder / ASKED).glob("*.json")):
            try:
                told = json.loads(path.read_text(encoding="utf-8"))
                name, subject, words = (str(told[key]) for key in ("watch", "subject", "words"))
            except (OSError, ValueError, KeyError, TypeError):
                path.unlink(missing_ok=True)
                continue
            own = [
                (watch, of, entry) for watch, of, entry in engine.standings()
                if watch.name == name and subject in ("", of) and entry.standing.state in ALERTS
            ]  # fmt: skip
            acknowledged = [*(self._book.held("acknowledged") or []), *(entry.raised_id for _, _, entry in own)]
            raised = {entry.raised_id for _, _, entry in engine.standings() if entry.standing.state in ALERTS}
            with self._book.together():
                self._book.hold("acknowledged", [one for one in dict.fromkeys(acknowledged) if one in raised])
                self._book.tell(
                    Event(now_ns, name, of, ACKNOWLEDGED, watch.severity, entry.value, watch.limit, watch.unit,
                          words or "acknowledged", about=entry.raised_id)
                    for watch, of, entry in own
                )  # fmt: skip
            path.unlink(missing_ok=True)
