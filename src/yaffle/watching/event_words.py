"""Events in words: what, where, since when, how much against what limit, and what to look at."""

import shlex
from datetime import UTC, datetime

from yaffle.units import duration
from yaffle.watching.event_rows import CLEARED, CORRECTED, Event
from yaffle.watching.states import RAISED, UNKNOWN
from yaffle.watching.watch import ABSENT, AVAILABLE, FALLING, OUTSIDE, RISING, Watch

_NS = 10**9
_PREFIXES = ((1e9, "G"), (1e6, "M"), (1e3, "k"))
_BEFORE_NS = 300 * _NS


def figure(value: float, unit: str) -> str:
    """A value with its unit, as people read it."""
    if value != value:
        return "nothing"
    if unit == "bit/s":
        for size, prefix in _PREFIXES:
            if abs(value) >= size:
                return f"{value / size:,.3g} {prefix}{unit}"
    return f"{value:,.4g} {unit}".rstrip()


def what(watch: Watch) -> str:
    """What is measured."""
    own = watch.measure.replace("_", " ")
    share = {AVAILABLE: "share of good minutes of ", RISING: "rise of ", FALLING: "fall of "}.get(watch.rule, "")
    return f"{share}{own}"


def words_of(
    watch: Watch, subject: str, state: str, value: float, since_ns: int, now_ns: int, usual: tuple[float, float]
) -> str:
    """Of a change."""
    if state == UNKNOWN:
        return f"{what(watch)} of {subject} is not known: nothing was told for {duration(watch.over_ns)}"
    own = f"{what(watch)} of {subject}: {figure(value, watch.unit)}"
    if watch.rule == ABSENT:
        own = f"{subject} {'is silent' if state == RAISED else 'is heard again'}"
        if state == RAISED:
            own += f": no {watch.entry.table} of it for {duration(max(watch.over_ns, now_ns - since_ns))}"
    elif watch.rule == OUTSIDE:
        expected, deviation = usual
        own += f", usual at this hour {figure(expected, watch.unit)} ± {figure(deviation, watch.unit)}"
    else:
        own += f", limit: {watch.limit_words}"
    if state == CLEARED:
        return f"over: {own}; it lasted {duration(max(0, now_ns - since_ns))}"
    return own


def at(time_ns: int) -> str:
    """A moment, UTC."""
    return datetime.fromtimestamp(time_ns / _NS, UTC).strftime("%Y-%m-%d %H:%M:%S UTC")


def command(history: str, event: Event) -> str:
    """What opens the window at an event."""
    first, last = (
        datetime.fromtimestamp((event.time_ns + off) / _NS, UTC).strftime("%Y-%m-%d %H:%M")
        for off in (-_BEFORE_NS, _BEFORE_NS)
    )
    return f"yaffle open {shlex.quote(history)} --period {shlex.quote(f'{first} to {last}')}"


def heading(event: Event) -> str:
    """An event in one line."""
    turn = {RAISED: event.severity or "raised", CLEARED: "over", CORRECTED: "late data"}.get(event.state, event.state)
    return f"{turn}: {event.watch}, {event.subject}"
