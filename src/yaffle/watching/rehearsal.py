"""What a watch would have told of a time that is over: the same values, limits and states, interval by interval."""

from dataclasses import dataclass

import numpy as np

from yaffle.history.store import History
from yaffle.progress import Progress, go_on, step
from yaffle.watching.bands import Bands, settings_for
from yaffle.watching.event_rows import CLEARED, Event
from yaffle.watching.event_words import words_of
from yaffle.watching.member_values import COUNTED, Question, Values, values
from yaffle.watching.states import BAD, GOOD, RAISED, Standing, after, change
from yaffle.watching.watch import ABSENT, AVAILABLE, FALLING, OUTSIDE, RISING, Watch
from yaffle.watching.windows import Windows

_AT_ONCE = 288


@dataclass(frozen=True)
class Rehearsal:
    """What would have been told, in order; and where each member stands in the end."""

    events: list[Event]
    standings: dict[str, tuple[Standing, float]]

    @property
    def times(self) -> int:
        """How often something would have been raised."""
        return sum(one.state == RAISED for one in self.events)


def rehearse(history: History, watch: Watch, first_ns: int, last_ns: int, progress: Progress = go_on) -> Rehearsal:
    """Every `over` of a period in turn. Raises HistoryError, WhereError, Cancelled."""
    if watch.event or watch.rule == AVAILABLE:
        return Rehearsal([], {})
    run = _Run(watch)
    windows, asked = Windows(history), Question(watch.entry, watch.of, watch.where)
    low, high = first_ns // watch.over_ns, last_ns // watch.over_ns
    for begin in range(low, high, _AT_ONCE):
        count = min(_AT_ONCE, high - begin)
        step(progress, (begin - low) / max(1, high - low), f"trying {watch.name}")
        run.go_on(values(windows, asked, begin * watch.over_ns, watch.over_ns, count), begin)
        windows.forget()
    return Rehearsal(run.events, {s: (standing, run.last.get(s, float("nan"))) for s, standing in run.standing.items()})


class _Run:
    """Members with their standing, interval by interval."""

    def __init__(self, watch: Watch) -> None:
        self._watch = watch
        self._bands: Bands | None = None
        if watch.rule == OUTSIDE:
            self._bands = Bands(watch.limit, settings_for(watch.over_ns), only_above=watch.entry.more_is_worse)
        self._former: dict[str, float] = {}
        self._raised: dict[str, str] = {}
        self.standing: dict[str, Standing] = {}
        self.last: dict[str, float] = {}
        self.events: list[Event] = []

    def go_on(self, found: Values, begin: int) -> None:
        """Takes so many intervals more, the first of which has a number."""
        subjects = [*self.standing, *(s for s in found.of if s not in self.standing)]
        count = found.told.size
        table = np.full((len(subjects), count), np.nan)
        for row, subject in enumerate(subjects):
            if subject in found.of:
                table[row] = found.of[subject]
        if self._watch.entry.name in COUNTED:
            table[np.isnan(table) & found.told] = 0.0
        for k in range(count):
            self._one(subjects, table[:, k], (begin + k) * self._watch.over_ns)

    def _one(self, subjects: list[str], column: "np.ndarray[tuple[int], np.dtype[np.float64]]", at_ns: int) -> None:
        watch, now_ns = self._watch, at_ns + self._watch.over_ns
        judged = self._bands.take(subjects, column, at_ns) if self._bands is not None else None
        for row, subject in enumerate(subjects):
            value = float(column[row])
            if watch.rule in (RISING, FALLING):
                former, self._former[subject] = self._former.get(subject, float("nan")), value
                value = (value - former) * (1 if watch.rule == RISING else -1)
            side, usual = 0, (float("nan"), float("nan"))
            if judged is not None:
                side, usual = int(judged.side[row]), (float(judged.expected[row]), float(judged.deviation[row]))
                value = value if judged.judged[row] else float("nan")
            finding = watch.finding(value, side)
            if watch.rule == ABSENT:
                finding = BAD if value != value else GOOD
            before = self.standing.get(subject, Standing(since_ns=now_ns))
            now = self.standing[subject] = after(before, finding, now_ns, watch.for_ns, watch.clear_ns)
            self.last[subject] = value
            if turn := change(before, now):
                self._tell(subject, turn, value, usual, (before, now), now_ns)

    def _tell(
        self, subject: str, turn: str, value: float, usual: tuple[float, float], states: tuple[Standing, Standing],
        now_ns: int,
    ) -> None:  # fmt: skip
        watch, (before, _) = self._watch, states
        since = before.raised_ns if turn == CLEARED else before.since_ns if before.state == "pending" else now_ns
        words = words_of(watch, subject, turn, value, since, now_ns, usual)
        limit = usual[0] if watch.rule == OUTSIDE else watch.limit
        about = self._raised.get(subject, "") if turn == CLEARED else ""
        event = Event(now_ns, watch.name, subject, turn, watch.severity, value, limit, watch.unit, words, about=about)
        if turn == RAISED:
            self._raised[subject] = event.id
        self.events.append(event)
