"""What a collector would have watched over the demo's four weeks: the watches, tried on what the history holds; and
the one answer, the copy that takes only what is new, with what it changed.
"""

from pathlib import Path

import numpy as np

from yaffle.demo import weeks
from yaffle.history.layout import ADDRESSES, DAY_NS, EVENTS, HOUR_NS, WAITS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.normal.comparison import compare
from yaffle.progress import Progress, go_on
from yaffle.watching.book import Book, Entry
from yaffle.watching.event_rows import EFFECT, HAPPENED, RESPONSE, Event, table_of
from yaffle.watching.flow_sets import FlowSet, keep_sets
from yaffle.watching.happenings import HARDWARE
from yaffle.watching.member_values import Question, values
from yaffle.watching.rehearsal import rehearse
from yaffle.watching.responses import effect_words
from yaffle.watching.service_levels import ServiceLevel, keep_levels
from yaffle.watching.states import RAISED
from yaffle.watching.watch import ABOVE, ABSENT, OUTSIDE, Watch
from yaffle.watching.windows import Windows

_MINUTE_NS = 60 * 10**9
LINE = Watch("line nearly full", "utilization", "interface", over_ns=15 * _MINUTE_NS, limit=90.0, clear_at=75.0,
             for_ns=15 * _MINUTE_NS, severity="warning", notify=("duty",), respond="new files only")  # fmt: skip
WATCHES = (
    Watch("slow round trips", "test_round_trip", "test", "kind = 'delay'", 30 * _MINUTE_NS, ABOVE, 100.0,
          for_ns=30 * _MINUTE_NS, severity="critical", notify=("duty",)),
    LINE,
    Watch("waits unlike this hour's", "wait_p95", "application", over_ns=60 * _MINUTE_NS, rule=OUTSIDE, limit=3.0,
          severity="warning", notify=("duty",)),
    Watch("busy processor", "processor load", "object", over_ns=15 * _MINUTE_NS, rule=ABOVE, limit=95.0,
          for_ns=30 * _MINUTE_NS, severity="notice"),
    Watch("router gone silent", "records", "exporter", over_ns=60 * _MINUTE_NS, rule=ABSENT, severity="critical",
          notify=("duty",)),
    Watch("another machine", event=HARDWARE, severity="notice"),
)  # fmt: skip
_ANSWERED_NS = weeks.START_NS + weeks.MENDED_DAY * DAY_NS
_NIGHT = (5 * HOUR_NS, 8 * HOUR_NS)  # in which the copy used to meet the desks


LEVELS = (
    ServiceLevel("ticket desk answers", "wait_p95", "site", "application = 'ticket desk'", ABOVE, 500.0, 99.0, HOUR_NS),
    ServiceLevel("lines have room", "utilization", "interface", "", ABOVE, 90.0, 99.0, 15 * _MINUTE_NS),
)


SETS = tuple(
    FlowSet(f"{site}, {name}", f"site = '{site}' AND application = '{name}'", WAITS, HOUR_NS)
    for site in ("Saltmarsh", "Northpoint", "Isle of Wren")
    for name in ("ticket desk", "timetable")
)


def write_demo_watches(folder: Path, progress: Progress = go_on) -> None:
    """Writes events, watches and where everything stands in the end. Raises HistoryError, Cancelled."""
    keep_levels(folder, LEVELS)
    keep_sets(folder, SETS)
    history = History(folder)
    events: list[Event] = []
    standings: list[tuple[str, str, Entry]] = []
    for watch in WATCHES:
        found = rehearse(history, watch, history.first_ns, history.last_ns, progress)
        events += found.events
        ids = {one.subject: one.id for one in found.events if one.state == RAISED}
        standings += [(watch.name, s, Entry(standing, ids.get(s, ""), history.last_ns, value))
                      for s, (standing, value) in found.standings.items()]  # fmt: skip
    events += [*_answer(history, events), *_another_machine(history)]
    writer = HistoryWriter(folder, now_ns=lambda: history.last_ns, settle=False)
    writer.append_rows(EVENTS, table_of(sorted(events, key=lambda one: one.time_ns)))
    writer.close()
    book = Book(folder)
    with book.together():
        book.hold("watches", [one.as_json() for one in WATCHES])
        book.stand(standings)
    book.close()


def _answer(history: History, events: list[Event]) -> list[Event]:
    """The answer on the Saturday of the third week, and the mornings after it against those before."""
    raised = [one for one in events if one.watch == LINE.name and one.state == RAISED and one.time_ns < _ANSWERED_NS]
    if not raised:
        return []
    event = raised[-1]
    before, after = (_mornings(history, event.subject, days) for days in (range(14, 19), range(21, 26)))
    words, _ = effect_words(compare(before, after), LINE.unit, True)
    told = (event.watch, event.subject)
    return [
        Event(_ANSWERED_NS, *told, RESPONSE, event.severity, unit=LINE.unit, about=event.id,
              words="new files only: the archive copy takes what is new"),
        Event(_ANSWERED_NS + 7 * DAY_NS, *told, EFFECT, event.severity, float(np.median(after)), LINE.limit, LINE.unit,
              f"new files only {words}", about=event.id),
    ]  # fmt: skip


def _mornings(history: History, subject: str, days: range) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    windows, asked, found = Windows(history), Question(LINE.entry, LINE.of), []
    low, high = _NIGHT
    for day in days:
        first = weeks.START_NS + day * DAY_NS + low
        own = values(windows, asked, first, LINE.over_ns, (high - low) // LINE.over_ns).of.get(subject)
        if own is not None:
            found.append(own)
    return np.concatenate(found) if found else np.zeros(0)


def _another_machine(history: History) -> list[Event]:
    """IP addresses whose machine changed."""
    found, held = [], dict[tuple[str, str], str]()
    for row in history.intervals(ADDRESSES).to_pylist():
        key = (row["device"], row["address"])
        former = held.get(key)
        if former is not None and former != row["hardware"]:
            words = f"{row['address']} moved from {former} to {row['hardware']}"
            subject = f"{row['address']} at {row['device']}"
            found.append(Event(row["from_ns"], "another machine", subject, HAPPENED, "notice", words=words))
        held[key] = row["hardware"]
    return found
