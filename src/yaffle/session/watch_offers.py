"""Watches that a history suggests: what it holds, with a limit that it passed rarely lately, and why."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from yaffle.history.layout import COUNTERS, LEVELS, PROBES, READINGS, WAITS, folders
from yaffle.history.store import History
from yaffle.progress import Progress, go_on, step
from yaffle.records.catalogue import entry_of
from yaffle.watching.member_values import Question, values
from yaffle.watching.watch import ABOVE, ABSENT, BELOW, OUTSIDE, Watch
from yaffle.watching.windows import Windows

MOST = 5
_NS = 10**9
_MINUTE_NS, _HOUR_NS, _WEEK_NS = 60 * _NS, 3600 * _NS, 7 * 86_400 * _NS
_RARE = 99.5  # percentile that a limit lies at
_ROOM = 1.5  # times that


@dataclass(frozen=True)
class Offer:
    """A watch, and why it and its limit."""

    watch: Watch
    why: str


def offers(history: History, first_ns: int, last_ns: int, progress: Progress = go_on) -> list[Offer]:
    """At most five, what users feel first. Raises HistoryError, Cancelled."""
    found: list[Offer] = []
    low = max(first_ns, last_ns - _WEEK_NS)
    for k, make in enumerate((_waits, _tests, _links, _hosts, _exporters, _volume)):
        step(progress, 0.5 + 0.08 * k, "looking for what could be watched")
        found += make(history, low, last_ns)
    return found[:MOST]


def _limit(history: History, watch: Watch, first_ns: int, last_ns: int) -> tuple[float, int]:
    """(a limit that is passed rarely, members) by hours of a period; NaN where nothing is measured."""
    count = max(1, (last_ns - first_ns) // _HOUR_NS)
    asked = Question(entry_of(watch.measure, watch.of), watch.of, watch.where)
    found = values(Windows(history), asked, first_ns // _HOUR_NS * _HOUR_NS, _HOUR_NS, int(count))
    known = [own[~np.isnan(own)] for own in found.of.values()]
    known = [own for own in known if own.size]
    if not known:
        return float("nan"), 0
    return float(np.percentile(np.concatenate(known), _RARE)) * _ROOM, len(known)


def _rounded(value: float) -> float:
    return float(f"{value:.2g}")


def _waits(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / WAITS):
        watch = Watch("waits unlike this hour's", "wait_p95", "application", over_ns=15 * _MINUTE_NS, rule=OUTSIDE,
                      limit=3.0, for_ns=15 * _MINUTE_NS, severity="warning")  # fmt: skip
        yield Offer(
            watch, "waits of each application are kept: told when they stay unlike what that hour of the week has"
        )


def _tests(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / PROBES):
        watch = Watch("tests that fail", "test_failures", "test", over_ns=5 * _MINUTE_NS, rule=ABOVE, limit=50.0,
                      severity="critical")  # fmt: skip
        yield Offer(watch, "tests on purpose run here: told when more than half of one's results fail")


def _links(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / COUNTERS):
        watch = Watch("links nearly full", "utilization", "interface", over_ns=15 * _MINUTE_NS, rule=ABOVE, limit=90.0,
                      clear_at=80.0, severity="warning")  # fmt: skip
        yield Offer(watch, "interfaces are read: from 90 % on queues stand, whatever is usual")


def _hosts(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / READINGS):
        known = {measure for _, _, measure in history.reading_names()}
        for name, rule, limit in (("cpu idle", BELOW, 5.0), ("processor load", ABOVE, 95.0)):
            if name in known:
                watch = Watch("busy processors", name, "object", over_ns=5 * _MINUTE_NS, rule=rule, limit=limit,
                              for_ns=5 * _MINUTE_NS)  # fmt: skip
                yield Offer(watch, "hosts tell how busy their processors are: told when one stays at its end")
                return


def _exporters(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / LEVELS[0].name):
        watch = Watch("exporters gone silent", "records", "exporter", over_ns=15 * _MINUTE_NS, rule=ABSENT,
                      severity="critical")  # fmt: skip
        count = len(history.exporters)
        yield Offer(watch, f"{count} exporters tell flow records: silence looks like a quiet network, and is none")


def _volume(history: History, first_ns: int, last_ns: int) -> Iterator[Offer]:
    if folders(history.folder / LEVELS[0].name):
        watch = Watch("more traffic than ever", "volume", "site", over_ns=15 * _MINUTE_NS, rule=ABOVE)
        limit, members = _limit(history, watch, first_ns, last_ns)
        if limit == limit and limit > 0:
            words = f"{members} sites; 199 of 200 hours of the last week stay below two thirds of this limit"
            yield Offer(replace(watch, limit=_rounded(limit)), words)
