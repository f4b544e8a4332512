"""Pieces of a host's calls that have nothing to do with each other, because in between it owed no answer; and calls
whose owner stands in them.
"""

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.kernels import leaf
from yaffle.tiers.habits import Habits
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.likelihood import by_values
from yaffle.tiers.state import NOBODY, State, insert, place_before, remove

_PIECE = 20_000  # possible owners of a piece's calls, about
# How much likelier than any other, and than nobody, an owner must be by values and identifiers alone, log.
_TELLING, _TELLING_AT_ALL = 14.0, 7.0


def pieces_of(host: HostCalls, calls: Int64s) -> list[Array]:
    """Calls, in their order, in pieces.

    A request that a call of one may lie behind is possible for no call of another.
    """
    begin = host.fronts["handed_ns"]
    quiet = begin[1:] > np.maximum.accumulate(host.fronts["done_ns"])[:-1]
    cuts = np.searchsorted(host.calls["sent_ns"][calls], begin[1:][quiet])
    owners = np.cumsum(host.calls["owners_end"][calls] - host.calls["owners"][calls])
    cuts = cuts[(cuts > 0) & (cuts < calls.size)]
    _, first = np.unique(owners[cuts - 1] // _PIECE, return_index=True)
    return [piece for piece in np.split(calls, np.unique(cuts[first])) if piece.size]


@leaf
def _told(host: HostCalls, habits: Habits, calls: Int64s, places: Int64s) -> None:
    for x in range(calls.size):
        c, best, second = calls[x], -np.inf, -np.inf
        for k in range(host.calls[c].owners, host.calls[c].owners_end):
            told = by_values(host, habits, c, k)
            if told > best:
                best, second, places[x] = told, best, k
            else:
                second = max(second, told)
        if not (best - second > _TELLING and best > _TELLING_AT_ALL):
            places[x] = NOBODY


def told_owners(host: HostCalls, learnt: Habits, calls: Int64s) -> tuple[Int64s, Int64s]:
    """(calls whose owner their values or identifiers tell alone, its place in `host.owners`)."""
    places = np.full(calls.size, NOBODY)
    _told(host, learnt, calls, places)
    return calls[places >= 0], places[places >= 0]


@leaf
def put(host: HostCalls, state: State, calls: Int64s, places: Int64s) -> None:
    """Gives calls their owners, wherever they were. What is written down of how likely they come is no more so then."""
    for k in range(calls.size):
        owner = state.calls[calls[k]].owner
        if owner == places[k]:
            continue
        if owner != NOBODY:
            remove(state, host.owners[owner].front, calls[k])
            state.calls[calls[k]].owner = NOBODY
        front = host.owners[places[k]].front
        insert(state, front, place_before(state, front, calls[k]), calls[k])
        state.calls[calls[k]].owner = places[k]
