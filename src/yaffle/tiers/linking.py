"""Links of all hosts: each call to the request behind whose answer it lies, with a certainty."""

from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import astuple, dataclass, replace
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Bools, Float64s, Float64s2, Int32s2, Int64s, Int64s2
from yaffle.tiers.habits import Counts, Habits, habits, no_counts
from yaffle.tiers.hops import Hops
from yaffle.tiers.host_calls import HostCalls, host_calls
from yaffle.tiers.observing import note_owners, observe
from yaffle.tiers.owning import gained_by_kind, prepare, take_kinds
from yaffle.tiers.pieces import pieces_of, put, told_owners
from yaffle.tiers.state import State, no_owners
from yaffle.tiers.swaps import ROOM
from yaffle.tiers.sweeps import sweep
from yaffle.tiers.watch import Watch

SAMPLES = 16  # states that speak for what may be


@dataclass(frozen=True)
class Effort:
    """How long one host's calls are weighed."""

    chains: int  # of states, that begin apart, so that what one of them got stuck in does not look certain
    learning: int  # rounds of learning, from tolerant to strict
    sweeps: int  # between two samples


@dataclass(frozen=True)
class Steps:
    """How the calls of a piece of a large host find their owners."""

    settling: int  # steps from tolerant to strict
    settled: int  # steps that then tell who is certain
    tries: int  # of swaps from a call on


_SEEDS = 1 << 20  # of a host: of its chains, and of the pieces of a large one
_FULL = Effort(8, 16, 2)  # the more there is, the fewer chains, down to those of a large host
_SIMPLE = Effort(1, 4, 1)  # where no two requests were ever under way at once
_LARGE = Effort(4, 12, 1)  # where there is much to weigh: learnt from a part of it; the more there is, the fewer chains
_MOST_FULL = 30_000  # possible owners up to which all is weighed again and again
_LEARNT_FROM = 240_000  # possible owners of the calls that a host is learnt from, over all chains
_TELLING_FROM = 3  # round of learning from which on what values tell of a large host's calls is taken for sure
_FORMER = 0.5  # how much what former states showed counts beside the last one
_TRIES = 6  # of swaps from a call on
_FEW_AT_ONCE, _MANY_AT_ONCE = 4.0, 16.0  # requests under way, at which a call's steps are as follow
_LIGHT, _HEAVY = (Steps(2, 3, 2), Steps(10, 12, _TRIES)), (Steps(4, 10, _TRIES), Steps(10, 12, _TRIES))
_HARD = 0.08  # share of a piece's calls that are doubtful after light steps, above which heavy ones follow
_LEFT_FROM = 0.25  # share of the rounds of learning after which kinds of calls may be left to nobody
_ENOUGH = 8  # calls of a kind, to tell whether they belong to requests at all
_MOSTLY = 0.75  # share of a kind's calls that have a request, from which on they belong to requests
_BELONGS = 6.0  # where fewer have one: how much likelier that has to be than that they come at a rate of their own, log
_HARDEST = 0.25  # the same after heavy ones, above which several chains follow
_APART = 4  # chains of a piece of which much is doubtful
_COLD = 0.4  # how strict the first step is
_NOTHING = 1e-4  # certainty up to which a link is none
_CERTAIN = 0.999  # calls of a large host whose owner is as likely are not weighed again


@dataclass(frozen=True)
class Links:
    """What lies behind what. A link is a pair of hops: the call, and the one behind whose answer it lies."""

    call: Int64s  # hop
    front: Int64s  # hop
    certainty: Float64s  # 0 to 1
    samples: Int32s2  # (SAMPLES, hops): in each state, the hop behind whose answer each lies, or -1


def _same_by_chance(host: HostCalls) -> Float64s:
    """For each kind of call, how likely another of its service is on the same connection."""
    found = np.zeros(host.shape[1])
    calls = host.calls
    service, place = np.unique(calls["service"], return_inverse=True)
    for number in range(service.size):
        own = place.reshape(-1) == number
        _, count = np.unique(calls["connection"][own], return_counts=True)
        shares = count / own.sum()
        found[np.unique(calls["kind"][own])] = np.clip((shares**2).sum(), 0.01, 0.99)
    return found


class _Walk(NamedTuple):
    """One chain of states, and room for it."""

    state: State
    weights: Float64s2
    room: Int64s2


