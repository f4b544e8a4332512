"""Links of all hosts: each call to the request behind whose answer it lies, with a certainty."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.tiers.assignment import NOBODY, State, exchange_tails, move_runs, no_owners, observe, sweep
from yaffle.tiers.habits import Counts, Habits, habits, no_counts
from yaffle.tiers.hops import Hops
from yaffle.tiers.host_calls import HostCalls, host_calls

SAMPLES = 16  # states that speak for what may be


@dataclass(frozen=True)
class Effort:
    """How long one host's calls are weighed."""

    chains: int  # of states, that begin apart, so that what one of them got stuck in does not look certain
    learning: int  # rounds of learning, from tolerant to strict
    sweeps: int  # between two samples


_FULL = Effort(4, 16, 2)
_SIMPLE = Effort(1, 4, 1)  # where no two requests were ever under way at once


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

    def __init__(self, host: HostCalls, seed: int) -> None:
        self.host = host
        count = host.calls["owners_end"] - host.calls["owners"]
        self.effort = _FULL if count.max(initial=0) > 1 else _SIMPLE
        self.chains = [
            no_owners(host.calls.size, host.fronts.size, seed * _FULL.chains + k) for k in range(self.effort.chains)
        ]
        self.open, self.every = np.flatnonzero(count > 0), np.arange(host.calls.size)
        self.weights = np.empty(int(count.max(initial=0)) + 1)
        self.shares = np.zeros(host.owners.size)
        self.room = np.empty((4, 64), np.int64)
        begin = min(host.calls["sent_ns"].min(), host.fronts["handed_ns"].min())
        self.span_ns = float(max(1, max(host.calls["sent_ns"].max(), host.fronts["done_ns"].max()) - begin))
        self.chance = _same_by_chance(host)

    @property
    def work(self) -> int:
        """How often a possible owner will be weighed."""
        steps = self.effort.chains * self.effort.learning + SAMPLES * self.effort.sweeps
        return self.host.owners.size * steps

    def nothing(self) -> Counts:
        """No observation."""
        return no_counts(*self.host.shape)

    def habits(self, counts: Counts) -> Habits:
        """What the counts say."""
        return habits(counts, self.host, self.span_ns, self.chance)

    def go(self, state: State, learnt: Habits, coldness: float) -> None:
        """One step from state to state."""
        sweep(self.host, learnt, state, self.open, coldness, self.weights, self.shares)
        exchange_tails(self.host, learnt, state, self.open, coldness, self.room)
        move_runs(self.host, learnt, state, self.open, coldness, self.room)

    def learn(self) -> Habits:
        """From nothing to habits: what is seen in the states makes the next likelier."""
        learnt = self.habits(self.nothing())
        for turn in range(self.effort.learning):
            coldness = min(1.0, 0.4 + 1.2 * turn / self.effort.learning)
            counts = self.nothing()
            for state in self.chains:
                self.go(state, learnt, coldness)
                observe(self.host, learnt, state, self.every, counts)
            learnt = self.habits(Counts(*(one / len(self.chains) for one in counts)))
        return learnt

    def samples(self, learnt: Habits) -> Array:
        """The request of each call in each of many states, int32 (SAMPLES, calls); fills `shares`."""
        self.shares[:] = 0.0
        found = np.full((SAMPLES, self.host.calls.size), -1, np.int32)
        for number, one in enumerate(found):
            state = self.chains[number % len(self.chains)]
            for _ in range(self.effort.sweeps):
                self.go(state, learnt, 1.0)
            owner = state.calls["owner"]
            owned = owner != NOBODY
            one[owned] = self.host.fronts["hop"][self.host.owners["front"][owner[owned]]]
        self.shares /= SAMPLES * self.effort.sweeps
        return found


def no_matter(_work: int) -> None:
    """However much is to be done."""


def link(hops: Hops, ready: Callable[[int], None] = no_matter) -> Links:
    """All links of all hosts that answer and ask. `ready` is told how much will be weighed before it is."""
    weighings = []
    for number, host in enumerate(np.intersect1d(hops.client, hops.server).tolist()):
        evidence = host_calls(hops, np.flatnonzero(hops.server == host), np.flatnonzero(hops.client == host))
        if evidence.owners.size:
            weighings.append(_Weighing(evidence, number + 1))
    ready(sum(one.work for one in weighings))
    samples = np.full((SAMPLES, hops.exchange.size), -1, np.int32)
    call, front = (np.empty(0, np.int64) for _ in range(2))
    certainty = np.empty(0)
    for weighing in weighings:
        evidence = weighing.host
        hop, calls = evidence.calls["hop"], evidence.calls
        samples[:, hop] = weighing.samples(weighing.learn())
        call = np.concatenate([call, np.repeat(hop, calls["owners_end"] - calls["owners"])])
        front = np.concatenate([front, evidence.fronts["hop"][evidence.owners["front"]]])
        certainty = np.concatenate([certainty, weighing.shares])
    return Links(call, front, certainty, samples)
