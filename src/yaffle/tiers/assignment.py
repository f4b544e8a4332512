"""Which request each call lies behind: all calls of a host weighed together, by Gibbs sampling.

A state gives every call a request that was under way, or none. A sweep takes the calls one by one and gives each an owner
anew, by how likely the whole is with it; a step in between exchanges what follows in two requests, because no single
call leads from one good state to the next. What many states agree on is certain; how often they agree is the certainty.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import helper, kernel
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


class State(NamedTuple):
    """Who owns which call. A request's calls are a list in order of their beginning."""

    owner: Array  # of each call: place in HostCalls.owners, or NOBODY
    before: Array  # of each call: the call before it of the same request, or -1
    after: Array
    head: Array  # of each request
    tail: Array
    since_ns: Array  # of each call: the end of what its request waited for last before it
    random: Array  # uint64 (1)


def no_owners(calls: int, fronts: int, seed: int) -> State:
    """No call belongs to a request."""
    return State(
        np.full(calls, NOBODY, np.int64),
        np.full(calls, -1, np.int64),
        np.full(calls, -1, np.int64),
        np.full(fronts, -1, np.int64),
        np.full(fronts, -1, np.int64),
        np.zeros(calls, np.int64),
        np.array([seed * 2654435761 + 88172645463325252], np.uint64),
    )


@helper
def _uniform(state):  # type: ignore[no-untyped-def]
    """A number between 0 and 1."""
    x = state.random[0]
    x ^= x << _SHIFTS[0]
    x ^= x >> _SHIFTS[1]
    x ^= x << _SHIFTS[2]
    state.random[0] = x
    return np.float64(x >> _ELEVEN) * _TO_UNIT


@helper
def _place_before(host, state, f, c):  # type: ignore[no-untyped-def]
    """The last call of a request before a call, -1 where there is none."""
    p = state.tail[f]
    while p > c:
        p = state.before[p]
    return p


@helper
def _insert(host, state, f, p, c):  # type: ignore[no-untyped-def]
    """Puts a call behind the call `p` of a request."""
    n = state.after[p] if p >= 0 else state.head[f]
    state.before[c], state.after[c] = p, n
    if p >= 0:
        state.after[p] = c
    else:
        state.head[f] = c
    if n >= 0:
        state.before[n] = c
    else:
        state.tail[f] = c


@helper
def _remove(state, f, c):  # type: ignore[no-untyped-def]
    """Takes a call out of a request."""
    p, n = state.before[c], state.after[c]
    if p >= 0:
        state.after[p] = n
    else:
        state.head[f] = n
    if n >= 0:
        state.before[n] = p
    else:
        state.tail[f] = p
    state.before[c] = state.after[c] = -1


@helper
def _waited_since(host, state, f, p, moment, answer):  # type: ignore[no-untyped-def]
    """When the last thing ended that a request can have waited for at a moment, `p` being its last call before it.

    For the answer (`answer`) a call that goes on tells by when its own answer began: it is handed through.
    """
    found = min(host.received_ns[f], moment)
    for _ in range(_LOOK_BACK):
        if p < 0:
            break
        if host.end_ns[p] <= moment:
            found = max(found, host.end_ns[p])
        elif answer and host.told_ns[p] <= moment:
            found = max(found, host.told_ns[p])
        p = state.before[p]
    return found


@helper
def _kind_before(host, p):  # type: ignore[no-untyped-def]
    return host.call_kind[p] + 1 if p >= 0 else 0


@helper
def _sharing(host, state, p, c):  # type: ignore[no-untyped-def]
    """Whether a call shares its connection with the call before it of the same service; -1 where there is none."""
    for _ in range(_LOOK_BACK):
        if p < 0:
            break
        if host.service[p] == host.service[c]:
            return 1 if host.connection[p] == host.connection[c] else 0
        p = state.before[p]
    return -1


@helper
def _in_order(host, habits, state, c, since):  # type: ignore[no-untyped-def]
    """How likely a call got its connection before, or after, those that waited for one at the same time, log."""
    found, kc, n = 0.0, host.call_kind[c], host.later[c]
    for _ in range(_RIVALS):
        if n < 0:
            break
        if state.owner[n] >= 0 and host.freed_ns[n] > state.since_ns[n] and state.since_ns[n] < host.sent_ns[c]:
            found += habits.overtook[kc, 1 if state.since_ns[n] < since else 0]
        n = host.later[n]
    n = host.earlier[c]
    for _ in range(_RIVALS):
        if n < 0:
            break
        if state.owner[n] >= 0 and host.freed_ns[n] > state.since_ns[n] and since < host.sent_ns[n]:
            found += habits.overtook[kc, 1 if since < state.since_ns[n] else 0]
        n = host.earlier[n]
    return found


