"""Calls are given to requests and taken from them, with all that is written down of how likely each comes."""

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.kernels import int64, leaf, pasted
from yaffle.tiers.habits import Habits
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.likelihood import by_themselves, gain, refresh, score_all
from yaffle.tiers.state import NOBODY, State, insert, place_before, remove


@pasted
def give(host: HostCalls, habits: Habits, state: State, c: int, k: int) -> None:
    """Puts a call without an owner behind its k-th possible request (a place in owners)."""
    f = host.owners[k].front
    p = place_before(state, f, c)
    insert(state, f, p, c)
    state.calls[c].owner = k
    refresh(host, habits, state, f, p, c)


@pasted
def take(host: HostCalls, habits: Habits, state: State, c: int) -> None:
    """Takes a call that has an owner away from it."""
    f, p = host.owners[state.calls[c].owner].front, state.calls[c].before
    remove(state, f, c)
    state.calls[c].owner = NOBODY
    refresh(host, habits, state, f, p, c)


@leaf
def prepare(host: HostCalls, habits: Habits, state: State, chosen: Int64s) -> None:
    """Writes down what new habits say of the chosen calls, of their possible owners and of what these own now."""
    first, last = int64(host.fronts.size), int64(-1)
    for c in chosen:
        for k in range(host.calls[c].owners, host.calls[c].owners_end):
            state.alone[k] = by_themselves(host, habits, int64(c), k)
            first, last = min(first, host.owners[k].front), max(last, host.owners[k].front)
    for f in range(first, last + 1):
        score_all(host, habits, state, f)


@leaf
def gained_by_kind(host: HostCalls, habits: Habits, state: State, chosen: Int64s, gained: Float64s) -> None:
    """Adds, by kind, how much likelier all is with the chosen calls behind their requests than without any, log."""
    for c in chosen:
        k = state.calls[c].owner
        if k >= 0:
            take(host, habits, state, int64(c))
            more, _ = gain(host, habits, state, host.owners[k].front, int64(c), k)
            give(host, habits, state, int64(c), k)
            gained[host.calls[c].kind] += more


@leaf
def take_kinds(host: HostCalls, habits: Habits, state: State, chosen: Int64s, kinds: Bools) -> None:
    """Takes the chosen calls of some kinds away from their requests. kinds: which, by number."""
    for c in chosen:
        if kinds[host.calls[c].kind] and state.calls[c].owner >= 0:
            take(host, habits, state, int64(c))
