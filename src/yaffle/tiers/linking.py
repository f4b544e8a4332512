"""Links of all hosts: each call to the request behind whose answer it lies, with a certainty."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.tiers.habits import Counts, Habits, habits, no_counts
from yaffle.tiers.hops import Hops
from yaffle.tiers.host_calls import HostCalls, host_calls
from yaffle.tiers.observing import observe
from yaffle.tiers.state import NOBODY, State, no_owners
from yaffle.tiers.swaps import exchange_tails, move_runs
from yaffle.tiers.sweeps import sweep
from yaffle.tiers.watch import Watch

SAMPLES = 16  # states that speak for what may be
_EXCHANGES = 3  # tries a call in each step; they cost less than a sweep and find more


@dataclass(frozen=True)
class Effort:
    """How long one host's calls are weighed."""

    chains: int  # of states, that begin apart, so that what one of them got stuck in does not look certain
    learning: int  # rounds of learning, from tolerant to strict
    sweeps: int  # between two samples


_FULL = Effort(4, 16, 2)
_SIMPLE = Effort(1, 4, 1)  # where no two requests were ever under way at once
_LARGE = Effort(1, 12, 1)  # where there is much to weigh: learnt from a part of it
_MOST_FULL = 100_000  # possible owners up to which all is weighed again and again
_LEARNT_FROM = 25_000  # possible owners of the calls that are learnt from, of a large host
# Steps by which a large host's calls find their owners, and that then tell who is certain.
_SETTLING, _SETTLED = 2, 3
_CERTAIN = 0.999  # calls of a large host whose owner is as likely are not weighed again


@dataclass(frozen=True)
class Links:
    """What lies behind what. A link is a pair of hops: the call, and the one behind whose answer it lies."""

    call: Array  # hop
    front: Array  # hop
    certainty: Array  # 0 to 1
    samples: Array  # int32 (SAMPLES, hops): in each state, the hop behind whose answer each lies, or -1


def _same_by_chance(host: HostCalls) -> Array:
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


