"""Steps between sweeps: what follows in two requests is exchanged, or a run of calls moves (Metropolis), because no
single
call leads from one good state to the next.
"""

import numpy as np

from yaffle.kernels import leaf, pasted
from yaffle.tiers.likelihood import LOOK_BACK, after
from yaffle.tiers.state import place_before, remove, uniform
from yaffle.tiers.sweeps import give

_LONGEST_TAIL = 16  # calls that are exchanged at once


@pasted
def _owner_place(host, c, f):  # type: ignore[no-untyped-def]
    """The place of a request among the possible owners of a call, -1 where it is none."""
    for k in range(host.calls[c].owners, host.calls[c].owners_end):
        if host.owners[k].front == f:
            return k
    return -1


@pasted
def _another(host, state, c):  # type: ignore[no-untyped-def]
    """One of the possible requests of a call, by chance."""
    low, count = host.calls[c].owners, host.calls[c].owners_end - host.calls[c].owners
    return host.owners[low + min(count - 1, int(uniform(state) * count))].front


@pasted
def _front_of(host, state, c):  # type: ignore[no-untyped-def]
    """The request of a call that has one."""
    return host.owners[state.calls[c].owner].front


@pasted
def _tail_from(host, state, f, first, other, calls, places):  # type: ignore[no-untyped-def]
    """Calls of a request from one on, and their places with the other request; -1 where one cannot be there."""
    count, n = 0, state.fronts[f].tail
    while n >= first:
        if count == _LONGEST_TAIL:
            return -1
        place = _owner_place(host, n, other)
        if place < 0:
            return -1
        calls[count], places[count] = n, place
        count += 1
        n = state.calls[n].before
    return count


@pasted
def _score_from(host, habits, state, f, first):  # type: ignore[no-untyped-def]
    return after(host, habits, state, f, place_before(state, f, first - 1), _LONGEST_TAIL + LOOK_BACK)


@leaf
def _move(host, state, calls, places, count, calls_too, places_too, count_too):  # type: ignore[no-untyped-def]
    """Takes calls out of their requests, and puts them behind others."""
    for k in range(count):
        remove(state, _front_of(host, state, calls[k]), calls[k])
    for k in range(count_too):
        remove(state, _front_of(host, state, calls_too[k]), calls_too[k])
    for k in range(count):
        give(host, state, calls[k], places[k])
    for k in range(count_too):
        give(host, state, calls_too[k], places_too[k])


@leaf
def exchange_tails(host, habits, state, chosen, coldness, room):  # type: ignore[no-untyped-def]
    """Exchanges what two requests do from one of the chosen calls on, where that is likely (Metropolis)."""
    for c in chosen:
        owner = state.calls[c].owner
        if owner < 0 or host.calls[c].owners_end - host.calls[c].owners < 2:
            continue
        f, g = host.owners[owner].front, _another(host, state, c)
        if f == g:
            continue
        mine = _tail_from(host, state, f, c, g, room[0], room[1])
        others = _tail_from(host, state, g, c, f, room[2], room[3]) if mine >= 0 else -1
        if others < 0:
            continue
        now = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        _move(host, state, room[0], room[1], mine, room[2], room[3], others)
        then = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        if then < now and uniform(state) >= np.exp((then - now) * coldness):
            for k in range(mine):
                room[1, k] = _owner_place(host, room[0, k], f)
            for k in range(others):
                room[3, k] = _owner_place(host, room[2, k], g)
            _move(host, state, room[0], room[1], mine, room[2], room[3], others)


@pasted
def _run_from(host, state, first, other, length, calls, places, back):  # type: ignore[no-untyped-def]
    """So many calls of a request from one on, their places with another request and with their own; -1 where one
    cannot be there.
    """
    count, n = 0, first
    while n >= 0 and count < length:
        place = _owner_place(host, n, other)
        if place < 0:
            return -1
        calls[count], places[count], back[count] = n, place, state.calls[n].owner
        count += 1
        n = state.calls[n].after
    return count


@leaf
def move_runs(host, habits, state, chosen, coldness, room):  # type: ignore[no-untyped-def]
    """Moves a few calls that follow one another from one request to another, where that is likely (Metropolis): one of
    them alone would fit nowhere.
    """
    for c in chosen:
        owner = state.calls[c].owner
        if owner < 0 or host.calls[c].owners_end - host.calls[c].owners < 2:
            continue
        f, g = host.owners[owner].front, _another(host, state, c)
        if f == g:
            continue
        length = 2 + int(uniform(state) * 3)
        many = _run_from(host, state, c, g, length, room[0], room[1], room[2])
        if many < 2:
            continue
        now = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        _move(host, state, room[0], room[1], many, room[0], room[1], 0)
        then = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        if then < now and uniform(state) >= np.exp((then - now) * coldness):
            _move(host, state, room[0], room[2], many, room[0], room[2], 0)
