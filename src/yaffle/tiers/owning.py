"""Calls are given to requests and taken from them, with all that is written down of how likely each comes."""

import numpy as np

from yaffle.kernels import leaf, pasted
from yaffle.tiers.likelihood import by_themselves, refresh, score_all
from yaffle.tiers.state import NOBODY, insert, place_before, remove


@pasted
def give(host, habits, state, c, k):  # type: ignore[no-untyped-def]
    """Puts a call without an owner behind its k-th possible request (a place in owners)."""
    f = host.owners[k].front
    p = place_before(state, f, c)
    insert(state, f, p, c)
    state.calls[c].owner = k
    refresh(host, habits, state, f, p, c)


@pasted
def take(host, habits, state, c):  # type: ignore[no-untyped-def]
    """Takes a call that has an owner away from it."""
    f, p = host.owners[state.calls[c].owner].front, state.calls[c].before
    remove(state, f, c)
    state.calls[c].owner = NOBODY
    refresh(host, habits, state, f, p, c)


@leaf
def prepare(host, habits, state, chosen):  # type: ignore[no-untyped-def]
    """Writes down what new habits say of the chosen calls, of their possible owners and of what these own now."""
    first, last = np.int64(host.fronts.size), np.int64(-1)
    for c in chosen:
        for k in range(host.calls[c].owners, host.calls[c].owners_end):
            state.alone[k] = by_themselves(host, habits, c, k)
            first, last = min(first, host.owners[k].front), max(last, host.owners[k].front)
    for f in range(first, last + 1):
        score_all(host, habits, state, f)
