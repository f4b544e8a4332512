"""Which request each call lies behind: all calls of a host weighed together, by Gibbs sampling.

A state gives every call a request that was under way, or none. A sweep takes the calls one by one and gives each an
owner anew, by how likely the whole is with it; a step in between exchanges what follows in two requests, because no
single call leads from one good state to the next. What many states agree on is certain; how often they agree is
the certainty.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import leaf
from yaffle.tiers.habits import BITS, gap_bin
from yaffle.tiers.host_calls import TOKEN_BIT

_LOOK_BACK = 8  # earlier calls of a request that may be what the next one waited for
_AHEAD = 6  # later calls that a change is weighed with
_RIVALS = 4  # calls before and after that may have waited for a connection at the same time
_LONGEST_TAIL = 16  # calls that are exchanged at once
_SHIFTS = (np.uint64(13), np.uint64(7), np.uint64(17))  # Marsaglia's xorshift generators, 64 bit
_TO_UNIT = 1.0 / 9007199254740992.0
_ELEVEN = np.uint64(11)
NOBODY = -1


# A call: its place in HostCalls.owners or NOBODY; the calls before and after it of the same request, -1 without; the
# end of what its request waited for last before it.
OWNED = np.dtype([(name, np.int64) for name in ("owner", "before", "after", "since_ns")])
OWNING = np.dtype([(name, np.int64) for name in ("head", "tail")])  # a request: its first and last call, -1 without


class State(NamedTuple):
    """Who owns which call. A request's calls are a list in order of their beginning."""

    calls: Array  # OWNED
    fronts: Array  # OWNING
    random: Array  # uint64 (1)


def no_owners(calls: int, fronts: int, seed: int) -> State:
    """No call belongs to a request."""
    state = State(
        np.full(4 * calls, -1, np.int64).view(OWNED),
        np.full(2 * fronts, -1, np.int64).view(OWNING),
        np.array([seed * 2654435761 + 88172645463325252], np.uint64),
    )
    state.calls["since_ns"] = 0
    return state


@leaf
def _uniform(state):  # type: ignore[no-untyped-def]
    """A number between 0 and 1."""
    x = state.random[0]
    x ^= x << _SHIFTS[0]
    x ^= x >> _SHIFTS[1]
    x ^= x << _SHIFTS[2]
    state.random[0] = x
    return np.float64(x >> _ELEVEN) * _TO_UNIT


@leaf
def _place_before(state, f, c):  # type: ignore[no-untyped-def]
    """The last call of a request before a call, -1 where there is none."""
    p = state.fronts[f].tail
    while p > c:
        p = state.calls[p].before
    return p


@leaf
def _insert(state, f, p, c):  # type: ignore[no-untyped-def]
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


@leaf
def _remove(state, f, c):  # type: ignore[no-untyped-def]
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


@leaf
def _waited_since(host, state, f, p, moment, answer):  # type: ignore[no-untyped-def]
    """When the last thing ended that a request can have waited for at a moment, `p` being its last call before it.

    For the answer (`answer`) a call that goes on tells by when its own answer began: it is handed through.
    """
    found = min(host.fronts[f].received_ns, moment)
    for _ in range(_LOOK_BACK):
        if p < 0:
            break
        if host.calls[p].end_ns <= moment:
            found = max(found, host.calls[p].end_ns)
        elif answer and host.calls[p].told_ns <= moment:
            found = max(found, host.calls[p].told_ns)
        p = state.calls[p].before
    return found


@leaf
def _kind_before(host, p):  # type: ignore[no-untyped-def]
    return host.calls[p].kind + 1 if p >= 0 else 0


@leaf
def _sharing(host, state, p, c):  # type: ignore[no-untyped-def]
    """Whether a call shares its connection with the call before it of the same service; -1 where there is none."""
    for _ in range(_LOOK_BACK):
        if p < 0:
            break
        if host.calls[p].service == host.calls[c].service:
            return 1 if host.calls[p].connection == host.calls[c].connection else 0
        p = state.calls[p].before
    return -1


