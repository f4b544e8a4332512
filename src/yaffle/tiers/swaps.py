"""Steps between sweeps: two requests swap what each does in a stretch of time, the whole rest or a few calls of it
(Metropolis), because no single call leads from one good state to the next. What would be is weighed as two lists of
calls before anything is moved.
"""

import numpy as np

from yaffle.arrays import Float64s, Int64s, Int64s2
from yaffle.kernels import int64, leaf, pasted
from yaffle.tiers.habits import Habits
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.likelihood import LOOK_BACK, ending, kind_before, score_now, step
from yaffle.tiers.owning import give, take
from yaffle.tiers.state import State, uniform

_MOST = 24  # calls of each from the first one on
_FEW = 3  # calls besides the first that a short stretch holds at most
_SHORT = 0.7  # of all stretches; the others go to the end
ROOM = 2 * _MOST  # places of a list


@pasted
def _owner_place(host: HostCalls, c: int, f: int) -> int:
    """The place of a request among the possible owners of a call, -1 where it is none."""
    for k in range(host.calls[c].owners, host.calls[c].owners_end):
        if host.owners[k].front == f:
            return k
    return -1


@pasted
def _first_from(state: State, f: int, c: int) -> tuple[int, int]:
    """(the last call of a request before the call `c`, the first from it on); -1 where there is none."""
    n, p = int64(-1), state.fronts[f].tail
    while p >= c:
        n, p = p, state.calls[p].before
    return p, n


@pasted
def _score_from(host: HostCalls, habits: Habits, state: State, f: int, n: int) -> float:
    """How likely a request's calls from one on come, and its answer, log."""
    found = state.fronts[f].score
    while n >= 0:
        found += score_now(host, habits, state, f, n)
        n = state.calls[n].after
    return found


@pasted
def _before_in(state: State, p: int, calls: Int64s, count: int, j: int) -> tuple[int, int]:
    """(the call that stands j + 1 before the end of so many calls of a list behind the call `p`, -1 where none does;
    the one to go on from).
    """
    if j < count:
        return calls[count - 1 - j], p
    return p, state.calls[p].before if p >= 0 else p


@pasted
def _since_in(
    host: HostCalls, state: State, f: int, p: int, calls: Int64s, count: int, moment: int, answer: bool
) -> int:
    """`waited_since`, of a list of calls behind the call `p`."""
    found = min(host.fronts[f].received_ns, moment)
    for j in range(LOOK_BACK):
        n, p = _before_in(state, p, calls, count, j)
        if n < 0:
            break
        if host.calls[n].end_ns <= moment:
            found = max(found, host.calls[n].end_ns)
        elif answer and host.calls[n].told_ns <= moment:
            found = max(found, host.calls[n].told_ns)
        elif host.calls[n].sent_ns <= moment:
            found = max(found, host.calls[n].sent_ns)
    return found


@pasted
def _sharing_in(host: HostCalls, state: State, p: int, calls: Int64s, count: int) -> int:
    """`sharing`, of the last of a list of calls behind the call `p`."""
    c = calls[count - 1]
    for j in range(1, LOOK_BACK + 1):
        n, p = _before_in(state, p, calls, count, j)
        if n < 0:
            break
        if host.calls[n].service == host.calls[c].service:
            return 1 if host.calls[n].connection == host.calls[c].connection else 0
    return -1


@leaf
def _score_list(
    host: HostCalls, habits: Habits, state: State, f: int, p: int, calls: Int64s, places: Int64s, count: int
) -> float:
    """How likely a request makes a list of calls behind the call `p`, and is answered then, log."""
    found, kp, kf = 0.0, kind_before(host, p), host.fronts[f].kind
    for j in range(count):
        c = calls[j]
        since = _since_in(host, state, f, p, calls, j, host.calls[c].sent_ns, False)
        found += step(
            host, habits, state, kf, kp, c, places[j], since, _sharing_in(host, state, p, calls, j + 1)
        )  # fmt: skip
        kp = host.calls[c].kind + 1
    since = _since_in(host, state, f, p, calls, count, host.fronts[f].answered_ns, True)
    return found + ending(host, habits, f, kp, since)


@pasted
def _move(host: HostCalls, habits: Habits, state: State, calls: Int64s, places: Int64s, count: int) -> None:
    """Puts calls behind other requests than theirs."""
    for j in range(count):
        take(host, habits, state, calls[j])
    for j in range(count):
        give(host, habits, state, calls[j], places[j])


@pasted
def _moving(state: State) -> int:
    """How many calls of both change sides."""
    drawn = uniform(state)
    return 2 + int(drawn / _SHORT * _FEW) if drawn < _SHORT else ROOM


@pasted
def _swapped(
    host: HostCalls,
    state: State,
    f: int,
    first: int,
    g: int,
    other: int,
    many: int,
    moved: Int64s,
    places: Int64s,
    lists: Int64s2,
) -> tuple[int, int, int]:
    """Fills the calls that change sides, with their new places, and what the two requests do then: rows of `lists` with
    the calls of one, their places, those of the other. How many of each; the first is -1 where it cannot be.
    """
    count, left, right = 0, 0, 0
    while first >= 0 or other >= 0:
        if max(left, right) == _MOST:
            return -1, left, right
        mine = other < 0 or (first >= 0 and first < other)
        n = first if mine else other
        to_left = not mine
        place = state.calls[n].owner
        if count < many:
            place = _owner_place(host, n, g if mine else f)
            if place < 0:
                return -1, left, right
            moved[count], places[count] = n, place
            count += 1
        else:
            to_left = mine
        if to_left:
            lists[0, left], lists[1, left] = n, place
            left += 1
        else:
            lists[2, right], lists[3, right] = n, place
            right += 1
        if mine:
            first = state.calls[n].after
        else:
            other = state.calls[n].after
    return count, left, right


@pasted
def _picked(state: State, weights: Float64s, count: int) -> int:
    """One of so many, by their shares."""
    drawn = uniform(state)
    for k in range(count - 1):
        drawn -= weights[k]
        if drawn < 0:
            return k
    return count - 1


@pasted
def swap(
    host: HostCalls, habits: Habits, state: State, c: int, shares: Float64s, coldness: float, room: Int64s2
) -> None:
    """Swaps what two requests do from a call that has an owner on, for a while, where that is likely (Metropolis,
    Hastings). shares: how likely each of its possible owners is tried; they depend on what comes before the call
    alone, so that going back is as likely as they say.
    """
    low, count = host.calls[c].owners, host.calls[c].owners_end - host.calls[c].owners
    mine, k = state.calls[c].owner, low + _picked(state, shares, count)
    if k == mine:
        return
    f, g = host.owners[mine].front, host.owners[k].front
    p, n = _first_from(state, g, c)
    moved, left, right = _swapped(host, state, f, c, g, n, _moving(state), room[4], room[5], room)
    if moved < 0:
        return
    now = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, n)
    then = _score_list(host, habits, state, f, state.calls[c].before, room[0], room[1], left)
    then += _score_list(host, habits, state, g, p, room[2], room[3], right)
    back = shares[mine - low] / max(shares[k - low], 1e-300)
    if uniform(state) < np.exp((then - now) * coldness) * back:
        _move(host, habits, state, room[4], room[5], moved)
