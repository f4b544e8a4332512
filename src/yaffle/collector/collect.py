"""Runs for months: does what a configuration says, and what it says anew when it changes."""

import asyncio
import json
import logging
import os
import resource
import signal
import socket
import time
from collections import Counter
from pathlib import Path
from typing import Any

from yaffle.collector.configuration import Configuration, read_configuration
from yaffle.collector.status import FORMAT, STATUS, VERSION
from yaffle.collector.supervisor import RUNNING, State, Supervisor
from yaffle.collector.tasks import jobs
from yaffle.errors import YaffleError
from yaffle.history.copying import HERE_DAYS
from yaffle.history.keeper import keeper_at
from yaffle.history.layout import USUAL_DAYS
from yaffle.watching.flow_sets import keep_sets, kept_sets
from yaffle.watching.service_levels import keep_levels, kept_levels

_LOG = logging.getLogger(__name__)
_LOOK_S = 1.0
_OTHERS_MAY = 0o077
_NOTHING = "collects nothing: neither [listen] nor [host] nor a [[device]], [[capture]] or [[probe]] is there"
_MOST_LINES = 20
_RATES_S = 60.0  # between two lines of the log that say how it goes


def words_of(path: Path) -> list[str]:
    """What a collector would do, in words; nothing is made. Raises YaffleError."""
    told = read_configuration(path)
    kept = ", ".join(f"{name} {count} days" for name, count in (USUAL_DAYS | told.keep).items())
    return [
        f"keeps in {told.store or told.history}: {kept}",
        *([f"on this machine in {told.history}, single rows for {HERE_DAYS} days at most"] if told.store else []),
        *(f"{job.task}: {job.words}" for job in jobs(told, None)),
        *_warnings(path, told),
        *([] if told.listen or told.host or told.device or told.capture or told.probe or told.mesh else [_NOTHING]),
    ]


def _warnings(path: Path, told: Configuration) -> list[str]:
    """What is not wrong, but should be otherwise."""
    found = []
    if told.holds_secrets and path.stat().st_mode & _OTHERS_MAY:
        found.append(f"secrets stand in {path}, which others can read: chmod 600 {path}")
    for device in told.device:
        try:
            device.credentials()
            if device.ssh is not None:
                device.ssh.secret(device.address)
        except YaffleError as error:
            found.append(f"not yet possible: {error}")
    return found


