"""Accounts for a ring while it is written: minutes of waits, each exchange in the minute in which it ended, once.

Some files of the ring are a run: they are read on as they grow, and what an analysis of them says of each minute is
compared with what was told of it before; the difference is told. So all that was told adds up to what one analysis of
the run's packets says, however often it was looked and whoever was killed meanwhile. Where a run holds much, another
begins with the next file: connections that go on are carried into it, what was told of them before stands.
"""

import time
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

import pyarrow as pa

from yaffle.analysis import Analysis
from yaffle.following import Followed
from yaffle.history.layout import QUESTIONS, WAITS
from yaffle.history.wait_rows import MINUTE_NS
from yaffle.session.evidence import Evidence
from yaffle.waiting.carrying import carry
from yaffle.waiting.held_files import HeldFiles, State
from yaffle.waiting.minutes import NOTHING, QUESTION, Key, Sums, minutes_of, questions_of, sums_of, table_of
from yaffle.waiting.stretches import TABLES, stretch_key, stretch_table, stretches_of

MOST_PACKETS = 2_000_000  # of a run, before another begins with the next file
_SETTLED_NS = 3 * 10**9  # after the end of a minute, before it is told
_KNOWN_NS = 60 * 10**9  # so long before the end of a run its questions may come again in the next one
_FOR_ALL = 1 << 62
_OVERWRITTEN = "files of the ring were overwritten before they were accounted for"


class Kept(Protocol):
    """What a history holds of a capture, and the way into it."""

    def tell(self, name: str, table: pa.Table) -> None:
        """Takes rows of a table, by its name."""

    def settle(self) -> None:
        """Comes back when all that was told is on the disk. Raises YaffleError where that cannot be."""

    def told(self, run: int) -> dict[str, pa.Table]:
        """Rows of a run by table: of `waits`, `radio`, `cyclic`; and of `questions` of its time."""

    def latest_ns(self) -> int:
        """The end of the last minute of any run; 0 without one."""


@dataclass
class _Told:
    """What was told of this run."""

    minutes: dict[Key, Sums] = field(default_factory=dict)
    questions: set[tuple[int, str, str, str]] = field(default_factory=set)
    stretches: set[tuple[object, ...]] = field(default_factory=set)  # minutes of `radio` and `cyclic`


