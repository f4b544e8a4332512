"""How likely calls are behind a request when they come, and its answer after them, by what has been learnt;
logarithms.
"""

import numpy as np

from yaffle.kernels import pasted
from yaffle.tiers.habits import gap_bin
from yaffle.tiers.host_calls import TOKEN_BIT
from yaffle.tiers.state import NOBODY, insert, place_before, remove

LOOK_BACK = 8  # earlier calls of a request that may be what the next one waited for
RIVALS = 4  # calls before and after that may have waited for a connection at the same time
_AHEAD = 6  # later calls that a change is weighed with


@pasted
def waited_since(host, state, f, p, moment, answer):  # type: ignore[no-untyped-def]
    """When the last thing ended that a request can have waited for at a moment, `p` being its last call before it.

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
        p = state.calls[p].before
    return found


@pasted
def kind_before(host, p):  # type: ignore[no-untyped-def]
    """Kind of the call before, from 1; 0 where there is none."""
    return host.calls[p].kind + 1 if p >= 0 else 0


@pasted
def sharing(host, state, p, c):  # type: ignore[no-untyped-def]
    """Whether a call shares its connection with the call before it of the same service; -1 where there is none."""
    for _ in range(LOOK_BACK):
        if p < 0:
            break
        if host.calls[p].service == host.calls[c].service:
            return 1 if host.calls[p].connection == host.calls[c].connection else 0
        p = state.calls[p].before
    return -1


@pasted
def _in_order(host, habits, state, c, since):  # type: ignore[no-untyped-def]
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
def _pause(host, habits, state, f, p, c, since):  # type: ignore[no-untyped-def]
    """How likely a call comes when it comes, log per ns: a while after what its request waited for (`since`), or as
    soon as another request left a connection free.
    """
    kf, kp, kc = host.fronts[f].kind, kind_before(host, p), host.calls[c].kind
    at_once = habits.gap[kf, kp, kc, gap_bin(host.calls[c].sent_ns - since)]
    if host.calls[c].freed_ns <= since:
        return at_once
    at_once += habits.waited[kc, 0]
    waited = habits.waited[kc, 1] + habits.freed[kc, gap_bin(host.calls[c].sent_ns - host.calls[c].freed_ns)]
    waited += _in_order(host, habits, state, c, since)
    return max(at_once, waited) + np.log1p(np.exp(-abs(at_once - waited)))


@pasted
def _step(host, habits, state, f, p, c, k):  # type: ignore[no-untyped-def]
    """How likely a request, the k-th possible owner, makes a call after the call `p`, log."""
    likeness = host.owners[k].likeness
    kf, kp, kc = host.fronts[f].kind, kind_before(host, p), host.calls[c].kind
    since = waited_since(host, state, f, p, host.calls[c].sent_ns, False)
    found = habits.follows[kf, kp, kc] + _pause(host, habits, state, f, p, c, since)
    found += habits.late[kc, 1 if host.calls[c].end_ns > host.fronts[f].answered_ns else 0]
    found += (
        habits.value[kf, kc, likeness >> habits.place[kf, kc] & 1] + habits.token[kf, kc, likeness >> TOKEN_BIT & 1]
    )
    found += habits.pair[host.owners[k].pair]
    shared = sharing(host, state, p, c)
    return found + habits.same[kc, shared] if shared >= 0 else found


@pasted
def _ending(host, habits, state, f):  # type: ignore[no-untyped-def]
    """How likely a request is answered after its last call, log."""
    p = state.fronts[f].tail
    kf, kp, kc = host.fronts[f].kind, kind_before(host, p), habits.late.shape[0]
    gap = host.fronts[f].answered_ns - waited_since(host, state, f, p, host.fronts[f].answered_ns, True)
    return habits.follows[kf, kp, kc] + habits.gap[kf, kp, kc, gap_bin(gap)]


@pasted
def after(host, habits, state, f, p, steps):  # type: ignore[no-untyped-def]
    """How likely is what follows in a request behind a call `p` (-1: from its beginning), so many steps of it, log."""
    found, n = 0.0, state.fronts[f].head if p < 0 else state.calls[p].after
    for _ in range(steps):
        if n < 0:
            break
        found += _step(host, habits, state, f, p, n, state.calls[n].owner)
        p, n = n, state.calls[n].after
    return found + _ending(host, habits, state, f) if n < 0 else found


@pasted
def gain(host, habits, state, f, c, k):  # type: ignore[no-untyped-def]
    """How much likelier all is with a call, which has no owner, behind its k-th possible request, log."""
    p = place_before(state, f, c)
    without = after(host, habits, state, f, p, _AHEAD)
    insert(state, f, p, c)
    state.calls[c].owner = k
    gained = after(host, habits, state, f, p, _AHEAD + 1)
    remove(state, f, c)
    state.calls[c].owner = NOBODY
    return gained - without


@pasted
def refresh(host, state, f, p):  # type: ignore[no-untyped-def]
    """Writes down what the next calls of a request behind `p` waited for."""
    n = state.fronts[f].head if p < 0 else state.calls[p].after
    for _ in range(_AHEAD):
        if n < 0:
            break
        state.calls[n].since_ns = waited_since(host, state, f, p, host.calls[n].sent_ns, False)
        p, n = n, state.calls[n].after