def _many_sockets() -> None:
    """Allows the process as many open sockets as it may have: each device has one of its own."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


class Collector:
    """One history, one configuration. Raises YaffleError where it cannot begin."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._told = read_configuration(path)
        self._seen = self._stamp()
        self._folder = Path(self._told.history)
        self._keeper = keeper_at(self._told.history, self._told.keep, self._told.store)
        self._supervisor = Supervisor()
        self._ended = asyncio.Event()
        self._changed = asyncio.Event()
        self._trouble = ""  # with the configuration as it is now
        self._written: Any = None

    async def run(self) -> None:
        """Until it is told to end by SIGINT or SIGTERM; SIGHUP has the configuration read anew."""
        _many_sockets()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self._ended.set)
        loop.add_signal_handler(signal.SIGHUP, self._changed.set)
        self._keeper.start()
        rates = time.monotonic()
        try:
            await self._apply(self._told)
            self._write_status(list(self._supervisor.states.values()))
            _tell_manager("READY=1")
            while not self._ended.is_set():
                await self._look()
                if time.monotonic() - rates >= _RATES_S:
                    rates = time.monotonic()
                    _log_rates(list(self._supervisor.states.values()))
        finally:
            _tell_manager("STOPPING=1")
            await self._supervisor.end_all()
            await asyncio.to_thread(self._keeper.stop)
            self._write_status([])

    async def _look(self) -> None:
        """Once a second, sooner when told."""
        waiting = [asyncio.create_task(event.wait()) for event in (self._ended, self._changed)]
        await asyncio.wait(waiting, timeout=_LOOK_S, return_when=asyncio.FIRST_COMPLETED)
        for one in waiting:
            one.cancel()
        if self._changed.is_set() or self._stamp() != self._seen:
            self._changed.clear()
            await self._read_anew()
        self._write_status(list(self._supervisor.states.values()))

    def _stamp(self) -> tuple[int, int]:
        """By which a changed file is known."""
        try:
            told = self._path.stat()
        except OSError:
            return 0, 0
        return told.st_mtime_ns, told.st_size

    async def _read_anew(self) -> None:
        """Takes over what changed; a configuration with a mistake changes nothing."""
        self._seen = self._stamp()
        try:
            told = read_configuration(self._path)
        except YaffleError as error:
            self._trouble = f"the configuration is not taken over: {error}"
            _LOG.warning("%s", self._trouble)
            return
        self._trouble = ""
        if (told.history, told.store) != (self._told.history, self._told.store):
            self._trouble = f"another history ({told.store or told.history}) needs the collector to be started again"
            _LOG.warning("%s", self._trouble)
        if told.keep != self._told.keep:
            self._keeper.keep(USUAL_DAYS | told.keep if told.store else told.keep)
        _tell_manager(f"RELOADING=1\nMONOTONIC_USEC={time.monotonic_ns() // 1000}")
        await self._apply(told)
        _tell_manager("READY=1")

    async def _apply(self, told: Configuration) -> None:
        """Ends what is not asked for any more, begins what is new, leaves the rest alone."""
        wanted = {job.key: job for job in jobs(told, self._keeper)}
        for key in self._supervisor.keys - set(wanted):
            await self._supervisor.end(key)
        for key, job in wanted.items():
            if key not in self._supervisor.keys:
                _LOG.info("%s: %s", job.task, job.words)
                self._supervisor.begin(key, State(job.task, job.address), job.work)
        self._told = told
        levels, sets = [one.level() for one in told.service_level], [one.flow_set() for one in told.flow_set]
        try:
            if levels != kept_levels(self._folder):
                keep_levels(self._folder, levels)
            if sets != kept_sets(self._folder):
                keep_sets(self._folder, sets)
        except OSError as error:
            _LOG.warning("service levels and sets of flows cannot be kept: %s", error)

    def _write_status(self, states: list[State]) -> None:
        """For whoever asks how it goes."""
        tasks = [
            {"task": s.task, "address": s.address, "state": s.state, "why": s.why, "since_ns": s.since_ns}
            for s in states
        ]
        told: dict[str, Any] = {
            "format": FORMAT,
            "version": VERSION,
            "trouble": self._trouble or self._keeper.store_trouble,
            "tasks": tasks,
        }
        told["config"] = str(self._path.resolve())
        told["watches"] = [one for s in states for one in s.more.get("watches", [])]
        if told == self._written:
            return
        part = self._folder / f"{STATUS}.part"
        try:
            part.write_text(json.dumps(told), encoding="utf-8")
            part.replace(self._folder / STATUS)
        except OSError as error:  # A full disk: what is collected says so, too.
            _LOG.warning("the status cannot be written: %s", error.strerror)
            return
        self._written = told


def _log_rates(states: list[State]) -> None:
    """A line a task; of many of one kind one line, and one for each that is not well."""
    kinds = Counter(state.task for state in states)
    for state in states:
        if kinds[state.task] <= _MOST_LINES or state.state != RUNNING or state.why:
            why = f": {state.why}" if state.why else ""
            _LOG.info("%s %s: %s%s; %s", state.task, state.address, state.state, why, state.rates)
    for kind, count in kinds.items():
        if count > _MOST_LINES:
            _LOG.info(
                "%s: %s of %s are running", kind, sum(s.state == RUNNING for s in states if s.task == kind), count
            )


def _tell_manager(words: str) -> None:
    """Tells the service manager how it is (sd_notify(3)), where there is one."""
    address = os.environ.get("NOTIFY_SOCKET", "")
    if not address:
        return
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as own:
        own.connect("\0" + address[1:] if address.startswith("@") else address)
        own.sendall(words.encode())
