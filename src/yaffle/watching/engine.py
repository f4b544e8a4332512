"""Looks at all watches again and again: what each member's value is, where it stands then, and what is told of it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any
from uuid import uuid4

import numpy as np

from yaffle.arrays import Array
from yaffle.errors import YaffleError
from yaffle.history.store import History
from yaffle.watching.bands import Bands, settings_for
from yaffle.watching.book import Book, Entry
from yaffle.watching.event_rows import Event
from yaffle.watching.event_words import words_of
from yaffle.watching.happenings import Happenings
from yaffle.watching.late import corrections
from yaffle.watching.member_values import COUNTED, Question, Values, values
from yaffle.watching.responses import ASKED
from yaffle.watching.states import ALERTS, BAD, GOOD, RAISED, Standing, after, change
from yaffle.watching.watch import ABSENT, AVAILABLE, FALLING, OUTSIDE, RISING, Watch
from yaffle.watching.windows import Windows

_NS = 10**9
_MINUTE_NS = 60 * _NS
_PAUSE_NS = (_NS // 2, 15 * _NS)  # between two looks of a watch, at least and at most
_SETTLE_NS = 2 * _NS  # after the end of an interval, before it is judged against what is usual
_LEARN_NS, _MOST_LEARNT = 35 * 86_400 * _NS, 20_000  # from so far back, so many intervals at most
_AT_ONCE = 500  # intervals that are learnt of at once
_KNOWN_SHARE = 0.5  # of the minutes that must be known for a share of good ones
_FORGOTTEN_NS = 8 * 86_400 * _NS  # a member of which nothing was heard for so long, and that is not raised, is gone
_WATCHED, _HELD_EVERY_NS = "watched", 10 * _NS  # since when was watched, and how often that is written down
_STEP_NS = 120 * _NS  # A clock that moved so far between two looks was set, or the machine slept.

Wanted = Callable[[Watch, Event], Sequence[str]]  # who is told of an event


@dataclass
class _Under:
    """One watch: its members, when it is due, what is usual."""

    watch: Watch
    asked: Question | None
    due_ns: int = 0
    members: dict[str, Entry] = field(default_factory=dict)
    bands: Bands | None = None
    trouble: str = ""

    @property
    def pause_ns(self) -> int:
        """Between two looks."""
        low, high = _PAUSE_NS
        return self.watch.over_ns if self.watch.rule == OUTSIDE else min(high, max(low, self.watch.over_ns // 4))


class Engine:
    """The watches of one collector. started_ns: nothing is judged before one `over` after it; where the run before
    ended a moment ago, what it watched counts, too.
    """

    def __init__(self, history: History, book: Book, watches: Sequence[Watch], started_ns: int, wanted: Wanted) -> None:
        self._history, self._book, self._wanted = history, book, wanted
        self._windows = Windows(history)
        self._started_ns = self._resumed_ns = self._last_ns = started_ns
        self._gap_ns = self._held_ns = 0
        if (told := book.held(_WATCHED)) and 0 <= started_ns - int(told["last_ns"]) <= _STEP_NS:
            self._gap_ns = started_ns - int(told["last_ns"])
            self._started_ns = min(started_ns, int(told["since_ns"]) + self._gap_ns)  # Only watched time counts.
        self._under = [_Under(one, None if one.event else Question(one.entry, one.of, one.where)) for one in watches]
        self._happenings = Happenings(history, book, [one for one in watches if one.event])
        self._late_ns = started_ns
        known = book.standings()
        for under in self._under:
            under.members = {s: entry for (name, s), entry in known.items() if name == under.watch.name}
        gone = [key for key in known if key[0] not in {one.name for one in watches}]
        with book.together():
            book.forget(gone)
            book.hold("watches", [one.as_json() for one in watches])

    @property
    def trouble(self) -> str:
        """What cannot be looked at, and why; empty while all is well."""
        return "; ".join(f"{one.watch.name}: {one.trouble}" for one in self._under if one.trouble)

    def standings(self) -> list[tuple[Watch, str, Entry]]:
        """Where every member stands."""
        return [(one.watch, subject, entry) for one in self._under for subject, entry in one.members.items()]

    def look(self, now_ns: int) -> list[Event]:
        """Looks at those that are due; what is told of it, which is in the book then. Raises sqlite3.Error."""
        self._mind_the_clock(now_ns)
        turn = _Turn()
        for under in self._under:
            if under.asked is not None and now_ns >= under.due_ns:
                self._look_at(under, now_ns, turn)
        self._windows.forget()
        events, held = self._happenings.look(now_ns)
        turn.events += events
        turn.held |= held
        if now_ns - self._late_ns >= _MINUTE_NS:
            watches = [one.watch for one in self._under]
            events, held = corrections(self._windows, watches, self._late_ns, now_ns, self._book)
            turn.events += events
            turn.held |= held
            self._late_ns = now_ns
            self._windows.forget()
        self._write(turn, now_ns)
        return turn.events

    def _look_at(self, under: _Under, now_ns: int, turn: "_Turn") -> None:
        if under.watch.rule == OUTSIDE and under.bands is None:
            self._learn(under, now_ns)
        under.due_ns = self._next(under, now_ns)
        if not self._has_watched(under.watch.over_ns, now_ns):
            return
        try:
            told = self._evaluated(under, now_ns)
            under.trouble = ""
        except YaffleError as error:  # One watch that fails takes no other down, and is told.
            under.trouble = " ".join(str(error).split())
            return
        self._turned(under, told, now_ns, turn)

    def _has_watched(self, over_ns: int, now_ns: int) -> bool:
        """Whether enough was watched for an interval to be judged: its length in all, and twice as long as it was not
        watched before this run.
        """
        return now_ns - self._started_ns >= over_ns and now_ns - self._resumed_ns >= min(over_ns, 2 * self._gap_ns)

    def _write(self, turn: "_Turn", now_ns: int) -> None:
        """All of a look at once; only then it is taken over."""
        if now_ns - self._held_ns >= _HELD_EVERY_NS:
            turn.held[_WATCHED] = {"since_ns": self._started_ns, "last_ns": now_ns}
            self._held_ns = now_ns
        if not (turn.events or turn.changed or turn.forgotten or turn.held):
            return
        by_name = {one.watch.name: one for one in self._under}
        notices = [(to, one) for one in turn.events for to in self._wanted(by_name[one.watch].watch, one)]
        with self._book.together():
            self._book.stand(turn.changed)
            self._book.forget(turn.forgotten)
            self._book.tell(turn.events)
            self._book.send(notices, now_ns)
            for one in turn.events:
                if one.state == RAISED and (response := by_name[one.watch].watch.respond):
                    self._book.response(uuid4().hex, response, one, now_ns, ASKED, {})
            for name, value in turn.held.items():
                self._book.hold(name, value)
        for name, subject, entry in turn.changed:
            by_name[name].members[subject] = entry
        for name, subject in turn.forgotten:
            by_name[name].members.pop(subject, None)

    def _mind_the_clock(self, now_ns: int) -> None:
        """A clock that was set moves what is counted from with it: only time that was watched counts."""
        step = now_ns - self._last_ns
        if step < 0 or step > _STEP_NS:
            moved = step if step < 0 else step - _NS
            self._started_ns += moved
            self._resumed_ns += moved
            self._held_ns = 0
            for under in self._under:
                under.due_ns = 0
                for entry in under.members.values():
                    own = entry.standing
                    entry.standing = Standing(own.state, own.since_ns + moved, own.raised_ns)
        self._last_ns = now_ns

    def _next(self, under: _Under, now_ns: int) -> int:
        if under.watch.rule != OUTSIDE:
            return now_ns + under.pause_ns
        over = under.watch.over_ns  # What is usual is learnt of whole intervals.
        return (now_ns - _SETTLE_NS) // over * over + over + _SETTLE_NS

    # --- what is measured ---
    def _evaluated(self, under: _Under, now_ns: int) -> Values:
        watch, asked = under.watch, under.asked
        assert asked is not None
        over = watch.over_ns
        if watch.rule == OUTSIDE:
            end = (now_ns - _SETTLE_NS) // over * over
            return values(self._windows, asked, end - over, over)
        if watch.rule in (RISING, FALLING):
            found = values(self._windows, asked, now_ns - 2 * over, over, 2)
            sign = 1 if watch.rule == RISING else -1
            return Values({s: sign * np.diff(own) for s, own in found.of.items()}, found.told[1:], found.heard)
        if watch.rule == AVAILABLE:
            count = max(1, over // _MINUTE_NS)
            found = values(self._windows, asked, now_ns - count * _MINUTE_NS, _MINUTE_NS, count)
            return Values({s: _good_share(watch, own) for s, own in found.of.items()}, found.told[-1:], found.heard)
        return values(self._windows, asked, now_ns - over, over)

    def _learn(self, under: _Under, now_ns: int) -> None:
        """What is usual, from what the history holds."""
        watch, asked = under.watch, under.asked
        assert asked is not None
        over = watch.over_ns
        under.bands = Bands(watch.limit, settings_for(over), only_above=watch.entry.more_is_worse)
        self._history.refresh()
        end = (now_ns - _SETTLE_NS) // over - 1  # The last one is judged, then learnt of, in its turn.
        first = max(self._history.first_ns // over, end - min(_LEARN_NS // over, _MOST_LEARNT))
        for low in range(first, end, _AT_ONCE):
            count = min(_AT_ONCE, end - low)
            found = values(self._windows, asked, low * over, over, count)
            self._windows.forget()
            subjects = list(found.of)
            table = np.stack([found.of[s] for s in subjects]) if subjects else np.zeros((0, count))
            for k in range(count if subjects else 0):
                under.bands.take(subjects, table[:, k], (low + k) * over)

    # --- where it stands ---
    def _turned(self, under: _Under, told: Values, now_ns: int, turn: "_Turn") -> None:
        watch = under.watch
        subjects = [*under.members, *(s for s in told.of if s not in under.members)]
        here = bool(told.told[-1]) if told.told.size else False
        silent = 0.0 if here and _counts(under) else float("nan")
        found = np.array([own[-1] if (own := told.of.get(s)) is not None else silent for s in subjects])
        sides, usual = np.zeros(len(subjects), np.int64), np.full((len(subjects), 2), np.nan)
        if under.bands is not None:
            over = watch.over_ns
            judged = under.bands.take(subjects, found, (now_ns - _SETTLE_NS) // over * over - over)
            sides, usual = judged.side, np.stack([judged.expected, judged.deviation], axis=1)
            found = np.where(judged.judged, found, np.nan)
        for k, subject in enumerate(subjects):
            former = under.members.get(subject) or Entry(Standing(since_ns=now_ns))
            heard = subject in told.heard
            value = float(found[k])
            finding = (GOOD if heard else BAD) if watch.rule == ABSENT else watch.finding(value, int(sides[k]))
            standing = after(former.standing, finding, now_ns, watch.for_ns, watch.clear_ns)
            entry = Entry(standing, former.raised_id, now_ns if heard else former.heard_ns, value)
            if told_of := change(former.standing, standing):
                usual_of = (float(usual[k, 0]), float(usual[k, 1]))
                turn.events.append(_event(watch, subject, told_of, (value, former), now_ns, usual_of))
                if told_of == RAISED:
                    entry.raised_id = turn.events[-1].id
            if standing != former.standing or subject not in under.members:
                turn.changed.append((watch.name, subject, entry))
            else:
                former.heard_ns, former.value = entry.heard_ns, value
            if standing.state not in ALERTS and entry.heard_ns and now_ns - entry.heard_ns > _FORGOTTEN_NS:
                turn.forgotten.append((watch.name, subject))


@dataclass
class _Turn:
    """What one look changes."""

    events: list[Event] = field(default_factory=list)
    changed: list[tuple[str, str, Entry]] = field(default_factory=list)
    forgotten: list[tuple[str, str]] = field(default_factory=list)
    held: dict[str, Any] = field(default_factory=dict)


def _counts(under: _Under) -> bool:
    return under.asked is not None and under.asked.entry.name in COUNTED


def _good_share(watch: Watch, own: Array) -> Array:
    """Share of good minutes, %, of those that are known; NaN where too few are."""
    known = ~np.isnan(own)
    if known.mean() < _KNOWN_SHARE:
        return np.array([np.nan])
    bad = np.zeros(own.size, bool)
    if watch.minute_above is not None:
        bad |= own > watch.minute_above
    if watch.minute_below is not None:
        bad |= own < watch.minute_below
    return np.array([100 * float((known & ~bad).sum()) / float(known.sum())])


def _event(
    watch: Watch, subject: str, turn: str, own: tuple[float, Entry], now_ns: int, usual: tuple[float, float]
) -> Event:
    value, former = own
    since = former.standing.raised_ns if turn == "cleared" else former.standing.since_ns
    if turn == RAISED and former.standing.state != "pending":
        since = now_ns
    if watch.rule == ABSENT and turn == RAISED:
        since = former.heard_ns or since
    words = words_of(watch, subject, turn, value, since, now_ns, usual)
    limit = usual[0] if watch.rule == OUTSIDE else watch.limit
    about = former.raised_id if turn == "cleared" else ""
    return Event(now_ns, watch.name, subject, turn, watch.severity, value, limit, watch.unit, words, about=about)
