"""A sweep takes the calls of a host one by one and gives each an owner anew, by how likely the whole is with it (Gibbs
sampling).
"""

import numpy as np

from yaffle.kernels import leaf, pasted
from yaffle.tiers.likelihood import gain, refresh
from yaffle.tiers.state import NOBODY, insert, place_before, remove, uniform


@pasted
def give(host, state, c, k):  # type: ignore[no-untyped-def]
    """Puts a call without an owner behind its k-th possible request (a place in owners)."""
    f = host.owners[k].front
    p = place_before(state, f, c)
    insert(state, f, p, c)
    state.calls[c].owner = k
    refresh(host, state, f, p)


@pasted
def _weigh(host, habits, state, c, weights):  # type: ignore[no-untyped-def]
    """Fills the weights of a call's possible owners, nobody last; the call has no owner then."""
    low, high = host.calls[c].owners, host.calls[c].owners_end
    if state.calls[c].owner >= 0:
        f, p = host.owners[state.calls[c].owner].front, state.calls[c].before
        remove(state, f, c)
        state.calls[c].owner = NOBODY
        refresh(host, state, f, p)
    for k in range(low, high):
        weights[k - low] = gain(host, habits, state, host.owners[k].front, c, k)
    weights[high - low] = habits.unowned[host.calls[c].kind]
    return high - low + 1


@pasted
def _to_shares(weights, count, coldness):  # type: ignore[no-untyped-def]
    """Logarithms to shares of 1."""
    most, total = weights[0], 0.0
    for k in range(1, count):
        most = max(most, weights[k])
    for k in range(count):
        weights[k] = np.exp((weights[k] - most) * coldness)
        total += weights[k]
    for k in range(count):
        weights[k] /= total


@leaf
def sweep(host, habits, state, chosen, coldness, weights, shares):  # type: ignore[no-untyped-def]
    """Gives the chosen calls an owner anew, one by one, by chance. shares: how likely each possible owner was is added
    (of each call's nobody: one minus these).
    """
    for c in chosen:
        count = _weigh(host, habits, state, c, weights)
        _to_shares(weights, count, coldness)
        low, drawn = host.calls[c].owners, uniform(state)
        picked = count - 1
        for k in range(count):
            drawn -= weights[k]
            if drawn < 0 and picked == count - 1:
                picked = k
            if k < count - 1:
                shares[low + k] += weights[k]
        if picked < count - 1:
            give(host, state, c, low + picked)
