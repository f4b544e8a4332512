"""A sweep takes the calls of a host one by one and gives each an owner anew, by how likely the whole is with it (Gibbs
sampling); then its old request and the new one may swap more (`swap`).
"""

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s, Int64s2
from yaffle.kernels import int64, leaf, pasted
from yaffle.tiers.habits import Habits
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.likelihood import gain
from yaffle.tiers.owning import give, take
from yaffle.tiers.state import State, uniform
from yaffle.tiers.swaps import swap

_NEVER, _HARDLY = -40.0, -12.0  # logarithms of what need not be worked out, and not be tried
_TEMPER = 0.5  # how much who is tried depends on how well the call would follow there


@pasted
def _weigh(host: HostCalls, habits: Habits, state: State, c: int, weights: Float64s2) -> int:
    """Fills the weights of a call's possible owners, nobody last, and beside them what of each comes before the call;
    the call has no owner then.
    """
    low, high = host.calls[c].owners, host.calls[c].owners_end
    if state.calls[c].owner >= 0:
        take(host, habits, state, c)
    for k in range(low, high):
        weights[0, k - low], weights[1, k - low] = gain(host, habits, state, host.owners[k].front, c, k)
    weights[0, high - low] = habits.unowned[host.calls[c].kind]
    return high - low + 1


@pasted
def _to_shares(weights: Float64s, count: int, coldness: float) -> None:
    """Logarithms to shares of 1."""
    most, total = weights[0], 0.0
    for k in range(1, count):
        most = max(most, weights[k])
    for k in range(count):
        less = (weights[k] - most) * coldness
        weights[k] = np.exp(less) if less > _NEVER else 0.0
        total += weights[k]
    for k in range(count):
        weights[k] /= total


@pasted
def _others_fit(weights: Float64s, count: int, own: int, coldness: float) -> bool:
    """Whether another one than the own would be tried ever."""
    most = _HARDLY
    for k in range(count):
        if k != own:
            most = max(most, (weights[k] - weights[own]) * coldness)
    return most > _HARDLY


@leaf
def sweep(
    host: HostCalls,
    habits: Habits,
    state: State,
    chosen: Int64s,
    coldness: float,
    tries: int,
    weights: Float64s2,
    shares: Float64s,
    room: Int64s2,
) -> None:
    """Gives the chosen calls an owner anew, one by one, by chance. shares: how likely each possible owner was is added
    (of each call's nobody: one minus these). tries: of swaps from a call on.
    """
    for c in chosen:
        count = _weigh(host, habits, state, int64(c), weights)
        _to_shares(weights[0], count, coldness)
        low, drawn = host.calls[c].owners, uniform(state)
        picked = count - 1
        for k in range(count):
            drawn -= weights[0, k]
            if drawn < 0 and picked == count - 1:
                picked = k
            if k < count - 1:
                shares[low + k] += weights[0, k]
        if picked == count - 1:
            continue
        give(host, habits, state, int64(c), low + picked)
        if _others_fit(weights[1], count - 1, picked, _TEMPER * coldness):
            _to_shares(weights[1], count - 1, _TEMPER * coldness)
            for _ in range(tries):
                swap(host, habits, state, int64(c), weights[1], coldness, room)
