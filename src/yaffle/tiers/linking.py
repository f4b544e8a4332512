"""Links of all hosts: each call to the request behind whose answer it lies, with a certainty."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.tiers.assignment import NOBODY, State, exchange_tails, no_owners, observe, sweep
from yaffle.tiers.habits import Counts, Habits, habits, no_counts
from yaffle.tiers.hops import Hops
from yaffle.tiers.host_calls import HostCalls, host_calls

SAMPLES = 16  # states that speak for what may be
CHAINS = 4
_LEARN = 16  # rounds of learning, from tolerant to strict
_SWEEPS = 2  # between two samples


@dataclass(frozen=True)
class Links:
    """What lies behind what. A link is a pair of hops: the call, and the one behind whose answer it lies."""

    call: Array  # hop
    front: Array  # hop
    certainty: Array  # 0 to 1
    samples: Array  # int32 (SAMPLES, hops): in each state, the hop behind whose answer each lies, or -1


def _same_by_chance(host: HostCalls) -> Array:
    """For each kind of call, how likely another of its service is on the same connection."""
    _, kinds = host.shape
    found = np.zeros(kinds)
    service, place = np.unique(host.service, return_inverse=True)
    for number in range(service.size):
        own = place.reshape(-1) == number
        shares = np.bincount(np.unique(host.connection[own], return_inverse=True)[1].reshape(-1)) / own.sum()
        found[np.unique(host.call_kind[own])] = np.clip((shares**2).sum(), 0.01, 0.99)
    return found


class _Weighing:
    """One host's calls, weighed until it is known what may be: several chains of states that begin apart, so that what
    one of them got stuck in does not look certain.
    """

    def __init__(self, host: HostCalls, seed: int) -> None:
        self.host = host
        self.chains = [no_owners(host.call.size, host.front.size, seed * CHAINS + k) for k in range(CHAINS)]
        count = np.diff(host.owners_at)
        self.open, self.every = np.flatnonzero(count > 0), np.arange(host.call.size)
        self.weights = np.empty(int(count.max(initial=0)) + 1)
        self.shares = np.zeros(host.owners.size)
        self.room = np.empty((4, 64), np.int64)
        ends = (host.sent_ns.min(), host.handed_ns.min(), host.sent_ns.max(), host.done_ns.max())
        self.span_ns = float(max(1, max(ends[2:]) - min(ends[:2])))
        self.chance = _same_by_chance(host)

    def nothing(self) -> Counts:
        """No observation."""
        return no_counts(*self.host.shape, self.host.pair_front.size)

    def habits(self, counts: Counts) -> Habits:
        """What the counts say."""
        return habits(counts, self.host, self.span_ns, self.chance)

    def go(self, state: State, learnt: Habits, coldness: float) -> None:
        """One step from state to state."""
        sweep(self.host, learnt, state, self.open, coldness, self.weights, self.shares)
        exchange_tails(self.host, learnt, state, self.open, coldness, self.room)

    def learn(self) -> Habits:
        """From nothing to habits: what is seen in the states makes the next likelier."""
        learnt = self.habits(self.nothing())
        for turn in range(_LEARN):
            coldness = min(1.0, 0.4 + 0.6 * turn / (_LEARN // 2))
            counts = self.nothing()
            for state in self.chains:
                self.go(state, learnt, coldness)
                observe(self.host, learnt, state, self.every, counts)
            learnt = self.habits(Counts(*(one / CHAINS for one in counts)))
        return learnt

    def samples(self, learnt: Habits) -> Array:
        """The request of each call in each of many states, int32 (SAMPLES, calls); fills `shares`."""
        self.shares[:] = 0.0
        found = np.full((SAMPLES, self.host.call.size), -1, np.int32)
        for number, one in enumerate(found):
            state = self.chains[number % CHAINS]
            for _ in range(_SWEEPS):
                self.go(state, learnt, 1.0)
            owned = state.owner != NOBODY
            one[owned] = self.host.front[self.host.owners[state.owner[owned]]]
        self.shares /= SAMPLES * _SWEEPS
        return found


def link(hops: Hops) -> Links:
    """All links of all hosts that answer and ask."""
    samples = np.full((SAMPLES, hops.exchange.size), -1, np.int32)
    calls, fronts, certainty = [], [], []
    for number, host in enumerate(np.intersect1d(hops.client, hops.server).tolist()):
        evidence = host_calls(hops, np.flatnonzero(hops.server == host), np.flatnonzero(hops.client == host))
        if not evidence.owners.size:
            continue
        weighing = _Weighing(evidence, number + 1)
        samples[:, evidence.call] = weighing.samples(weighing.learn())
        owned = np.repeat(np.arange(evidence.call.size), np.diff(evidence.owners_at))
        calls.append(evidence.call[owned])
        fronts.append(evidence.front[evidence.owners])
        certainty.append(weighing.shares)
    none = np.empty(0, np.int64)
    return Links(
        np.concatenate([none, *calls]), np.concatenate([none, *fronts]), np.concatenate([none, *certainty]), samples
    )