class _Weighing:
    """One host's calls, weighed until it is known what may be."""

    def __init__(self, host: HostCalls, seed: int, watch: Watch) -> None:
        self.host, self._watch = host, watch
        count = host.calls["owners_end"] - host.calls["owners"]
        large = host.owners.size > _MOST_FULL
        self.effort = _LARGE if large else _FULL if count.max(initial=0) > 1 else _SIMPLE
        self.chains = [
            no_owners(host.calls.size, host.fronts.size, seed * _FULL.chains + k) for k in range(self.effort.chains)
        ]
        self.open = np.flatnonzero(count > 0)
        self.calls, self.fronts = np.arange(host.calls.size), np.arange(host.fronts.size)  # that are learnt from
        if large:
            self._learn_from_a_part()
        self.weights = np.empty(int(count.max(initial=0)) + 1)
        self.shares = np.zeros(host.owners.size)
        self.room = np.empty((4, 64), np.int64)
        begin = min(host.calls["sent_ns"].min(), host.fronts["handed_ns"].min())
        self.span_ns = float(max(1, max(host.calls["sent_ns"].max(), host.fronts["done_ns"].max()) - begin))
        self.chance = _same_by_chance(host)

    def _learn_from_a_part(self) -> None:
        """From the calls in the middle of all, and the requests that came and were answered meanwhile."""
        ends = np.cumsum(self.host.calls["owners_end"] - self.host.calls["owners"])
        first, last = np.searchsorted(ends, (ends[-1] - _LEARNT_FROM) // 2 + np.array([0, _LEARNT_FROM]))
        self.calls = np.arange(first, max(first + 1, last))
        begin, end = self.host.calls["sent_ns"][self.calls[[0, -1]]]
        fronts = self.host.fronts
        self.fronts = np.flatnonzero((fronts["handed_ns"] >= begin) & (fronts["done_ns"] <= end))

    @property
    def work(self) -> int:
        """How often a possible owner will be weighed."""
        steps = self.effort.chains * self.effort.learning + SAMPLES * self.effort.sweeps + _SETTLING + _SETTLED
        return self.host.owners.size * steps

    def nothing(self) -> Counts:
        """No observation."""
        return no_counts(*self.host.shape)

    def habits(self, counts: Counts) -> Habits:
        """What the counts say."""
        return habits(counts, self.host, self.span_ns, self.chance)

    def go(self, state: State, learnt: Habits, chosen: Array, coldness: float) -> None:
        """One step from state to state, by which the chosen calls may get other owners."""
        sweep(self.host, learnt, state, chosen, coldness, self.weights, self.shares)
        self._watch.went(chosen.size * self.host.owners.size // self.open.size)
        for _ in range(_EXCHANGES):
            exchange_tails(self.host, learnt, state, chosen, coldness, self.room)
        move_runs(self.host, learnt, state, chosen, coldness, self.room)

    def learn(self) -> Habits:
        """From nothing to habits: what is seen in the states makes the next likelier."""
        learnt, chosen = self.habits(self.nothing()), np.intersect1d(self.calls, self.open)
        for turn in range(self.effort.learning):
            coldness = min(1.0, 0.4 + 1.2 * turn / self.effort.learning)
            counts = self.nothing()
            for state in self.chains:
                self.go(state, learnt, chosen, coldness)
                observe(self.host, learnt, state, self.fronts, self.calls, counts)
            learnt = self.habits(Counts(*(one / len(self.chains) for one in counts)))
        return learnt

    def samples(self, learnt: Habits) -> Array:
        """The request of each call in each of many states, int32 (SAMPLES, calls); fills `shares`."""
        found = np.full((SAMPLES, self.host.calls.size), -1, np.int32)
        chosen = self._in_doubt(learnt) if self.effort is _LARGE else self.open
        settled = self.shares.copy()
        self.shares[:] = 0.0
        for number, one in enumerate(found):
            state = self.chains[number % len(self.chains)]
            for _ in range(self.effort.sweeps):
                self.go(state, learnt, chosen, 1.0)
            owner = state.calls["owner"]
            owned = owner != NOBODY
            one[owned] = self.host.fronts["hop"][self.host.owners["front"][owner[owned]]]
        self.shares /= SAMPLES * self.effort.sweeps
        if chosen is not self.open:
            weighed = np.zeros(self.host.calls.size, bool)
            weighed[chosen] = True
            count = self.host.calls["owners_end"] - self.host.calls["owners"]
            self.shares = np.where(np.repeat(weighed, count), self.shares, settled)
        return found

    def _in_doubt(self, learnt: Habits) -> Array:
        """Weighs all calls a few times, in one chain: those whose owner is not certain then. `shares` are of the last
        of these times.
        """
        for turn in range(_SETTLING + _SETTLED):
            if turn == _SETTLING:
                self.shares[:] = 0.0
            self.go(self.chains[0], learnt, self.open, 1.0)
        self.shares /= _SETTLED
        calls = self.host.calls[self.open]
        most = np.maximum.reduceat(self.shares, calls["owners"])
        nobody = 1.0 - np.add.reduceat(self.shares, calls["owners"])
        return np.asarray(self.open[np.maximum(most, nobody) < _CERTAIN])


def link(hops: Hops, watch: Watch | None = None) -> Links:
    """All links of all hosts that answer and ask."""
    watch = watch or Watch()
    weighings = []
    for number, host in enumerate(np.intersect1d(hops.client, hops.server).tolist()):
        evidence = host_calls(hops, np.flatnonzero(hops.server == host), np.flatnonzero(hops.client == host))
        if evidence.owners.size:
            weighings.append(_Weighing(evidence, number + 1, watch))
    watch.begin(sum(one.work for one in weighings))
    samples = np.full((SAMPLES, hops.exchange.size), -1, np.int32)
    call, front = (np.empty(0, np.int64) for _ in range(2))
    certainty = np.empty(0)
    with ThreadPoolExecutor(2) as pool:
        states = list(pool.map(lambda one: one.samples(one.learn()), weighings))
    for weighing, found in zip(weighings, states, strict=True):
        evidence = weighing.host
        hop, calls = evidence.calls["hop"], evidence.calls
        samples[:, hop] = found
        call = np.concatenate([call, np.repeat(hop, calls["owners_end"] - calls["owners"])])
        front = np.concatenate([front, evidence.fronts["hop"][evidence.owners["front"]]])
        certainty = np.concatenate([certainty, weighing.shares])
    return Links(call, front, certainty, samples)
