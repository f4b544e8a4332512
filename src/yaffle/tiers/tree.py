"""Who lies behind whom, in one state of all links or in several."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Int32s2, Int64s
from yaffle.kernels import kernel, leaf
from yaffle.tiers.hops import Hops, HopTimes

_LONG_NS = 1 << 62


class Tree(NamedTuple):
    """States of all links. Hops behind hop x in the n-th: behind[at[base + x]:at[base + x + 1]], base being n times one
    more than there are hops, in order of their beginning.
    """

    at: Int64s
    behind: Int64s
    begin_ns: Int64s  # of a hop as its asking side saw it
    end_ns: Int64s
    told_ns: Int64s  # the same: when its answer began; long ago where none came while it was waited for
    server_begin_ns: Int64s  # between these the server had it
    server_end_ns: Int64s
    received_ns: Int64s  # of a hop as its server saw it
    answered_ns: Int64s
    waits_ns: Int64s  # its server waited for no answer that began later, since its own had begun
    server_ns: Int64s


@kernel
def _grow(owners: Int32s2, by_time: Int64s, at: Int64s, behind: Int64s) -> None:
    """Fills `at` and `behind` of all states. by_time: hops in order of their beginning."""
    states, count = owners.shape
    total = 0
    for s in range(states):
        base = s * (count + 1)
        for x in range(count + 1):
            at[base + x] = 0
        for x in range(count):
            if owners[s, x] >= 0:
                at[base + owners[s, x] + 1] += 1
        at[base] = total
        for x in range(count):
            at[base + x + 1] += at[base + x]
        for c in by_time:
            owner = owners[s, c]
            if owner >= 0:
                behind[at[base + owner]] = c
                at[base + owner] += 1
        for x in range(count, 0, -1):
            at[base + x] = at[base + x - 1]
        at[base], total = total, at[base + count]


def tree_of(hops: Hops | HopTimes, owners: Array) -> Tree:
    """The trees of some states (states, hops): for each hop the one behind whose answer it lies, or -1."""
    states, count = owners.shape
    at, behind = np.empty(states * (count + 1), np.int64), np.empty(int((owners >= 0).sum()), np.int64)
    _grow(np.ascontiguousarray(owners, np.int32), np.argsort(hops.sent_ns, kind="stable"), at, behind)
    span = hops.arrived_ns - hops.sent_ns
    server = np.minimum(hops.server_ns + hops.signed_on_ns, span)
    answered = hops.answered_ns >= 0
    heard = answered & (hops.answered_ns <= hops.arrived_ns)  # by who asked; else it had given up
    begin = hops.sent_ns + (np.minimum(hops.told_ns, hops.arrived_ns) - hops.sent_ns - server).clip(0) // 2
    return Tree(
        at,
        behind,
        hops.sent_ns,
        hops.arrived_ns,
        np.where(heard, hops.told_ns, -_LONG_NS),
        begin,
        begin + server,
        hops.received_ns,
        np.where(answered, hops.answered_ns, hops.done_ns),
        np.where(answered, hops.answered_ns, _LONG_NS),
        hops.server_ns,
    )


@leaf
def held_up(tree: Tree, base: int, x: int, moment: int, end: int) -> tuple[int, int]:
    """(the call behind x that holds it up at a moment, until when that is so): of those under way the one that ends
    last; -1 where none is. What is answered only once x itself has begun to answer was not waited for.
    """
    found, until = -1, end
    for k in range(tree.at[base + x], tree.at[base + x + 1]):
        c = tree.behind[k]
        if tree.begin_ns[c] > moment:
            until = min(until, tree.begin_ns[c])  # It may be the one from then on.
            break
        if tree.end_ns[c] > moment and tree.told_ns[c] <= tree.waits_ns[x]:
            found = c if found < 0 or tree.end_ns[c] > tree.end_ns[found] else found
    return (found, min(until, tree.end_ns[found])) if found >= 0 else (found, until)
