"""Events as they come, as server-sent events (WHATWG HTML, section 9.2)."""

import asyncio
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from pathlib import Path

from yaffle.history.store import History
from yaffle.session.watching import event_files, events_of
from yaffle.watching.event_rows import Event

_POLL_S, _QUIET_S = 1.0, 15.0


class FreshEvents:
    """The events of a history from a moment on, each once."""

    def __init__(self, history: History, since_ns: int) -> None:
        self._history, self._since_ns = history, since_ns
        self._files: list[Path] = []
        self._told: set[str] = set()

    def take(self) -> list[Event]:
        """Those that nobody took yet; a look at the names of files where none came. Raises HistoryError."""
        now = time.time_ns()
        files = event_files(self._history, now, self._since_ns)
        if files == self._files:
            return []
        found = events_of(self._history, now, self._since_ns)
        fresh = [one for one in found if one.id not in self._told]
        self._files, self._told = files, {one.id for one in found}
        return fresh


async def as_they_come(take: Callable[[], Awaitable[list[Event]]]) -> AsyncIterator[bytes]:
    """Each event as a message, without end; a comment where there is none for long, so that a line stays open."""
    quiet = 0.0
    while True:
        fresh = await take()
        for one in fresh:
            yield f"id: {one.id}\nevent: {one.state}\ndata: {json.dumps(one.as_json())}\n\n".encode()
        quiet = 0.0 if fresh else quiet + _POLL_S
        if quiet >= _QUIET_S:
            quiet = 0.0
            yield b": still here\n\n"
        await asyncio.sleep(_POLL_S)