@helper
def _pause(host, habits, state, f, p, c, since):  # type: ignore[no-untyped-def]
    """How likely a call comes when it comes, log per ns: a while after what its request waited for (`since`), or as
    soon as another request left a connection free.
    """
    kf, kp, kc = host.front_kind[f], _kind_before(host, p), host.call_kind[c]
    at_once = habits.gap[kf, kp, kc, gap_bin(host.sent_ns[c] - since)]
    if host.freed_ns[c] <= since:
        return at_once
    at_once += habits.waited[kc, 0]
    waited = habits.waited[kc, 1] + habits.freed[kc, gap_bin(host.sent_ns[c] - host.freed_ns[c])]
    waited += _in_order(host, habits, state, c, since)
    return max(at_once, waited) + np.log1p(np.exp(-abs(at_once - waited)))


@helper
def _step(host, habits, state, f, p, c, k):  # type: ignore[no-untyped-def]
    """How likely a request, the k-th possible owner, makes a call after the call `p`, log."""
    likeness = host.likeness[k]
    kf, kp, kc = host.front_kind[f], _kind_before(host, p), host.call_kind[c]
    since = _waited_since(host, state, f, p, host.sent_ns[c], False)
    found = habits.follows[kf, kp, kc] + _pause(host, habits, state, f, p, c, since)
    found += habits.late[kc, 1 if host.end_ns[c] > host.answered_ns[f] else 0]
    found += habits.value[kf, kc, likeness >> habits.place[kf, kc] & 1] + habits.token[kf, kc, likeness >> TOKEN_BIT & 1]
    found += habits.pair[host.pair[k]]
    sharing = _sharing(host, state, p, c)
    return found + habits.same[kc, sharing] if sharing >= 0 else found


@helper
def _ending(host, habits, state, f):  # type: ignore[no-untyped-def]
    """How likely a request is answered after its last call, log."""
    p = state.tail[f]
    kf, kp, kc = host.front_kind[f], _kind_before(host, p), habits.late.shape[0]
    gap = host.answered_ns[f] - _waited_since(host, state, f, p, host.answered_ns[f], True)
    return habits.follows[kf, kp, kc] + habits.gap[kf, kp, kc, gap_bin(gap)]


@helper
def _after(host, habits, state, f, p, steps):  # type: ignore[no-untyped-def]
    """How likely is what follows in a request behind a call `p` (-1: from its beginning), so many steps of it, log."""
    found, n = 0.0, state.head[f] if p < 0 else state.after[p]
    for _ in range(steps):
        if n < 0:
            break
        found += _step(host, habits, state, f, p, n, state.owner[n])
        p, n = n, state.after[n]
    return found + _ending(host, habits, state, f) if n < 0 else found


@helper
def _gain(host, habits, state, f, c, k):  # type: ignore[no-untyped-def]
    """How much likelier all is with a call, which has no owner, behind its k-th possible request, log."""
    p = _place_before(host, state, f, c)
    without = _after(host, habits, state, f, p, _AHEAD)
    _insert(host, state, f, p, c)
    state.owner[c] = k
    gained = _after(host, habits, state, f, p, _AHEAD + 1)
    _remove(state, f, c)
    state.owner[c] = NOBODY
    return gained - without


@helper
def _refresh(host, state, f, p):  # type: ignore[no-untyped-def]
    """Writes down what the next calls of a request behind `p` waited for."""
    n = state.head[f] if p < 0 else state.after[p]
    for _ in range(_AHEAD):
        if n < 0:
            break
        state.since_ns[n] = _waited_since(host, state, f, p, host.sent_ns[n], False)
        p, n = n, state.after[n]


@helper
def _weigh(host, habits, state, c, weights):  # type: ignore[no-untyped-def]
    """Fills the weights of a call's possible owners, nobody last; the call has no owner then."""
    low, high = host.owners_at[c], host.owners_at[c + 1]
    if state.owner[c] >= 0:
        f, p = host.owners[state.owner[c]], state.before[c]
        _remove(state, f, c)
        state.owner[c] = NOBODY
        _refresh(host, state, f, p)
    for k in range(low, high):
        weights[k - low] = _gain(host, habits, state, host.owners[k], c, k)
    weights[high - low] = habits.unowned[host.call_kind[c]]
    return high - low + 1


@helper
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


@helper
def _give(host, state, c, k):  # type: ignore[no-untyped-def]
    """Puts a call without an owner behind its k-th possible request (a place in owners)."""
    f = host.owners[k]
    p = _place_before(host, state, f, c)
    _insert(host, state, f, p, c)
    state.owner[c] = k
    _refresh(host, state, f, p)


@kernel
def sweep(host, habits, state, chosen, coldness, weights, shares):  # type: ignore[no-untyped-def]
    """Gives the chosen calls an owner anew, one by one, by chance. shares: how likely each possible owner was is added
    (of each call's nobody: one minus these).
    """
    for c in chosen:
        count = _weigh(host, habits, state, c, weights)
        _to_shares(weights, count, coldness)
        low, drawn = host.owners_at[c], _uniform(state)
        picked = count - 1
        for k in range(count):
            drawn -= weights[k]
            if drawn < 0 and picked == count - 1:
                picked = k
            if k < count - 1:
                shares[low + k] += weights[k]
        if picked < count - 1:
            _give(host, state, c, low + picked)


