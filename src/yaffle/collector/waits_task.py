"""What a capture with `waits = true` adds to the history: minutes of waits, and of what was captured and dropped."""

import asyncio
import json
import signal
import sys
import time
from collections.abc import Coroutine
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa

from yaffle.collector.supervisor import BEHIND, RUNNING, Job, State
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import RINGS, WAITS
from yaffle.history.parts import write_json
from yaffle.history.wait_rows import MINUTE_NS, rows_of

_LONGEST_LINE = 1 << 20
_PATIENCE_S = 60.0
_WRITTEN_S = 0.2
_AFTER_CAPTURE_S = 1.0  # When all ends, the capture's last packets are written first.
_LONGEST_STEP_S = 5.0  # Between two words of a capture; when it was silent for longer, that time is not covered.


def waits_job(ring: str, capture: str, key: str, keeper: Keeper | None) -> Job:
    """What is to be done. capture: as its minutes are named."""
    words = f"keeps who waited on whom at {capture}, by the minute"
    return Job("waits", capture, f"waits {key}", words, lambda state: _account(ring, capture, keeper, state))


async def _account(ring: str, capture: str, keeper: Keeper | None, state: State) -> None:
    """Has a child account until it is cancelled. Raises YaffleError where it cannot."""
    assert keeper is not None
    await _settled(keeper, state)  # What a former child told is there before another asks what was told.
    await asyncio.to_thread(_tell_ring, keeper.writer.folder, capture, ring)
    wanted = {"ring": ring, "capture": capture, "history": str(keeper.writer.folder)}
    child = await asyncio.create_subprocess_exec(
        sys.executable, "-m", "yaffle.waiting.child", json.dumps(wanted),
        stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, limit=_LONGEST_LINE, start_new_session=True,
    )  # fmt: skip
    assert child.stdout is not None and child.stdin is not None
    begun = asyncio.Event()
    listening = asyncio.create_task(_listen(child.stdout, child.stdin, keeper, state, begun))
    try:
        await asyncio.shield(listening)
        raise YaffleError("the process that accounts for waits ended")
    finally:
        if child.returncode is None:
            await asyncio.sleep(_AFTER_CAPTURE_S)
            await _either(begun.wait(), child.wait())  # Before its first word it would end without a last look.
            with suppress(ProcessLookupError):
                child.send_signal(signal.SIGTERM)
            try:
                await asyncio.wait_for(asyncio.gather(listening, child.wait(), return_exceptions=True), _PATIENCE_S)
            except TimeoutError:
                child.kill()
                await child.wait()


async def _either(*these: Coroutine[Any, Any, Any]) -> None:
    """Comes back when one of them has, or after a while."""
    tasks = [asyncio.create_task(one) for one in these]
    await asyncio.wait(tasks, timeout=_PATIENCE_S, return_when=asyncio.FIRST_COMPLETED)
    for task in tasks:
        task.cancel()


def _tell_ring(history: Path, capture: str, ring: str) -> None:
    """Where the packets are, for whoever reads the history."""
    path = history / RINGS
    known = json.loads(path.read_text()) if path.exists() else {}
    if known.get(capture) != ring:
        write_json(path, {**known, capture: ring})


async def _settled(keeper: Keeper, state: State) -> None:
    """Comes back when all that was handed over is on the disk."""
    while not keeper.settled:
        state.turn(state.state, keeper.trouble)
        await asyncio.sleep(_WRITTEN_S)


async def _listen(
    words: asyncio.StreamReader, answers: asyncio.StreamWriter, keeper: Keeper, state: State, begun: asyncio.Event
) -> None:
    """Takes what a child tells until it ends. Raises YaffleError with what it says is wrong."""
    async for line in words:
        begun.set()
        told = json.loads(line)
        if "begun" in told:
            continue
        if "error" in told:
            raise YaffleError(told["error"])
        if "table" in told:
            table = pa.ipc.open_stream(await words.readexactly(told["bytes"])).read_all()
            while not keeper.put((told["table"], table)):  # Nothing of it may be lost: the child goes on meanwhile.
                state.turn(state.state, keeper.trouble or BEHIND)
                await asyncio.sleep(_WRITTEN_S)
            continue
        if "settle" in told:
            await _settled(keeper, state)
            answers.write(b"\n")
            await answers.drain()
            continue
        state.turn(RUNNING, told["trouble"] or keeper.trouble)
        state.rates = f"{told['exchanges']:,} exchanges"


class CaptureMinutes:
    """Of each minute how much was captured and dropped, and how long it was captured at all."""

    def __init__(self, capture: str, keeper: Keeper) -> None:
        self._capture, self._keeper = capture, keeper
        self._minute, self._before_s = 0, 0.0
        self._counted = {"captured": 0, "dropped": 0}
        self._sums = [0, 0, 0]
        self._due: list[pa.Table] = []  # minutes that wait for the history

    def take(self, told: dict[str, Any]) -> None:
        """What a capture said of itself, about once a second."""
        now_s, minute = time.monotonic(), time.time_ns() // MINUTE_NS * MINUTE_NS
        if minute != self._minute:
            self.end()
            self._minute = minute
        lost = told["dropped"] + told.get("unwritten", 0)
        for k, (name, value) in enumerate((("captured", told["captured"]), ("dropped", lost))):
            before = self._counted[name]
            self._sums[k] += value - before if value >= before else value  # Less: another child counts anew.
            self._counted[name] = value
        if self._before_s and now_s - self._before_s <= _LONGEST_STEP_S:
            self._sums[2] += round((now_s - self._before_s) * 1e9)
        self._before_s = now_s

    def end(self) -> None:
        """Tells what was counted in the minute."""
        if any(self._sums):
            captured, dropped, covered_ns = ([value] for value in self._sums)
            columns = {"captured_packets": captured, "dropped_packets": dropped, "covered_ns": covered_ns}
            self._due.append(rows_of({"time_ns": [self._minute], "capture": [self._capture], **columns}))
        self._sums = [0, 0, 0]
        while self._due and self._keeper.put((WAITS, self._due[0])):
            self._due.pop(0)