@leaf
def _in_order(host, habits, state, c, since):  # type: ignore[no-untyped-def]
    """How likely a call got its connection before, or after, those that waited for one at the same time, log."""
    found, kc, n = 0.0, host.calls[c].kind, host.calls[c].later
    for _ in range(_RIVALS):
        if n < 0:
            break
        if (
            state.calls[n].owner >= 0
            and host.calls[n].freed_ns > state.calls[n].since_ns
            and state.calls[n].since_ns < host.calls[c].sent_ns
        ):
            found += habits.overtook[kc, 1 if state.calls[n].since_ns < since else 0]
        n = host.calls[n].later
    n = host.calls[c].earlier
    for _ in range(_RIVALS):
        if n < 0:
            break
        if (
            state.calls[n].owner >= 0
            and host.calls[n].freed_ns > state.calls[n].since_ns
            and since < host.calls[n].sent_ns
        ):
            found += habits.overtook[kc, 1 if since < state.calls[n].since_ns else 0]
        n = host.calls[n].earlier
    return found


@leaf
def _pause(host, habits, state, f, p, c, since):  # type: ignore[no-untyped-def]
    """How likely a call comes when it comes, log per ns: a while after what its request waited for (`since`), or as
    soon as another request left a connection free.
    """
    kf, kp, kc = host.fronts[f].kind, _kind_before(host, p), host.calls[c].kind
    at_once = habits.gap[kf, kp, kc, gap_bin(host.calls[c].sent_ns - since)]
    if host.calls[c].freed_ns <= since:
        return at_once
    at_once += habits.waited[kc, 0]
    waited = habits.waited[kc, 1] + habits.freed[kc, gap_bin(host.calls[c].sent_ns - host.calls[c].freed_ns)]
    waited += _in_order(host, habits, state, c, since)
    return max(at_once, waited) + np.log1p(np.exp(-abs(at_once - waited)))


@leaf
def _step(host, habits, state, f, p, c, k):  # type: ignore[no-untyped-def]
    """How likely a request, the k-th possible owner, makes a call after the call `p`, log."""
    likeness = host.owners[k].likeness
    kf, kp, kc = host.fronts[f].kind, _kind_before(host, p), host.calls[c].kind
    since = _waited_since(host, state, f, p, host.calls[c].sent_ns, False)
    found = habits.follows[kf, kp, kc] + _pause(host, habits, state, f, p, c, since)
    found += habits.late[kc, 1 if host.calls[c].end_ns > host.fronts[f].answered_ns else 0]
    found += (
        habits.value[kf, kc, likeness >> habits.place[kf, kc] & 1] + habits.token[kf, kc, likeness >> TOKEN_BIT & 1]
    )
    found += habits.pair[host.owners[k].pair]
    sharing = _sharing(host, state, p, c)
    return found + habits.same[kc, sharing] if sharing >= 0 else found


@leaf
def _ending(host, habits, state, f):  # type: ignore[no-untyped-def]
    """How likely a request is answered after its last call, log."""
    p = state.fronts[f].tail
    kf, kp, kc = host.fronts[f].kind, _kind_before(host, p), habits.late.shape[0]
    gap = host.fronts[f].answered_ns - _waited_since(host, state, f, p, host.fronts[f].answered_ns, True)
    return habits.follows[kf, kp, kc] + habits.gap[kf, kp, kc, gap_bin(gap)]


@leaf
def _after(host, habits, state, f, p, steps):  # type: ignore[no-untyped-def]
    """How likely is what follows in a request behind a call `p` (-1: from its beginning), so many steps of it, log."""
    found, n = 0.0, state.fronts[f].head if p < 0 else state.calls[p].after
    for _ in range(steps):
        if n < 0:
            break
        found += _step(host, habits, state, f, p, n, state.calls[n].owner)
        p, n = n, state.calls[n].after
    return found + _ending(host, habits, state, f) if n < 0 else found


@leaf
def _gain(host, habits, state, f, c, k):  # type: ignore[no-untyped-def]
    """How much likelier all is with a call, which has no owner, behind its k-th possible request, log."""
    p = _place_before(state, f, c)
    without = _after(host, habits, state, f, p, _AHEAD)
    _insert(state, f, p, c)
    state.calls[c].owner = k
    gained = _after(host, habits, state, f, p, _AHEAD + 1)
    _remove(state, f, c)
    state.calls[c].owner = NOBODY
    return gained - without


