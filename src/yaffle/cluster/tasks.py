"""What workers do. Each task reads and writes files of the store and returns a few numbers, so that it can be done
again anywhere when a worker is lost.
"""

import shutil
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import wraps
from pathlib import Path
from threading import Lock
from typing import Any, NamedTuple, TypeVar, cast

from yaffle.capture.captured import Source
from yaffle.capture.ranges import read_range
from yaffle.capture.reader import read_apart
from yaffle.cluster.stored_parts import read_part, write_account, write_capture, write_piece
from yaffle.errors import YaffleError
from yaffle.file_store import Store, fetched, is_url
from yaffle.kernel_cache import key
from yaffle.parts import account_part
from yaffle.room import spill_folder

_PAUSE_S = 0.02
_LOCK = Lock()
_ENDED: set[str] = set()  # runs of which this worker writes nothing more
_WRITING: Counter[str] = Counter()  # tasks of a run that write at the moment


class Done(NamedTuple):
    """What a task tells: how many packets or exchanges, what is wrong, and what it cost."""

    found: int
    wrong: str = ""
    work_s: float = 0.0  # of the processor
    written_bytes: int = 0


def fetched_folder(run: str) -> Path:
    """Where a machine keeps what it fetched for a run."""
    return spill_folder() / f"yaffle-{run}"


Task = TypeVar("Task", bound=Callable[..., Done])


def of_run(task: Task) -> Task:
    """A task (of a store, a run, …) that leaves nothing fetched behind where its run ended while it went on."""

    @wraps(task)
    def done(store: str, run: str, *values: Any) -> Done:
        try:
            return task(store, run, *values)
        finally:
            with _LOCK:
                ended = run in _ENDED
            if ended:
                drop_fetched(run)

    return cast(Task, done)


def look_around(store: str, run: str) -> tuple[str, bool]:
    """Which version a worker runs, and whether it sees the store."""
    try:
        return key(), Store(store).read(f"{run}/here", fetched_folder(run)).exists()
    except YaffleError:
        return key(), False


@of_run
def read_file(store: str, run: str, number: int, path: str) -> Done:
    """Reads one capture. Gives its number of packets, or what is wrong with it."""
    began, to = time.process_time(), Store(store)
    held = fetched_folder(run)
    try:
        capture = read_apart(fetched(path, held))
    except YaffleError as error:
        return Done(0, str(error))
    if is_url(path):
        capture.sources = [replace(source, path=path) for source in capture.sources]
    with writing(run) as may:
        if may:
            write_capture(to, f"{run}/read-{number}", capture)
    return Done(capture.packets.time_ns.size, "", time.process_time() - began, to.written_bytes)


@of_run
def read_file_range(store: str, run: str, number: int, piece: int, path: str, begin: int, stop: int | None) -> Done:
    """Reads a range of one capture. Gives its number of packets, or what is wrong with it."""
    began, to = time.process_time(), Store(store)
    try:
        found = read_range(fetched(path, fetched_folder(run)), begin, stop)
    except YaffleError as error:
        return Done(0, str(error))
    with writing(run) as may:
        if may:
            write_piece(to, f"{run}/read-{number}-{piece}", found)
    return Done(found.packets.time_ns.size, "", time.process_time() - began, to.written_bytes)


@of_run
def account_for(store: str, run: str, number: int, sources: Sequence[str]) -> Done:
    """Decodes and accounts for one part. Gives its number of exchanges."""
    began, to = time.process_time(), Store(store)
    held = fetched_folder(run)
    part = read_part(to, f"{run}/part-{number}", held)
    own = set(part.sources)
    here = [Source("", str(fetched(path, held)) if k in own else "", "", 0, "") for k, path in enumerate(sources)]
    found = account_part(part, here)
    with writing(run) as may:
        if may:
            write_account(to, f"{run}/found-{number}", found)
    return Done(found.account.exchange_count, "", time.process_time() - began, to.written_bytes)


@contextmanager
def writing(run: str) -> Iterator[bool]:
    """Whether what was found may still be written: a task that was begun goes on when its run has ended."""
    with _LOCK:
        may = run not in _ENDED
        _WRITING[run] += may
    try:
        yield may
    finally:
        with _LOCK:
            _WRITING[run] -= may


def drop_fetched(run: str) -> None:
    """Takes away what a machine fetched for a run."""
    shutil.rmtree(fetched_folder(run), ignore_errors=True)


async def forget(run: str) -> None:
    """Ends a run on a worker: from when this is done nothing more is written of it. Takes away what was fetched."""
    import asyncio  # Workers have it loaded; who analyses a small capture alone need not wait for it.

    with _LOCK:
        _ENDED.add(run)
    while _WRITING[run]:
        await asyncio.sleep(_PAUSE_S)
    del _WRITING[run]
    drop_fetched(run)
