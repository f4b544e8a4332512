"""One host's calls while it is weighed which request each lies behind: the evidence, states of it, how likely each
possible owner is.
"""

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s, Int64s2
from yaffle.tiers.habits import Counts, Habits, habits, no_counts
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.pieces import pieces_of
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


_SEEDS = 1 << 20  # of a host: of its chains, and of the pieces of a large one
_FULL = Effort(8, 16, 2)  # the more there is, the fewer chains, down to those of a large host
FULL_CHAINS = _FULL.chains
_SIMPLE = Effort(1, 4, 1)  # where no two requests were ever under way at once
_LARGE = Effort(4, 12, 1)  # where there is much to weigh: learnt from a part of it; the more there is, the fewer chains
_MOST_FULL = 30_000  # possible owners up to which all is weighed again and again
_CHAINS_FROM = 240_000  # possible owners of a host's calls, over all chains that they are learnt from
TRIES = 6  # of swaps from a call on


class Walk(NamedTuple):
    """One chain of states, and room for it."""

    state: State
    shares: Float64s  # how often each possible owner was one, added up
    weights: Float64s2
    room: Int64s2


def _same_by_chance(host: HostCalls) -> Float64s:
    """For each kind of call, how likely another of its service is on the same connection."""
    found = np.zeros(host.shape[1])
    calls = host.calls
    service, place = np.unique(calls["service"], return_inverse=True)
    for number in range(service.size):
        own = place.reshape(-1) == number
        count = np.bincount(calls["connection"][own])
        shares = count[count > 0] / own.sum()
        found[np.bincount(calls["kind"][own]).nonzero()] = np.clip((shares**2).sum(), 0.01, 0.99)
    return found


class Weighing:
    """One host's calls, weighed until it is known what may be."""

    def __init__(self, host: HostCalls, seed: int, watch: Watch) -> None:
        self.host, self._watch, self._seed = host, watch, seed * _SEEDS
        count = host.calls["owners_end"] - host.calls["owners"]
        self._most = int(count.max(initial=0))
        self.large = host.owners.size > _MOST_FULL
        self.effort = _LARGE if self.large else _FULL if self._most > 1 else _SIMPLE
        chains = max(1 if self.large else _LARGE.chains, _CHAINS_FROM // (1 + host.owners.size))
        self.effort = replace(self.effort, chains=min(self.effort.chains, chains))
        self.shares = np.zeros(host.owners.size)
        self.walks = [self.walk(self.nobody(k)) for k in range(self.effort.chains)]
        self.open = np.flatnonzero(count > 0)
        self.pieces = pieces_of(host, self.open) if self.large else [self.open]
        self.found = np.full((SAMPLES, host.calls.size), -1, np.int32)  # the request of each call in each sample, a hop
        self._chance = _same_by_chance(host)

    @property
    def owners_a_call(self) -> float:
        """How many requests a call may lie behind, on average: so many were under way at once."""
        return self.host.owners.size / max(1, self.open.size)

    def seed(self, number: int) -> int:
        """Of the chance of a chain, or of that of a piece or of one of its chains: these count from `FULL_CHAINS`."""
        return self._seed + number

    def nobody(self, number: int) -> State:
        """No call belongs to a request; with chance of its own."""
        return no_owners(self.host.calls.size, self.host.fronts.size, self.host.owners.size, self.seed(number))

    def walk(self, state: State, shares: Float64s | None = None) -> Walk:
        """A chain from this state on."""
        room = np.empty((2, self._most + 1)), np.empty((6, ROOM), np.int64)
        return Walk(state, self.shares if shares is None else shares, *room)

    def weighed(self, calls: Int64s) -> Int64s:
        """Those of some calls that have possible owners."""
        return calls[self.host.calls["owners_end"][calls] > self.host.calls["owners"][calls]]

    def nothing(self) -> Counts:
        """No observation."""
        return no_counts(*self.host.shape)

    def habits(self, counts: Counts, span_ns: float) -> Habits:
        """What the counts say, of calls and requests over this span."""
        return habits(counts, self.host, span_ns, self._chance)

    def go(self, walk: Walk, learnt: Habits, chosen: Int64s, coldness: float) -> None:
        """One step from state to state, by which the chosen calls may get other owners."""
        sweep(self.host, learnt, walk.state, chosen, coldness, TRIES, walk.weights, walk.shares, walk.room)
        self._watch.went(chosen.size * self.host.owners.size // self.open.size)
