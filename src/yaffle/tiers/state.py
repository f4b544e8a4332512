"""Who owns which call at one moment of the weighing: a request's calls are a list in order of their beginning."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Float64s, Structs, Uint64s
from yaffle.kernels import pasted, uint64

NOBODY = -1
_SHIFTS = (uint64(13), uint64(7), uint64(17))  # Marsaglia's xorshift generators, 64 bit
_TO_UNIT = 1.0 / 9007199254740992.0
_ELEVEN = uint64(11)

# A call: its place in HostCalls.owners or NOBODY; the calls before and after it of the same request, -1 without; the
# end of what its request waited for last before it; how likely it comes there and then, log.
OWNED = np.dtype([*((name, np.int64) for name in ("owner", "before", "after", "since_ns")), ("score", np.float64)])
OwnedCalls = Structs  # of OWNED
# A request: its first and last call, -1 without; the end of what its answer waited for; how likely it comes then.
OWNING = np.dtype([*((name, np.int64) for name in ("head", "tail", "since_ns")), ("score", np.float64)])
OwningFronts = Structs  # of OWNING


class State(NamedTuple):
    """Who owns which call. A request's calls are a list in order of their beginning."""

    calls: OwnedCalls  # OWNED
    fronts: OwningFronts  # OWNING
    alone: Float64s  # a possible owner: how likely it is by what call and request alone say, log
    random: Uint64s  # (1)

    def beside(self, seed: int) -> "State":
        """The same, with chance of its own: for a walk that touches what no other one does."""
        return self._replace(random=_chance(seed))


def _chance(seed: int) -> Uint64s:
    return np.array([(seed * 2654435761 + 88172645463325252) % 2**64 or 1], np.uint64)


def no_owners(calls: int, fronts: int, owners: int, seed: int) -> State:
    """No call belongs to a request."""
    state = State(np.zeros(calls, OWNED), np.zeros(fronts, OWNING), np.zeros(owners), _chance(seed))
    for name in ("owner", "before", "after"):
        state.calls[name] = NOBODY
    for name in ("head", "tail"):
        state.fronts[name] = NOBODY
    state.calls["since_ns"] = np.iinfo(np.int64).max
    return state


@pasted
def uniform(state: State) -> float:
    """A number between 0 and 1."""
    x = state.random[0]
    x ^= x << _SHIFTS[0]
    x ^= x >> _SHIFTS[1]
    x ^= x << _SHIFTS[2]
    state.random[0] = x
    return np.float64(x >> _ELEVEN) * _TO_UNIT


@pasted
def place_before(state: State, f: int, c: int) -> int:
    """The last call of a request before a call, -1 where there is none."""
    p = state.fronts[f].tail
    while p > c:
        p = state.calls[p].before
    return p


@pasted
def insert(state: State, f: int, p: int, c: int) -> None:
    """Puts a call behind the call `p` of a request."""
    n = state.calls[p].after if p >= 0 else state.fronts[f].head
    state.calls[c].before, state.calls[c].after = p, n
    if p >= 0:
        state.calls[p].after = c
    else:
        state.fronts[f].head = c
    if n >= 0:
        state.calls[n].before = c
    else:
        state.fronts[f].tail = c


@pasted
def remove(state: State, f: int, c: int) -> None:
    """Takes a call out of a request."""
    p, n = state.calls[c].before, state.calls[c].after
    if p >= 0:
        state.calls[p].after = n
    else:
        state.fronts[f].head = n
    if n >= 0:
        state.calls[n].before = p
    else:
        state.fronts[f].tail = p
    state.calls[c].before = state.calls[c].after = -1