@leaf
def _refresh(host, state, f, p):  # type: ignore[no-untyped-def]
    """Writes down what the next calls of a request behind `p` waited for."""
    n = state.fronts[f].head if p < 0 else state.calls[p].after
    for _ in range(_AHEAD):
        if n < 0:
            break
        state.calls[n].since_ns = _waited_since(host, state, f, p, host.calls[n].sent_ns, False)
        p, n = n, state.calls[n].after


@leaf
def _weigh(host, habits, state, c, weights):  # type: ignore[no-untyped-def]
    """Fills the weights of a call's possible owners, nobody last; the call has no owner then."""
    low, high = host.calls[c].owners, host.calls[c].owners_end
    if state.calls[c].owner >= 0:
        f, p = host.owners[state.calls[c].owner].front, state.calls[c].before
        _remove(state, f, c)
        state.calls[c].owner = NOBODY
        _refresh(host, state, f, p)
    for k in range(low, high):
        weights[k - low] = _gain(host, habits, state, host.owners[k].front, c, k)
    weights[high - low] = habits.unowned[host.calls[c].kind]
    return high - low + 1


@leaf
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
def _give(host, state, c, k):  # type: ignore[no-untyped-def]
    """Puts a call without an owner behind its k-th possible request (a place in owners)."""
    f = host.owners[k].front
    p = _place_before(state, f, c)
    _insert(state, f, p, c)
    state.calls[c].owner = k
    _refresh(host, state, f, p)


@leaf
def sweep(host, habits, state, chosen, coldness, weights, shares):  # type: ignore[no-untyped-def]
    """Gives the chosen calls an owner anew, one by one, by chance. shares: how likely each possible owner was is added
    (of each call's nobody: one minus these).
    """
    for c in chosen:
        count = _weigh(host, habits, state, c, weights)
        _to_shares(weights, count, coldness)
        low, drawn = host.calls[c].owners, _uniform(state)
        picked = count - 1
        for k in range(count):
            drawn -= weights[k]
            if drawn < 0 and picked == count - 1:
                picked = k
            if k < count - 1:
                shares[low + k] += weights[k]
        if picked < count - 1:
            _give(host, state, c, low + picked)


@leaf
def _owner_place(host, c, f):  # type: ignore[no-untyped-def]
    """The place of a request among the possible owners of a call, -1 where it is none."""
    for k in range(host.calls[c].owners, host.calls[c].owners_end):
        if host.owners[k].front == f:
            return k
    return -1


@leaf
def _another(host, state, c):  # type: ignore[no-untyped-def]
    """One of the possible requests of a call, by chance."""
    low, count = host.calls[c].owners, host.calls[c].owners_end - host.calls[c].owners
    return host.owners[low + min(count - 1, int(_uniform(state) * count))].front


@leaf
def _front_of(host, state, c):  # type: ignore[no-untyped-def]
    """The request of a call that has one."""
    return host.owners[state.calls[c].owner].front


@leaf
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


@leaf
def _score_from(host, habits, state, f, first):  # type: ignore[no-untyped-def]
    return _after(host, habits, state, f, _place_before(state, f, first - 1), _LONGEST_TAIL + _LOOK_BACK)


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
        before = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        _move(host, state, room[0], room[1], mine, room[2], room[3], others)
        after = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        if after < before and _uniform(state) >= np.exp((after - before) * coldness):
            for k in range(mine):
                room[1, k] = _owner_place(host, room[0, k], f)
            for k in range(others):
                room[3, k] = _owner_place(host, room[2, k], g)
            _move(host, state, room[0], room[1], mine, room[2], room[3], others)