class Accounting:
    """Of one ring."""

    def __init__(self, ring: Path, capture: str, kept: Kept, most_packets: int = MOST_PACKETS) -> None:
        self.files, self.capture, self._kept, self._most = HeldFiles(ring), capture, kept, most_packets
        self.trouble = ""
        self.exchanges = 0  # told by this process
        known = self.files.state()
        self._state = known or State(time.time_ns(), "", since_ns=kept.latest_ns())
        self._followed: Followed | None = None
        self._told = _Told()
        held = self.files.still_held(self._state)
        if self._state.first and not held and not any(p.name <= self._state.first for p in ring.glob("*.pcapng")):
            self.trouble = _OVERWRITTEN
        self._begin(kept.told(self._state.run))
        for path in held:
            self._add(path)

    def _begin(self, kept: dict[str, pa.Table]) -> None:
        """What was told of the run: of what it carries all, and of what came since what the history holds."""
        waits, questions = kept.get(WAITS, _NO_WAITS), kept.get(QUESTIONS, _NO_QUESTIONS)
        for table in TABLES:
            self._told.stretches |= (
                {stretch_key(table, row) for row in kept[table].to_pylist()} if table in kept else set()
            )
        if self._state.carried:
            self._followed = Followed([self.files.carried(self._state)])
            evidence = Evidence(self._followed.look())
            newest_ns = int(evidence.analysis.capture.packets.time_ns.max(initial=0))
            self._told.minutes = minutes_of(evidence)
            self._told.questions = set(questions_of(evidence, newest_ns))
        for key, sums in sums_of(waits).items():
            self._told.minutes[key] = sums.plus(self._told.minutes.get(key))
        rows = questions.select(["time_ns", "protocol", "client", "name"]).to_pylist() if questions.num_rows else []
        self._told.questions |= {(row["time_ns"], row["protocol"], row["client"], row["name"]) for row in rows}

    def look(self, *, last: bool = False) -> None:
        """Accounts for what came; tells finished minutes, or all of them where it is the last look."""
        for name in self.files.newer(self._state):
            if self.files.names and self._is_much():  # Those before have ended: a ring writes one file at a time.
                self._account(_FOR_ALL)
                self._turn(name)
            elif not self._state.first:
                self._state = replace(self._state, first=name)
                self.files.turn(self._state)
            if (path := self.files.hold(name)) is None:
                self.trouble = _OVERWRITTEN
            else:
                self._add(path)
        if self.files.names:
            self._account(_FOR_ALL if last else time.time_ns() - _SETTLED_NS)

    def _add(self, path: Path) -> None:
        if self._followed is None:
            self._followed = Followed([path])
        else:
            self._followed.add(path)

    def _is_much(self) -> bool:
        """Whether the run's files hold so many octets that there may be too many packets: they are looked at then."""
        held = sum((self.files.folder / name).stat().st_size for name in self.files.names)
        return held >= self._most * 100

    def _account(self, until_ns: int) -> None:
        assert self._followed is not None
        self._analysis = self._followed.look()
        evidence = Evidence(self._analysis)
        found = minutes_of(evidence)
        before = self._told.minutes
        since_ns = self._state.since_ns
        due = {key for key in found if since_ns <= key[0] <= until_ns - MINUTE_NS} | before.keys()
        changed = {
            key: more for key in sorted(due) if not (more := found.get(key, NOTHING).minus(before.get(key))).is_nothing
        }
        if changed:
            self._kept.tell(WAITS, table_of(changed, self.capture, self._state.run))
            for key, more in changed.items():
                before[key] = more.plus(before.get(key))
                self.exchanges += int(more.figures[0])
        self._newest_ns = newest_ns = int(self._analysis.capture.packets.time_ns.max(initial=0))
        asked = {k: row for k, row in questions_of(evidence, newest_ns).items() if k not in self._told.questions}
        if asked:
            columns = list(zip(*asked.values(), strict=True))
            table = pa.table([columns[0], [self.capture] * len(asked), *columns[1:]], names=QUESTION.names)
            self._kept.tell(QUESTIONS, table.cast(QUESTION))
            self._told.questions |= asked.keys()
        self._tell_stretches(min(until_ns, newest_ns) if until_ns < _FOR_ALL else _FOR_ALL)

    def _tell_stretches(self, until_ns: int) -> None:
        """Minutes on the air and of cyclic streams that are over, each once."""
        carried = str(self.files.carried(self._state)) if self._state.carried else ""
        own = [one.first_ns for one in self._analysis.capture.sources if one.path != carried and one.packets]
        found = stretches_of(self._analysis, min(own, default=0), until_ns, self._told.stretches)
        for table, rows in found.items():
            fresh = [row for row in rows if self._state.since_ns <= row["time_ns"]]
            if fresh:
                self._kept.tell(table, stretch_table(table, fresh, self.capture, self._state.run))
                self._told.stretches |= {stretch_key(table, row) for row in fresh}

    def _turn(self, first: str) -> None:
        """Another run, which begins with a file, when all that was told of this one is kept."""
        self._kept.settle()
        run, carried = max(time.time_ns(), self._state.run + 1), carry(self._analysis, self.files.folder)
        self._state = State(run, first, carried, self._state.since_ns)
        if self._followed is not None:
            self._followed.close()
        self._followed = None
        self.files.turn(self._state)
        known = {one for one in self._told.questions if one[0] >= self._newest_ns - _KNOWN_NS}
        self._told = _Told()
        if self._state.carried:
            self._begin({})
        self._told.questions |= known  # A run that was killed may have told of later files already.

    @property
    def analysis(self) -> Analysis:
        """Of the last look."""
        return self._analysis


_NO_WAITS, _NO_QUESTIONS = table_of({}, "", 0), QUESTION.empty_table()
