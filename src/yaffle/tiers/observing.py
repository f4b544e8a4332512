"""What a state shows of the habits of a host: counts that the next ones are learnt from."""

import numpy as np

from yaffle.arrays import Int32s, Int64s
from yaffle.kernels import int64, leaf
from yaffle.tiers.habits import BITS, Counts, Habits, gap_bin
from yaffle.tiers.host_calls import HostCalls
from yaffle.tiers.likelihood import RIVALS, kind_before, sharing, waited_since
from yaffle.tiers.state import State


@leaf
def _observe_pause(host: HostCalls, habits: Habits, state: State, f: int, p: int, c: int, counts: Counts) -> None:
    """Counts the pause before a call as one of the two that `_pause` weighs, as likely as each is."""
    kf, kp, kc = host.fronts[f].kind, kind_before(host, p), host.calls[c].kind
    since, waited = waited_since(host, state, f, p, host.calls[c].sent_ns, False), 0.0
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
        for _ in range(RIVALS):
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
def observe(host: HostCalls, habits: Habits, state: State, fronts: Int64s, chosen: Int64s, counts: Counts) -> None:
    """Adds what a state shows to the counts: of the chosen requests, and of the chosen calls' likeness."""
    answer = counts.late.shape[0]
    for f in fronts:
        kf, p, n = host.fronts[f].kind, int64(-1), state.fronts[f].head
        while n >= 0:
            kp, kc = kind_before(host, p), host.calls[n].kind
            counts.follows[kf, kp, kc] += 1.0
            _observe_pause(host, habits, state, int64(f), p, n, counts)
            counts.pair[host.owners[state.calls[n].owner].pair] += 1.0
            counts.late[kc, 1 if host.calls[n].end_ns > host.fronts[f].answered_ns else 0] += 1.0
            shared = sharing(host, state, p, n)
            if shared >= 0:
                counts.same[kc, shared] += 1.0
            for bit in range(BITS):
                counts.alike[kf, kc, bit, host.owners[state.calls[n].owner].likeness >> bit & 1] += 1.0
            p, n = n, state.calls[n].after
        kp = kind_before(host, p)
        gap = host.fronts[f].answered_ns - waited_since(host, state, int64(f), p, host.fronts[f].answered_ns, True)
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


@leaf
def note_owners(host: HostCalls, state: State, chosen: Int64s, found: Int32s) -> None:
    """Writes down the request of each of the chosen calls, a hop; -1 where it has none."""
    for c in chosen:
        owner = state.calls[c].owner
        found[c] = host.fronts[host.owners[owner].front].hop if owner >= 0 else -1
