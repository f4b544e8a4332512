"""Flow records that came late: what they would have raised is told afterwards, with its time, as a correction."""

from collections.abc import Sequence
from typing import Any

from yaffle.history.layout import LEVELS
from yaffle.records.catalogue import RECORDS
from yaffle.watching.book import Book
from yaffle.watching.event_rows import CORRECTED, Event
from yaffle.watching.event_words import at, figure, what
from yaffle.watching.member_values import Question, values
from yaffle.watching.states import BAD
from yaffle.watching.watch import ABOVE, BELOW, Watch
from yaffle.watching.windows import Windows

_MINUTE_NS = 60 * 10**9
_LONGEST_NS = 6 * 3600 * 10**9  # Further back nothing is looked at again.
_HELD = "corrected"


def corrections(
    windows: Windows, watches: Sequence[Watch], since_ns: int, now_ns: int, book: Book
) -> tuple[list[Event], dict[str, Any]]:
    """(what records that arrived since a moment change of former minutes, what is to be held). Raises HistoryError."""
    own = [w for w in watches if not w.event and w.entry.table == RECORDS and w.rule in (ABOVE, BELOW)]
    if not own:
        return [], {}
    first, last = _stretch(windows, since_ns, now_ns)
    found: list[Event] = []
    raised = {(name, subject): entry.standing.raised_ns for (name, subject), entry in book.standings().items()}
    told: dict[str, int] = book.held(_HELD) or {}
    for watch in own:
        end = min(last, now_ns - watch.over_ns - _MINUTE_NS)
        if first >= end:
            continue
        low = first // _MINUTE_NS * _MINUTE_NS
        count = int(max(1, (end - low) // _MINUTE_NS))
        series = values(windows, Question(watch.entry, watch.of, watch.where), low, _MINUTE_NS, count)
        for subject, row in series.of.items():
            bad = [k for k in range(count) if watch.finding(float(row[k])) == BAD]
            key = f"{watch.name}\n{subject}"
            if not bad or len(bad) * _MINUTE_NS < watch.for_ns:
                continue
            begin = low + bad[0] * _MINUTE_NS
            if raised.get((watch.name, subject), 0) >= begin or told.get(key, 0) >= begin + len(bad) * _MINUTE_NS:
                continue
            told[key] = low + (bad[-1] + 1) * _MINUTE_NS
            value = max((float(row[k]) for k in bad), key=lambda one: one if watch.rule == ABOVE else -one)
            words = (
                f"late data: {what(watch)} of {subject} was {figure(value, watch.unit)} for {len(bad)} min from"
                f" {at(begin)}, limit: {watch.limit_words}; it was not known then"
            )
            found.append(
                Event(begin, watch.name, subject, CORRECTED, watch.severity, value, watch.limit, watch.unit, words)
            )
    return found, {_HELD: told} if found else {}


def _stretch(windows: Windows, since_ns: int, now_ns: int) -> tuple[int, int]:
    """From when to when records were that arrived late since a moment; (0, 0) of none."""
    low = now_ns - _LONGEST_NS
    rows = windows.history.rows(low, now_ns, LEVELS[0], ("first_ns", "last_ns", "arrived_ns")).records.rows
    late = rows[(rows["arrived_ns"] > since_ns) & (rows["last_ns"] < rows["arrived_ns"] - 2 * _MINUTE_NS)]
    if not late.size:
        return 0, 0
    return int(max(low, late["first_ns"].min())), int(late["last_ns"].max())
