"""How likely calls are behind a request when they come, and its answer after them, by what has been learnt;
logarithms.
"""

import numpy as np

from yaffle.kernels import pasted
from yaffle.tiers.habits import Habits, gap_bin
from yaffle.tiers.host_calls import TOKEN_BIT, HostCalls
from yaffle.tiers.state import State, place_before

LOOK_BACK = 8  # earlier calls of a request that may be what the next one waited for
RIVALS = 4  # calls before and after that may have waited for a connection at the same time
_AHEAD = 6  # later calls that a change is weighed with


@pasted
def waited_since(host: HostCalls, state: State, f: int, p: int, moment: int, answer: bool) -> int:
    """When the last thing happened to a request before a moment that the next one follows, `p` being its last call
    before it: what it had waited for ended, or it made a call that goes on, beside which it makes others.

    For the answer (`answer`) a call that goes on tells by when its own answer began: it is handed through.
    """
    found = min(host.fronts[f].received_ns, moment)
    for _ in range(LOOK_BACK):
        if p < 0:
            break
        if host.calls[p].end_ns <= moment:
            found = max(found, host.calls[p].end_ns)
        elif answer and host.calls[p].told_ns <= moment:
            found = max(found, host.calls[p].told_ns)
        elif host.calls[p].sent_ns <= moment:
            found = max(found, host.calls[p].sent_ns)
        p = state.calls[p].before
    return found


@pasted
def kind_before(host: HostCalls, p: int) -> int:
    """Kind of the call before, from 1; 0 where there is none."""
    return host.calls[p].kind + 1 if p >= 0 else 0


@pasted
def sharing(host: HostCalls, state: State, p: int, c: int) -> int:
    """Whether a call shares its connection with the call before it of the same service; -1 where there is none."""
    for _ in range(LOOK_BACK):
        if p < 0:
            break
        if host.calls[p].service == host.calls[c].service:
            return 1 if host.calls[p].connection == host.calls[c].connection else 0
        p = state.calls[p].before
    return -1


@pasted
def _in_order(host: HostCalls, habits: Habits, state: State, c: int, since: int) -> float:
    """How likely a call got its connection before, or after, those that waited for one at the same time, log."""
    found, kc, n = 0.0, host.calls[c].kind, host.calls[c].later
    for _ in range(RIVALS):
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
    for _ in range(RIVALS):
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


@pasted
def _pause(host: HostCalls, habits: Habits, state: State, kf: int, kp: int, c: int, since: int) -> float:
    """How likely a call comes when it comes, log per ns: a while after what its request waited for (`since`), or as
    soon as another request left a connection free.
    """
    kc = host.calls[c].kind
    at_once = habits.gap[kf, kp, kc, gap_bin(host.calls[c].sent_ns - since)]
    if host.calls[c].freed_ns <= since:
        return at_once
    at_once += habits.waited[kc, 0]
    waited = habits.waited[kc, 1] + habits.freed[kc, gap_bin(host.calls[c].sent_ns - host.calls[c].freed_ns)]
    waited += _in_order(host, habits, state, c, since)
    return max(at_once, waited) + np.log1p(np.exp(-abs(at_once - waited)))


@pasted
def by_values(host: HostCalls, habits: Habits, c: int, k: int) -> float:
    """How likely a call has its k-th possible owner, by the values and identifiers of both, log."""
    kf, kc, likeness = host.fronts[host.owners[k].front].kind, host.calls[c].kind, host.owners[k].likeness
    found = habits.value[kf, kc, likeness >> habits.place[kf, kc] & 1] + habits.pair[host.owners[k].pair]
    return found + habits.token[kf, kc, likeness >> TOKEN_BIT & 1]


@pasted
def by_themselves(host: HostCalls, habits: Habits, c: int, k: int) -> float:
    """The same, by all that the two alone say."""
    late = host.calls[c].end_ns > host.fronts[host.owners[k].front].answered_ns
    return habits.late[host.calls[c].kind, 1 if late else 0] + by_values(host, habits, c, k)


@pasted
def step(
    host: HostCalls, habits: Habits, state: State, kf: int, kp: int, c: int, k: int, since: int, shared: int
) -> float:
    """How likely a request of the kind `kf`, the k-th possible owner, makes a call after one of the kind `kp`, log."""
    kc = host.calls[c].kind
    found = habits.follows[kf, kp, kc] + _pause(host, habits, state, kf, kp, c, since) + state.alone[k]
    return found + habits.same[kc, shared] if shared >= 0 else found


@pasted
def ending(host: HostCalls, habits: Habits, f: int, kp: int, since: int) -> float:
    """How likely a request is answered then, after a last call of the kind `kp`, log."""
    kf, kc = host.fronts[f].kind, habits.late.shape[0]
    return habits.follows[kf, kp, kc] + habits.gap[kf, kp, kc, gap_bin(host.fronts[f].answered_ns - since)]


