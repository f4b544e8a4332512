"""Plays a night of the demo's evidence, or days of it, to the watches' engine, its book and its receivers, as fast as
the machine can; killed at any moment it goes on where it was. A program of its own: `python -m tests.watching.player
SETTINGS.json`.

The clock, what has arrived by it, and a full disk are played; what watches, tells and answers is the task of a
collector, by its configuration, and the history and the receivers are those that it has.
"""

import asyncio
import json
import os
import random
import shutil
import signal
import sys
import time
from itertools import islice
from pathlib import Path

import numpy as np

from yaffle.collector.clock import Clock
from yaffle.collector.notice_configuration import Notify
from yaffle.collector.supervisor import State
from yaffle.collector.watch_configuration import Watching
from yaffle.collector.watch_task import watch_jobs
from yaffle.demo import kept_tests, weeks
from yaffle.history.layout import COUNTERS, PROBES, counting, folders
from yaffle.history.probe_rows import rows_of
from yaffle.history.weeks import _readings
from yaffle.history.writer import HistoryWriter
from yaffle.records.counter_table import Counters
from yaffle.records.flow_table import FlowRecords, empty_flows

MINUTE_NS, SECOND_NS = 60 * 10**9, 10**9
DAY = 3
BEGIN_NS = weeks.START_NS + (DAY * 24 * 60 + 50) * MINUTE_NS
WORKERS = 3  # who looks, who tells and who answers
COPY = 10  # the minute in which the nightly copy begins to fill Saltmarsh's line
MINUTES = 140
GAP = (88, 112)  # minutes in which one router tells nothing
SILENT = weeks.SITES["Northpoint"][1]
DESK = ("desk",) if shutil.which("dbus-daemon") else ()
TOLD = ("hook", "log", "mail", *DESK)
WATCHES = (
    {"name": "line nearly full", "measure": "utilization", "of": "interface", "over": "5min", "above": 90.0,
     "clear": {"at": 75.0, "for": "5min"}, "for": "5min", "notify": TOLD},
    {"name": "slow round trips", "measure": "test_round_trip", "of": "test", "where": "kind = 'delay'",
     "over": "20min", "above": 100.0, "severity": "critical", "notify": TOLD},
    {"name": "router gone silent", "measure": "utilization", "of": "device", "over": "10min", "absent": True,
     "notify": TOLD},
)  # fmt: skip
EXPECTED = {
    ("line nearly full", f"{weeks.SITES['Saltmarsh'][1]} line"): ["raised", "cleared"],
    ("slow round trips", "Saltmarsh delay"): ["raised", "cleared"],
    ("router gone silent", SILENT): ["raised", "cleared"],
}


def write_source(path: Path, own_hours: int = 4) -> None:
    """The evidence of the night, or of so many hours, made once."""
    counters, tests = [], []
    routers = {router: (k, speed) for k, (_, router, speed) in enumerate(weeks.SITES.values())}
    first = DAY * 24
    for number, hours in enumerate(islice(weeks.hours(), first + own_hours)):
        for one in hours if number >= first else ():
            counters.append(_readings(one.counters, *routers[one.router]))
            tests += kept_tests.tests_of(one)
    rows = np.sort(np.concatenate(counters), order="time_ns")
    gone = (rows["device"] == list(routers).index(SILENT)) & (rows["time_ns"] >= BEGIN_NS + GAP[0] * MINUTE_NS)
    np.save(path / "counters.npy", rows[~(gone & (rows["time_ns"] < BEGIN_NS + GAP[1] * MINUTE_NS))])
    (path / "tests.json").write_text(json.dumps(sorted(tests, key=lambda one: one[1]["at_ns"])))


class Night:
    """What has arrived by a moment. late: minutes of which results of tests arrive twenty minutes later."""

    def __init__(self, source: Path, late: tuple[int, int]) -> None:
        self._counters = np.load(source / "counters.npy")  # in order of their times
        self._tests = json.loads((source / "tests.json").read_text())
        self._counters_at = self._counters["time_ns"].astype(np.int64)
        self._tests_at = _arrived(np.array([one["at_ns"] for _, one in self._tests], np.int64), late)

    def give(self, writer: HistoryWriter, after_ns: dict[str, int], now_ns: int) -> None:
        """Hands on what arrived since, each table by itself: a kill comes between them."""
        rows = self._counters[slice(*np.searchsorted(self._counters_at, (after_ns[COUNTERS], now_ns), "right"))]
        if rows.size:
            names = {(k, number): name for k in range(len(weeks.SITES)) for number, name in weeks.INTERFACES.items()}
            devices = [router for _, router, _ in weeks.SITES.values()]
            writer.append(FlowRecords(empty_flows(0), [], counters=Counters(devices=devices, names=names, rows=rows)))
        own = np.flatnonzero((self._tests_at > after_ns[PROBES]) & (self._tests_at <= now_ns)).tolist()
        for name in sorted({self._tests[k][0] for k in own}):
            writer.hold_rows(PROBES, rows_of(name, [self._tests[k][1] for k in own if self._tests[k][0] == name]))
        writer.flush()
        after_ns[COUNTERS] = after_ns[PROBES] = now_ns


