"""What was noticed in a period, who was told, what was done about it and whether it helped."""

from collections.abc import Sequence
from dataclasses import dataclass

from yaffle.history.store import History
from yaffle.periods.span import Span
from yaffle.session.watching import events_of
from yaffle.watching.event_rows import CLEARED, EFFECT, HAPPENED, NOTICE, UNDONE, Event
from yaffle.watching.states import RAISED


@dataclass(frozen=True)
class Noticed:
    """One watched member: how often it was raised, for how long in all, when last. Times in ns."""

    watch: str
    subject: str
    severity: str
    times: int
    lasted_ns: int
    last_ns: int


@dataclass(frozen=True)
class Happened:
    """noticed: those that lasted longest first; effects: what responses changed; others: what has no end."""

    noticed: list[Noticed]
    notices: int
    effects: list[Event]
    others: list[Event]


def happened(history: History, span: Span) -> Happened:
    """Raises HistoryError."""
    told = events_of(history, span.last_ns - 1)
    inside = [one for one in told if one.time_ns >= span.first_ns]
    return Happened(
        _noticed(told, span),
        sum(one.state == NOTICE for one in inside),
        [one for one in inside if one.state in (EFFECT, UNDONE)],
        [one for one in inside if one.state == HAPPENED],
    )


def _noticed(told: Sequence[Event], span: Span) -> list[Noticed]:
    by_member: dict[tuple[str, str], list[Event]] = {}
    for one in told:
        if one.state in (RAISED, CLEARED):
            by_member.setdefault((one.watch, one.subject), []).append(one)
    found = []
    for (watch, subject), own in by_member.items():
        lasted, times, last, severity = 0, 0, 0, ""
        for place, one in enumerate(own):
            if one.state != RAISED:
                continue
            end = own[place + 1].time_ns if place + 1 < len(own) else span.last_ns
            low, high = max(one.time_ns, span.first_ns), min(end, span.last_ns)
            if high > low:
                lasted, times, last, severity = lasted + high - low, times + 1, one.time_ns, one.severity
        if times:
            found.append(Noticed(watch, subject, severity, times, lasted, last))
    return sorted(found, key=lambda one: -one.lasted_ns)