@pasted
def _score_call(host: HostCalls, habits: Habits, state: State, f: int, p: int, c: int, since: int) -> None:
    """Writes down how likely a call comes behind the call `p`."""
    state.calls[c].since_ns = since
    state.calls[c].score = step(
        host, habits, state, host.fronts[f].kind, kind_before(host, p), c, state.calls[c].owner, since,
        sharing(host, state, p, c),
    )  # fmt: skip


@pasted
def score_ending(host: HostCalls, habits: Habits, state: State, f: int) -> None:
    """Writes down how likely a request is answered after its last call."""
    p = state.fronts[f].tail
    since = waited_since(host, state, f, p, host.fronts[f].answered_ns, True)
    state.fronts[f].since_ns = since
    state.fronts[f].score = ending(host, habits, f, kind_before(host, p), since)


@pasted
def score_all(host: HostCalls, habits: Habits, state: State, f: int) -> None:
    """Writes down how likely each of a request's calls comes, and its answer."""
    p, n = -1, state.fronts[f].head
    while n >= 0:
        since = waited_since(host, state, f, p, host.calls[n].sent_ns, False)
        _score_call(host, habits, state, f, p, n, since)
        p, n = n, state.calls[n].after
    score_ending(host, habits, state, f)


@pasted
def refresh(host: HostCalls, habits: Habits, state: State, f: int, p: int, c: int) -> None:
    """Writes down how likely the next calls of a request behind `p` come, where that is another since the call `c` was
    put there or taken away.
    """
    n = state.fronts[f].head if p < 0 else state.calls[p].after
    another, hidden = True, False
    while n >= 0:
        since = waited_since(host, state, f, p, host.calls[n].sent_ns, False)
        same = not hidden and host.calls[n].service == host.calls[c].service
        if another or same or since != state.calls[n].since_ns:
            _score_call(host, habits, state, f, p, n, since)
        elif hidden and host.calls[c].end_ns <= since:
            return
        hidden, another = hidden or (same and n != c), n == c
        p, n = n, state.calls[n].after
    score_ending(host, habits, state, f)


@pasted
def score_now(host: HostCalls, habits: Habits, state: State, f: int, c: int) -> float:
    """How likely a call comes where it is, log: as written down, unless that depends on what others waited for."""
    since = state.calls[c].since_ns
    if host.calls[c].freed_ns <= since:
        return state.calls[c].score
    p = state.calls[c].before
    return step(
        host, habits, state, host.fronts[f].kind, kind_before(host, p), c, state.calls[c].owner, since,
        sharing(host, state, p, c),
    )  # fmt: skip


@pasted
def gain(host: HostCalls, habits: Habits, state: State, f: int, c: int, k: int) -> tuple[float, float]:
    """(how much likelier all is with a call, which has no owner, behind its k-th possible request, how likely that one
    makes it after what it did before), log. What others waited for that want a connection, too, is taken as it is.
    """
    p, kf, ends = place_before(state, f, c), host.fronts[f].kind, host.calls[c].end_ns
    sent = host.calls[c].sent_ns
    since = waited_since(host, state, f, p, host.calls[c].sent_ns, False)
    shared = sharing(host, state, p, c)
    begun = gained = step(host, habits, state, kf, kind_before(host, p), c, k, since, shared)
    n, kp = state.fronts[f].head if p < 0 else state.calls[p].after, host.calls[c].kind + 1
    first, hidden = True, False
    for _ in range(_AHEAD):
        if n < 0:
            break
        now = state.calls[n].since_ns
        since = max(now, ends if ends <= host.calls[n].sent_ns else sent)
        same = not hidden and host.calls[n].service == host.calls[c].service
        if first or same or since != now:
            shared = (
                (1 if host.calls[n].connection == host.calls[c].connection else 0)
                if same
                else sharing(host, state, state.calls[n].before, n)
            )
            gained += step(host, habits, state, kf, kp, n, state.calls[n].owner, since, shared)
            gained -= score_now(host, habits, state, f, n)
        elif hidden and ends <= now:
            return gained, begun
        first, hidden, kp, n = False, hidden or same, host.calls[n].kind + 1, state.calls[n].after
    if n < 0:
        moment, now = host.fronts[f].answered_ns, state.fronts[f].since_ns
        told = ends if ends <= moment else host.calls[c].told_ns
        told = told if told <= moment else sent
        since = max(now, told) if told <= moment else now
        if first or since != now:
            gained += ending(host, habits, f, kp, since) - state.fronts[f].score
    return gained, begun