class _Weighing:
    """One host's calls, weighed until it is known what may be."""

    def __init__(self, host: HostCalls, seed: int, watch: Watch) -> None:
        self.host, self._watch, self._seed = host, watch, seed * _SEEDS
        count = host.calls["owners_end"] - host.calls["owners"]
        self.large = host.owners.size > _MOST_FULL
        self.effort = _LARGE if self.large else _FULL if count.max(initial=0) > 1 else _SIMPLE
        chains = max(1 if self.large else _LARGE.chains, _LEARNT_FROM // (1 + host.owners.size))
        self.effort = replace(self.effort, chains=min(self.effort.chains, chains))
        self._most = int(count.max(initial=0))
        self.walks = [
            self._walk(no_owners(host.calls.size, host.fronts.size, host.owners.size, self._seed + k))
            for k in range(self.effort.chains)
        ]
        self.open = np.flatnonzero(count > 0)
        self.pieces = pieces_of(host, self.open) if self.large else [self.open]
        self.calls, self.fronts = np.arange(host.calls.size), np.arange(host.fronts.size)  # that are learnt from
        if self.large:
            self._learn_from_a_part()
        self.shares = np.zeros(host.owners.size)
        self.found = np.full((SAMPLES, host.calls.size), -1, np.int32)  # the request of each call in each sample, a hop
        sent, fronts = host.calls["sent_ns"][self.calls], host.fronts[self.fronts]
        begin = min(sent.min(), fronts["handed_ns"].min(initial=sent[0]))
        self.span_ns = float(max(1, max(sent.max(), fronts["done_ns"].max(initial=0)) - begin))
        self.chance = _same_by_chance(host)

    def _walk(self, state: State) -> _Walk:
        return _Walk(state, np.empty((2, self._most + 1)), np.empty((6, ROOM), np.int64))

    def _learn_from_a_part(self) -> None:
        """From the calls in the middle of all, and the requests that came and were answered meanwhile."""
        ends = np.cumsum(self.host.calls["owners_end"] - self.host.calls["owners"])
        first, last = np.searchsorted(ends, (ends[-1] - _LEARNT_FROM) // 2 + np.array([0, _LEARNT_FROM]))
        self.calls = np.arange(first, max(first + 1, last))
        begin, end = self.host.calls["sent_ns"][self.calls[[0, -1]]]
        fronts = self.host.fronts
        self.fronts = np.flatnonzero((fronts["handed_ns"] >= begin) & (fronts["done_ns"] <= end))

    def _by_crowd(self, few: Steps, many: Steps) -> Steps:
        """Between these, the more the more requests were under way at once."""
        crowd = (self.host.owners.size / max(1, self.open.size) - _FEW_AT_ONCE) / (_MANY_AT_ONCE - _FEW_AT_ONCE)
        crowd = min(1.0, max(0.0, crowd))
        return Steps(*(round(a + crowd * (b - a)) for a, b in zip(astuple(few), astuple(many), strict=True)))

    @property
    def work(self) -> int:
        """How often a possible owner will be weighed."""
        steps = self.effort.chains * self.effort.learning + SAMPLES * self.effort.sweeps
        if self.large:
            light = self._by_crowd(*_LIGHT)
            steps += light.settling + light.settled
        return self.host.owners.size * steps

    def nothing(self) -> Counts:
        """No observation."""
        return no_counts(*self.host.shape)

    def habits(self, counts: Counts) -> Habits:
        """What the counts say."""
        return habits(counts, self.host, self.span_ns, self.chance)

    def go(self, walk: _Walk, learnt: Habits, chosen: Int64s, coldness: float, tries: int = _TRIES) -> None:
        """One step from state to state, by which the chosen calls may get other owners."""
        state, weights, room = walk
        sweep(self.host, learnt, state, chosen, coldness, tries, weights, self.shares, room)
        self._watch.went(chosen.size * self.host.owners.size // self.open.size)

    def learn(self) -> Habits:
        """From nothing to habits: what is seen in the states makes the next likelier."""
        learnt, held = self.habits(self.nothing()), self.nothing()
        chosen = self.calls[self.host.calls["owners_end"][self.calls] > self.host.calls["owners"][self.calls]]
        weight = 0.0
        for turn in range(self.effort.learning):
            coldness = min(1.0, 0.4 + 1.2 * turn / self.effort.learning)
            counts, weight = Counts(*(_FORMER * one for one in held)), _FORMER * weight + len(self.walks)
            sure = owners = np.empty(0, np.int64)
            if self.large and turn >= _TELLING_FROM:
                sure, owners = told_owners(self.host, learnt, chosen)
            weighed = np.setdiff1d(chosen, sure, assume_unique=True)
            for walk in self.walks:
                put(self.host, walk.state, sure, owners)
                prepare(self.host, learnt, walk.state, chosen)
                self.go(walk, learnt, weighed, coldness)
            if turn >= _LEFT_FROM * self.effort.learning:
                self._leave(learnt, chosen)
            for walk in self.walks:
                observe(self.host, learnt, walk.state, self.fronts, self.calls, counts)
            learnt, held = self.habits(Counts(*(one / weight for one in counts))), counts
        return learnt

    def _leave(self, learnt: Habits, chosen: Int64s) -> None:
        """Takes kinds of calls from all requests where many have none, and those that have one would come about as well
        at a rate of their own: timers', and those that nobody waits for. One by one they would stay: each makes it
        likelier that the others belong.
        """
        kind, owned = self.host.calls["kind"], np.zeros(self.host.shape[1], np.int64)
        every = np.bincount(kind[self.calls], minlength=owned.size)
        for walk in self.walks:
            owned += np.bincount(kind[chosen[walk.state.calls["owner"][chosen] >= 0]], minlength=owned.size)
        few = (every >= _ENOUGH) & (owned < _MOSTLY * len(self.walks) * every)
        theirs, gained = chosen[few[kind[chosen]]], np.zeros(owned.size)
        if not theirs.size:
            return
        for walk in self.walks:
            gained_by_kind(self.host, learnt, walk.state, theirs, gained)
        at_a_rate = np.log(np.maximum(1, every) / self.span_ns)
        left = few & (gained < owned * (at_a_rate + _BELONGS))
        for walk in self.walks:
            take_kinds(self.host, learnt, walk.state, theirs, left)

    def sample(self, learnt: Habits) -> None:
        """Fills `found` and `shares`: all calls in several chains."""
        self.shares[:] = 0.0
        for walk in self.walks:
            prepare(self.host, learnt, walk.state, self.open)
        self._draw(learnt, self.walks, self.open, self.open, _TRIES)
        self.shares /= SAMPLES * self.effort.sweeps

    def sample_piece(self, learnt: Habits, number: int) -> None:
        """Fills `found` and `shares` of a piece: what values tell is taken for sure, the rest weighed a few times in
        one chain, and drawn where it is not certain then; where much is not, in several chains one after another.
        Pieces may be drawn at once: none touches what another reads.
        """
        every = self.pieces[number]
        state = self.walks[0].state
        walk = self._walk(state.beside(self._seed + _FULL.chains + number))
        sure, owners = told_owners(self.host, learnt, every)
        put(self.host, state, sure, owners)
        prepare(self.host, learnt, state, every)
        chosen = np.setdiff1d(every, sure, assume_unique=True)
        place = slice(self.host.calls["owners"][every[0]], self.host.calls["owners_end"][every[-1]])
        steps = self._by_crowd(*_LIGHT)
        doubtful = self._settle(learnt, walk, chosen, place, steps)
        if doubtful.sum() > _HARD * chosen.size:
            steps = self._by_crowd(*_HEAVY)
            doubtful = self._settle(learnt, walk, chosen, place, steps)
        if doubtful.sum() > _HARDEST * chosen.size:
            self._draw_apart(learnt, walk, every, chosen, place)
            self.shares[owners] = 1.0
            return
        self.shares[owners] = 1.0
        chosen = chosen[doubtful]
        low, high = self.host.calls["owners"][chosen], self.host.calls["owners_end"][chosen]
        again = np.repeat(low - np.cumsum(high - low) + high - low, high - low) + np.arange(int((high - low).sum()))
        self.shares[again] = 0.0
        self._draw(learnt, [walk], every, chosen, steps.tries)
        self.shares[again] /= SAMPLES * self.effort.sweeps

    def _settle(self, learnt: Habits, walk: _Walk, chosen: Int64s, place: slice, steps: Steps) -> Bools:
        """Has calls find their owners, and fills `shares` at their place. Which of them are doubtful then."""
        for turn in range(steps.settling + steps.settled):
            if turn in (0, steps.settling):
                self.shares[place] = 0.0
            coldness = min(1.0, _COLD + (1.0 - _COLD) * turn / (steps.settling - 1))
            self.go(walk, learnt, chosen, coldness, steps.tries)
        self.shares[place] /= steps.settled
        return self._doubtful(chosen)

    def _draw_apart(self, learnt: Habits, walk: _Walk, every: Int64s, chosen: Int64s, place: slice) -> None:
        """Has calls find their owners several times from none, so that what one of the states got stuck in does not
        look certain, and draws from each.
        """
        steps, drawn = self._by_crowd(*_HEAVY), np.zeros(place.stop - place.start)
        for some in np.array_split(np.arange(SAMPLES), _APART):
            take_kinds(self.host, learnt, walk.state, chosen, np.ones(self.host.shape[1], bool))
            self._settle(learnt, walk, chosen, place, steps)
            self.shares[place] = 0.0
            self._draw(learnt, [walk], every, chosen, steps.tries, some)
            drawn += self.shares[place]
        self.shares[place] = drawn / (SAMPLES * self.effort.sweeps)

    def _draw(
        self,
        learnt: Habits,
        walks: list[_Walk],
        every: Int64s,
        chosen: Int64s,
        tries: int,
        numbers: Int64s = np.arange(SAMPLES),
    ) -> None:
        for number in numbers.tolist():
            walk = walks[number % len(walks)]
            for _ in range(self.effort.sweeps if chosen.size else 0):
                self.go(walk, learnt, chosen, 1.0, tries)
            note_owners(self.host, walk.state, every, self.found[number])

    def _doubtful(self, calls: Int64s) -> Bools:
        """Of which calls the owner is not certain, by `shares`."""
        if not calls.size:
            return np.empty(0, bool)
        low, high = self.host.calls["owners"][calls], self.host.calls["owners_end"][calls]
        at = np.stack([low, high], axis=1).reshape(-1) - low[0]
        shares = np.append(self.shares[low[0] : high[-1]], 0.0)
        most, total = np.maximum.reduceat(shares, at)[::2], np.add.reduceat(shares, at)[::2]
        return np.asarray(np.maximum(most, 1.0 - total) < _CERTAIN)


def _weighings(hops: Hops, watch: Watch, pool: ThreadPoolExecutor) -> list[_Weighing]:
    """One for each host that owed answers while it asked others."""
    count = 1 + max(hops.client.max(initial=-1), hops.server.max(initial=-1))
    both = np.bincount(hops.client, minlength=count) * np.bincount(hops.server, minlength=count)

    def weighing(number: int, host: int) -> _Weighing | None:
        evidence = host_calls(hops, np.flatnonzero(hops.server == host), np.flatnonzero(hops.client == host))
        return _Weighing(evidence, number + 1, watch) if evidence.owners.size else None

    hosts = np.flatnonzero(both).tolist()
    return [one for one in pool.map(weighing, range(len(hosts)), hosts) if one is not None]


def link(hops: Hops, watch: Watch | None = None) -> Links:
    """All links of all hosts that answer and ask."""
    watch = watch or Watch()
    with ThreadPoolExecutor(2) as pool:
        weighings = _weighings(hops, watch, pool)
        watch.begin(sum(one.work for one in weighings))
        learning = {pool.submit(weighing.learn): weighing for weighing in weighings}
        drawn = []
        for learnt in as_completed(learning):  # What is learnt first is drawn while others are learnt.
            weighing, habit = learning[learnt], learnt.result()
            if weighing.large:
                pieces = range(len(weighing.pieces))
                drawn += [pool.submit(weighing.sample_piece, habit, number) for number in pieces]
            else:
                drawn.append(pool.submit(weighing.sample, habit))
        for one in drawn:
            one.result()
    samples = np.full((SAMPLES, hops.exchange.size), -1, np.int32)
    found = []
    for weighing in weighings:
        host, calls = weighing.host, weighing.host.calls
        samples[:, calls["hop"]] = weighing.found
        likely = np.flatnonzero(weighing.shares > _NOTHING)
        call = np.searchsorted(calls["owners_end"], likely, "right")
        found.append((calls["hop"][call], host.fronts["hop"][host.owners["front"][likely]], weighing.shares[likely]))
    none = np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0)
    call, front, certainty = (np.concatenate(columns) for columns in zip(none, *found, strict=True))
    return Links(call, front, certainty, samples)
