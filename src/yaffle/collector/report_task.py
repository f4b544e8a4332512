"""Reports of the configuration, as tasks: made by a process of their own when they are due, kept, sent."""

import asyncio
import json
import sys
import time
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

from croniter import croniter

from yaffle.collector.notice_configuration import Notify
from yaffle.collector.report_configuration import Reporting
from yaffle.collector.supervisor import RUNNING, WAITING, Job, State
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.parts import write_json
from yaffle.watching.channels import send_file

_LOOK_S = 20.0  # The clock may step, the machine may sleep: when one is due is looked up again and again.
_LONGEST_S = 3600.0
_LATE_S = 7 * 86_400.0  # One that was due while nobody collected is made up for so long.
_PAUSE_S = 600.0
_WORDS = 300
FILE = "reports.json"  # beside the history: when each report was made last


def report_jobs(told: Sequence[Reporting], notify: Sequence[Notify], keeper: Keeper | None) -> Iterator[Job]:
    """A task a report."""
    ways = {one.name: one for one in notify}
    for one in told:
        sent = f", and sends it by {one.mail}" if one.mail else ""
        way = ways[one.mail].model_dump_json() if one.mail else ""
        yield Job(
            "report", one.name, f"report {one.model_dump_json()} {way}",
            f"tells {one.period} at “{one.at}” (UTC) into {one.into}{sent}",
            lambda state, one=one: _report(one, ways.get(one.mail), keeper, state),  # type: ignore[misc]
        )  # fmt: skip


async def _report(told: Reporting, way: Notify | None, keeper: Keeper | None, state: State) -> None:
    """Makes it whenever it is due, until it is cancelled."""
    assert keeper is not None
    history = keeper.writer.folder
    state.turn(RUNNING)
    while True:
        made = _made(history).get(told.name, 0.0)
        due = _last_due(told.at, time.time())
        if made < due and time.time() - due < _LATE_S and made:
            try:
                await _make(told, way, history, due)
                state.turn(RUNNING)
            except (YaffleError, OSError) as error:
                state.turn(WAITING, f"tried again in {_PAUSE_S / 60:.0f} min: {error}")
                await asyncio.sleep(_PAUSE_S)
        elif not made:
            _remember(history, told.name, time.time())  # It begins now: former weeks were nobody's.
        await asyncio.sleep(_LOOK_S)


def _last_due(at: str, now_s: float) -> float:
    return float(croniter(at, datetime.fromtimestamp(now_s, UTC)).get_prev(float))


def _made(history: Path) -> dict[str, float]:
    try:
        told = json.loads((history / FILE).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {str(k): float(v) for k, v in told.items() if isinstance(v, int | float)} if isinstance(told, dict) else {}


def _remember(history: Path, name: str, at_s: float) -> None:
    write_json(history / FILE, _made(history) | {name: at_s})


async def _make(told: Reporting, way: Notify | None, history: Path, due_s: float) -> None:
    """One report as it was due: made, sent, remembered. Raises YaffleError, OSError where it cannot be."""
    into = Path(told.into)
    into.mkdir(parents=True, exist_ok=True)
    stamp = datetime.fromtimestamp(due_s, UTC).strftime("%Y-%m-%d-%H%M")
    out = into / f"{told.name}-{stamp}.{told.format}"
    if not out.exists():  # It may have been made, and not sent.
        command = [sys.executable, "-m", "yaffle", "report", str(history), "--period", told.period, "--out", str(out)]
        due = datetime.fromtimestamp(due_s, UTC).strftime("%Y-%m-%d %H:%M")  # However late it is made.
        command += ["--as-of", due, *(["--title", told.title] if told.title else [])]
        await _run(command)
    if way is not None:
        channel = await asyncio.to_thread(way.channel, str(history))
        words = f"{told.title or told.name}: {told.period}, made {stamp} (UTC)."
        await asyncio.to_thread(send_file, channel, f"{told.title or told.name}: {told.period}", words, out)
    _remember(history, told.name, time.time())


async def _run(command: list[str]) -> None:
    child = await asyncio.create_subprocess_exec(
        *command, stdin=asyncio.subprocess.DEVNULL, stdout=asyncio.subprocess.DEVNULL, stderr=asyncio.subprocess.PIPE
    )
    try:
        async with asyncio.timeout(_LONGEST_S):
            _, told = await child.communicate()
    except TimeoutError:
        raise YaffleError(f"the report took longer than {_LONGEST_S / 60:.0f} min and was given up") from None
    finally:
        if child.returncode is None:
            child.kill()
            await child.wait()
    if child.returncode:
        words = told.decode("utf-8", "replace").strip().splitlines()
        raise YaffleError(f"the report could not be made: {words[-1][:_WORDS] if words else 'without a word'}")