def _arrived(times: np.ndarray, late: tuple[int, int]) -> np.ndarray:
    first, last = (BEGIN_NS + minute * MINUTE_NS for minute in late)
    return np.where((times >= first) & (times < last), times + 20 * MINUTE_NS, times)


class Direct:
    """A keeper that writes at once: what it takes is on the disk when it says so."""

    def __init__(self, writer: HistoryWriter) -> None:
        self.writer = writer

    @property
    def settled(self) -> bool:
        return not self.writer._waiting

    @property
    def trouble(self) -> str:
        return self.writer.trouble

    def put(self, found) -> bool:
        self.writer.hold_rows(*found)
        self.writer.flush()
        return True


def _played(folder: Path) -> dict[str, int]:
    """Until when each table was written: the files are named by the moment at which they were."""
    ends = {}
    for table in (COUNTERS, PROBES):
        files = [path for _, hour in folders(folder / table) for path in counting(hour)]
        ends[table] = max((int(path.stem.split("-")[1]) for path in files), default=BEGIN_NS)
    return ends


class Played(Clock):
    """A clock that goes on when everybody who works by it waits."""

    def __init__(self, now_ns: int, workers: int) -> None:
        self._now_ns, self._workers, self._waiting = now_ns, workers, 0
        self._all_wait, self._next = asyncio.Event(), asyncio.Event()

    def now_ns(self) -> int:
        return self._now_ns

    async def pause(self, _seconds: float) -> None:
        self._waiting += 1
        if self._waiting == self._workers:
            self._all_wait.set()
        await self._next.wait()

    async def settled(self, work: asyncio.Task) -> None:
        """Everybody waits. Raises what ended the work."""
        waiting = asyncio.create_task(self._all_wait.wait())
        await asyncio.wait({waiting, work}, return_when=asyncio.FIRST_COMPLETED)
        if work.done():
            work.result()

    async def go_on(self, by_ns: int, work: asyncio.Task) -> None:
        """It is later; gives when everybody waits again."""
        self._now_ns += by_ns
        self._waiting, before = 0, self._next
        self._all_wait, self._next = asyncio.Event(), asyncio.Event()
        before.set()
        await self.settled(work)


async def play(settings: dict) -> None:
    """From where it was to the end of the night: what watches is the collector's own task."""
    folder = Path(settings["folder"])
    ended, now = BEGIN_NS + settings.get("minutes", MINUTES) * MINUTE_NS, max(_played(folder).values())
    if (folder / "now").exists():  # The disk may have taken nothing for a while.
        now = max(now, int((folder / "now").read_text() or now))
    clock = Played(now, WORKERS)
    full = [BEGIN_NS + minute * MINUTE_NS for minute in settings["full"]]
    writer = HistoryWriter(
        folder, free=lambda _: 1000 if full[0] <= clock.now_ns() < full[1] else 1 << 40, now_ns=clock.now_ns,
        settle=False,
    )  # fmt: skip
    night, after = Night(Path(settings["source"]), tuple(settings["late"])), _played(folder)
    watches, notify = [Watching(**one) for one in WATCHES], [Notify(**one) for one in settings["notify"]]
    (job,) = watch_jobs(watches, notify, [], [], Direct(writer), clock)
    work = asyncio.create_task(job.work(State(job.task)))
    await clock.settled(work)
    while clock.now_ns() < ended:
        now = clock.now_ns() + MINUTE_NS
        (folder / "now.part").write_text(str(now))
        (folder / "now.part").replace(folder / "now")
        night.give(writer, after, now)
        await clock.go_on(MINUTE_NS, work)
        if now % (10 * MINUTE_NS) == 0:
            writer.tidy()
    await clock.go_on(SECOND_NS, work)  # What was noticed last is told.
    work.cancel()
    await asyncio.gather(work, return_exceptions=True)
    writer.close()
    (folder / "ended").touch()


def main(path: Path) -> None:
    """Plays, in children that are killed as often as is wanted."""
    settings = json.loads(path.read_text())
    chance = random.Random(settings["seed"])
    for life in range(settings["kills"] + 1):
        child = os.fork()
        if not child:
            asyncio.run(play(settings))
            os._exit(0)
        if life < settings["kills"]:
            time.sleep(chance.uniform(*settings["lives_s"]))
            os.kill(child, signal.SIGKILL)
        _, status = os.waitpid(child, 0)
        if os.WIFEXITED(status):
            sys.exit(os.WEXITSTATUS(status))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