@helper
def _owner_place(host, c, f):  # type: ignore[no-untyped-def]
    """The place of a request among the possible owners of a call, -1 where it is none."""
    for k in range(host.owners_at[c], host.owners_at[c + 1]):
        if host.owners[k] == f:
            return k
    return -1


@helper
def _tail_from(host, state, f, first, other, calls, places):  # type: ignore[no-untyped-def]
    """Calls of a request from one on, and their places with the other request; -1 where one cannot be there."""
    count, n = 0, state.tail[f]
    while n >= first:
        if count == _LONGEST_TAIL:
            return -1
        place = _owner_place(host, n, other)
        if place < 0:
            return -1
        calls[count], places[count] = n, place
        count += 1
        n = state.before[n]
    return count


@helper
def _score_from(host, habits, state, f, first):  # type: ignore[no-untyped-def]
    return _after(host, habits, state, f, _place_before(host, state, f, first - 1), _LONGEST_TAIL + _LOOK_BACK)


@kernel
def exchange_tails(host, habits, state, chosen, coldness, room):  # type: ignore[no-untyped-def]
    """Exchanges what two requests do from one of the chosen calls on, where that is likely (Metropolis)."""
    for c in chosen:
        owner = state.owner[c]
        low, count = host.owners_at[c], host.owners_at[c + 1] - host.owners_at[c]
        if owner < 0 or count < 2:
            continue
        f, g = host.owners[owner], host.owners[low + min(count - 1, int(_uniform(state) * count))]
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


@helper
def _move(host, state, calls, places, count, calls_too, places_too, count_too):  # type: ignore[no-untyped-def]
    """Takes calls out of their requests, and puts them behind others."""
    for k in range(count):
        _remove(state, host.owners[state.owner[calls[k]]], calls[k])
    for k in range(count_too):
        _remove(state, host.owners[state.owner[calls_too[k]]], calls_too[k])
    for k in range(count):
        _give(host, state, calls[k], places[k])
    for k in range(count_too):
        _give(host, state, calls_too[k], places_too[k])


@helper
def _observe_pause(host, habits, state, f, p, c, counts):  # type: ignore[no-untyped-def]
    """Counts the pause before a call as one of the two that `_pause` weighs, as likely as each is."""
    kf, kp, kc = host.front_kind[f], _kind_before(host, p), host.call_kind[c]
    since, waited = _waited_since(host, state, f, p, host.sent_ns[c], False), 0.0
    own = gap_bin(host.sent_ns[c] - since)
    if host.freed_ns[c] > since:
        freed = gap_bin(host.sent_ns[c] - host.freed_ns[c])
        one = habits.waited[kc, 0] + habits.gap[kf, kp, kc, own]
        two = habits.waited[kc, 1] + habits.freed[kc, freed]
        waited = 1.0 / (1.0 + np.exp(min(60.0, one - two)))
        counts.waited[kc, 0] += 1.0 - waited
        counts.waited[kc, 1] += waited
        counts.freed[kc, freed] += waited
        n = host.later[c]
        for _ in range(_RIVALS):
            if n < 0:
                break
            if state.owner[n] >= 0 and host.freed_ns[n] > state.since_ns[n] and state.since_ns[n] < host.sent_ns[c]:
                counts.overtook[kc, 1 if state.since_ns[n] < since else 0] += waited
            n = host.later[n]
    counts.gap[kf, kp, kc, own] += 1.0 - waited


@kernel
def observe(host, habits, state, chosen, counts):  # type: ignore[no-untyped-def]
    """Adds what a state shows to the counts: of all requests, and of the chosen calls' likeness."""
    answer = counts.late.shape[0]
    for f in range(host.front.size):
        kf, p, n = host.front_kind[f], np.int64(-1), state.head[f]
        while n >= 0:
            kp, kc = _kind_before(host, p), host.call_kind[n]
            counts.follows[kf, kp, kc] += 1.0
            _observe_pause(host, habits, state, f, p, n, counts)
            counts.pair[host.pair[state.owner[n]]] += 1.0
            counts.late[kc, 1 if host.end_ns[n] > host.answered_ns[f] else 0] += 1.0
            sharing = _sharing(host, state, p, n)
            if sharing >= 0:
                counts.same[kc, sharing] += 1.0
            for bit in range(BITS):
                counts.alike[kf, kc, bit, host.likeness[state.owner[n]] >> bit & 1] += 1.0
            p, n = n, state.after[n]
        kp = _kind_before(host, p)
        gap = host.answered_ns[f] - _waited_since(host, state, f, p, host.answered_ns[f], True)
        counts.follows[kf, kp, answer] += 1.0
        counts.gap[kf, kp, answer, gap_bin(gap)] += 1.0
    for c in chosen:
        kc = host.call_kind[c]
        if state.owner[c] < 0:
            counts.unowned[kc] += 1.0
        for k in range(host.owners_at[c], host.owners_at[c + 1]):
            for bit in range(BITS):
                if k != state.owner[c]:
                    counts.base[host.front_kind[host.owners[k]], kc, bit, host.likeness[k] >> bit & 1] += 1.0