@leaf
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
        length = 2 + int(_uniform(state) * 3)
        many = _run_from(host, state, c, g, length, room[0], room[1], room[2])
        if many < 2:
            continue
        before = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        _move(host, state, room[0], room[1], many, room[0], room[1], 0)
        after = _score_from(host, habits, state, f, c) + _score_from(host, habits, state, g, c)
        if after < before and _uniform(state) >= np.exp((after - before) * coldness):
            _move(host, state, room[0], room[2], many, room[0], room[2], 0)


@leaf
def _move(host, state, calls, places, count, calls_too, places_too, count_too):  # type: ignore[no-untyped-def]
    """Takes calls out of their requests, and puts them behind others."""
    for k in range(count):
        _remove(state, _front_of(host, state, calls[k]), calls[k])
    for k in range(count_too):
        _remove(state, _front_of(host, state, calls_too[k]), calls_too[k])
    for k in range(count):
        _give(host, state, calls[k], places[k])
    for k in range(count_too):
        _give(host, state, calls_too[k], places_too[k])


@leaf
def _observe_pause(host, habits, state, f, p, c, counts):  # type: ignore[no-untyped-def]
    """Counts the pause before a call as one of the two that `_pause` weighs, as likely as each is."""
    kf, kp, kc = host.fronts[f].kind, _kind_before(host, p), host.calls[c].kind
    since, waited = _waited_since(host, state, f, p, host.calls[c].sent_ns, False), 0.0
    own = gap_bin(host.calls[c].sent_ns - since)
    if host.calls[c].freed_ns > since:
        freed = gap_bin(host.calls[c].sent_ns - host.calls[c].freed_ns)
        one = habits.waited[kc, 0] + habits.gap[kf, kp, kc, own]
        two = habits.waited[kc, 1] + habits.freed[kc, freed]
        waited = 1.0 / (1.0 + np.exp(min(60.0, one - two)))
        counts.waited[kc, 0] += 1.0 - waited
        counts.waited[kc, 1] += waited
        counts.freed[kc, freed] += waited
        n = host.calls[c].later
        for _ in range(_RIVALS):
            if n < 0:
                break
            if (
                state.calls[n].owner >= 0
                and host.calls[n].freed_ns > state.calls[n].since_ns
                and state.calls[n].since_ns < host.calls[c].sent_ns
            ):
                counts.overtook[kc, 1 if state.calls[n].since_ns < since else 0] += waited
            n = host.calls[n].later
    counts.gap[kf, kp, kc, own] += 1.0 - waited


@leaf
def observe(host, habits, state, fronts, chosen, counts):  # type: ignore[no-untyped-def]
    """Adds what a state shows to the counts: of the chosen requests, and of the chosen calls' likeness."""
    answer = counts.late.shape[0]
    for f in fronts:
        kf, p, n = host.fronts[f].kind, np.int64(-1), state.fronts[f].head
        while n >= 0:
            kp, kc = _kind_before(host, p), host.calls[n].kind
            counts.follows[kf, kp, kc] += 1.0
            _observe_pause(host, habits, state, f, p, n, counts)
            counts.pair[host.owners[state.calls[n].owner].pair] += 1.0
            counts.late[kc, 1 if host.calls[n].end_ns > host.fronts[f].answered_ns else 0] += 1.0
            sharing = _sharing(host, state, p, n)
            if sharing >= 0:
                counts.same[kc, sharing] += 1.0
            for bit in range(BITS):
                counts.alike[kf, kc, bit, host.owners[state.calls[n].owner].likeness >> bit & 1] += 1.0
            p, n = n, state.calls[n].after
        kp = _kind_before(host, p)
        gap = host.fronts[f].answered_ns - _waited_since(host, state, f, p, host.fronts[f].answered_ns, True)
        counts.follows[kf, kp, answer] += 1.0
        counts.gap[kf, kp, answer, gap_bin(gap)] += 1.0
    for c in chosen:
        kc = host.calls[c].kind
        if state.calls[c].owner < 0:
            counts.unowned[kc] += 1.0
        for k in range(host.calls[c].owners, host.calls[c].owners_end):
            for bit in range(BITS):
                if k != state.calls[c].owner:
                    counts.base[
                        host.fronts[host.owners[k].front].kind, kc, bit, host.owners[k].likeness >> bit & 1
                    ] += 1.0
