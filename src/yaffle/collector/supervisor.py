"""Tasks that run for months: one that fails is begun again with growing pauses and takes no other down."""

import asyncio
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 1.0, 60.0
_GOOD_S = 60.0  # After so long without trouble the next pause is a short one again.
STARTING, RUNNING, WAITING, STOPPED = "starting", "running", "waiting", "stopped"


@dataclass
class State:
    """How a task is doing."""

    task: str
    address: str = ""
    state: str = STARTING
    why: str = ""  # it waits, or is not well though it runs
    since_ns: int = field(default_factory=time.time_ns)
    rates: str = ""  # what came of it, for the log
    more: dict[str, Any] = field(default_factory=dict)  # what else it tells, for the status

    def turn(self, state: str, why: str = "") -> None:
        """Another state, from now on; nothing where it is the same."""
        if (state, why) != (self.state, self.why):
            if state != self.state:
                self.since_ns = time.time_ns()
            self.state, self.why = state, why


Work = Callable[[State], Awaitable[None]]  # runs until it is cancelled; says of itself how it is
BEHIND = "the disk is too slow: a reading was given up"


@dataclass(frozen=True)
class Job:
    """One thing to do. key: names it with all that it was told; words: what it will do."""

    task: str
    address: str
    key: str
    words: str
    work: Work


class Supervisor:
    """Begins tasks by their key, and ends them."""

    def __init__(self, first_pause_s: float = _FIRST_PAUSE_S) -> None:
        self._first_pause_s = first_pause_s
        self._running: dict[str, asyncio.Task[None]] = {}
        self.states: dict[str, State] = {}

    @property
    def keys(self) -> set[str]:
        """Those that were begun and not ended."""
        return set(self._running)

    def begin(self, key: str, state: State, work: Work) -> None:
        """Begins a task; `key` names it with all that it was told to do."""
        self.states[key] = state
        self._running[key] = asyncio.create_task(self._run(state, work))

    async def end(self, key: str) -> None:
        """Ends a task and waits for it."""
        task = self._running.pop(key)
        del self.states[key]
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)

    async def end_all(self) -> None:
        """Ends all of them."""
        for key in list(self._running):
            await self.end(key)

    async def _run(self, state: State, work: Work) -> None:
        pause_s = self._first_pause_s
        while True:
            began = time.monotonic()
            state.turn(RUNNING)
            try:
                await work(state)
                why = "it ended by itself"
            except Exception as error:  # noqa: BLE001  Whatever it is, it takes no other task down, and is told.
                why = " ".join(str(error).split()) or type(error).__name__
            if time.monotonic() - began >= _GOOD_S:
                pause_s = self._first_pause_s
            state.turn(WAITING, f"{why}; begun again in {pause_s:.0f} s")
            await asyncio.sleep(pause_s)
            pause_s = min(2 * pause_s, _LONGEST_PAUSE_S)
