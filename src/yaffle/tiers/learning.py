"""The habits of a host, learnt from its calls: what is seen in the states makes the next ones likelier."""

from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s
from yaffle.tiers.habits import Counts, Habits
from yaffle.tiers.observing import observe
from yaffle.tiers.owning import gained_by_kind, prepare, take_kinds
from yaffle.tiers.pieces import put, told_owners
from yaffle.tiers.weighing import FULL_CHAINS, Walk, Weighing

_LEARNT_FROM = 120_000  # possible owners of the calls that a large host is learnt from
_TELLING_FROM = 3  # round of learning from which on what values tell of a large host's calls is taken for sure
_FORMER = 0.5  # how much what former states showed counts beside the last one
_LEFT_FROM = 0.25  # share of the rounds of learning after which kinds of calls may be left to nobody
_ENOUGH = 8  # calls of a kind, to tell whether they belong to requests at all
_MOSTLY = 0.75  # share of a kind's calls that have a request, from which on they belong to requests
_BELONGS = 6.0  # where fewer have one: how much likelier that has to be than that they come at a rate of their own, log


class _Lesson(NamedTuple):
    """What one thread learns from: calls and requests that no other touches, in one chain."""

    walk: Walk
    calls: Int64s
    fronts: Int64s


class _Learner:
    """Learns what one host does, from all its calls or from a part of them."""

    def __init__(self, weighing: Weighing) -> None:
        host = weighing.host
        self._weighing, self._walks, self._rounds = weighing, weighing.walks, weighing.effort.learning
        self._calls, self._fronts = np.arange(host.calls.size), np.arange(host.fronts.size)  # that are learnt from
        if weighing.large:
            self._take_a_part()
        sent, fronts = host.calls["sent_ns"][self._calls], host.fronts[self._fronts]
        begin = min(sent.min(), fronts["handed_ns"].min(initial=sent[0]))
        self._span_ns = float(max(1, max(sent.max(), fronts["done_ns"].max(initial=0)) - begin))

    def _take_a_part(self) -> None:
        """The calls in the middle of all, and the requests that came and were answered meanwhile."""
        host = self._weighing.host
        ends = np.cumsum(host.calls["owners_end"] - host.calls["owners"])
        first, last = np.searchsorted(ends, (ends[-1] - _LEARNT_FROM) // 2 + np.array([0, _LEARNT_FROM]))
        self._calls = np.arange(first, max(first + 1, last))
        begin, end = host.calls["sent_ns"][self._calls[[0, -1]]]
        self._fronts = np.flatnonzero((host.fronts["handed_ns"] >= begin) & (host.fronts["done_ns"] <= end))

    def _lessons(self) -> list[_Lesson]:
        """One a chain; one chain alone of a large host is cut where that owed no answer, for two threads."""
        weighing, host = self._weighing, self._weighing.host
        if not weighing.large or len(self._walks) > 1:
            return [_Lesson(walk, self._calls, self._fronts) for walk in self._walks]
        begins = np.array([piece[0] for piece in weighing.pieces])
        middle = int(begins[np.abs(begins - int(self._calls.mean())).argmin()])
        first = host.owners["front"][host.calls["owners"][middle]]  # None before it is possible from there on.
        earlier, sooner = self._calls < middle, self._fronts < first
        walk = self._walks[0]
        beside = weighing.walk(walk.state.beside(weighing.seed(FULL_CHAINS - 1)))
        return [
            _Lesson(walk, self._calls[earlier], self._fronts[sooner]),
            _Lesson(beside, self._calls[~earlier], self._fronts[~sooner]),
        ]

    def learn(self) -> Habits:
        """From nothing to habits."""
        nothing, lessons = self._weighing.nothing(), self._lessons()
        learnt, held, weight = self._habits(nothing), nothing, 0.0
        with ThreadPoolExecutor(2) as pool:
            each = pool.map if self._weighing.large else map  # Of few calls a thread is not worth its beginning.
            for turn in range(self._rounds):
                weight = _FORMER * weight + len(self._walks)
                list(each(partial(self._take_up, learnt, turn), lessons))
                if turn >= _LEFT_FROM * self._rounds:
                    self._leave(learnt)
                seen = [*each(partial(self._seen, learnt), lessons)]
                held = Counts(*(_FORMER * was + sum(now) for was, *now in zip(held, *seen, strict=True)))
                learnt = self._habits(Counts(*(one / weight for one in held)))
        return learnt

    def _habits(self, counts: Counts) -> Habits:
        return self._weighing.habits(counts, self._span_ns)

    def _take_up(self, learnt: Habits, turn: int, lesson: _Lesson) -> None:
        """One round, from tolerant to strict: calls get owners by what is learnt so far."""
        host, state, chosen = self._weighing.host, lesson.walk.state, self._weighing.weighed(lesson.calls)
        sure = owners = np.empty(0, np.int64)
        if self._weighing.large and turn >= _TELLING_FROM:
            sure, owners = told_owners(host, learnt, chosen)
        put(host, state, sure, owners)
        prepare(host, learnt, state, chosen)
        coldness = min(1.0, 0.4 + 1.2 * turn / self._rounds)
        self._weighing.go(lesson.walk, learnt, np.setdiff1d(chosen, sure, assume_unique=True), coldness)

    def _seen(self, learnt: Habits, lesson: _Lesson) -> Counts:
        """What its state shows."""
        counts = self._weighing.nothing()
        observe(self._weighing.host, learnt, lesson.walk.state, lesson.fronts, lesson.calls, counts)
        return counts

    def _leave(self, learnt: Habits) -> None:
        """Takes kinds of calls from all requests where many have none, and those that have one would come about as well
        at a rate of their own: timers', and those that nobody waits for. One by one they would stay: each makes it
        likelier that the others belong.
        """
        host, chosen = self._weighing.host, self._weighing.weighed(self._calls)
        kind, owned = host.calls["kind"], np.zeros(host.shape[1], np.int64)
        every = np.bincount(kind[self._calls], minlength=owned.size)
        for walk in self._walks:
            owned += np.bincount(kind[chosen[walk.state.calls["owner"][chosen] >= 0]], minlength=owned.size)
        few = (every >= _ENOUGH) & (owned < _MOSTLY * len(self._walks) * every)
        theirs, gained = chosen[few[kind[chosen]]], np.zeros(owned.size)
        if not theirs.size:
            return
        for walk in self._walks:
            gained_by_kind(host, learnt, walk.state, theirs, gained)
        at_a_rate = np.log(np.maximum(1, every) / self._span_ns)
        left = few & (gained < owned * (at_a_rate + _BELONGS))
        for walk in self._walks:
            take_kinds(host, learnt, walk.state, theirs, left)


def learn(weighing: Weighing) -> Habits:
    """What its host does for which request, learnt from nothing."""
    return _Learner(weighing).learn()
