"""Where a server's time went: along the critical path, at each instant to the deepest call that held it up.

Of calls under way at once the one whose answer came last is what was waited for. Inside a call, before it reached its
server
and after its answer left, the network between the two; in between its server, split likewise. When no call is under way
it
is the server's own, also while it waits for a worker or a free connection. All parts add up to the server's time,
because
each stretch is given to one.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import kernel, leaf
from yaffle.tiers.hops import Hops, HopTimes

_NEAR_PARTS = 64  # parts of one root that are looked through for one of the same
DEEPEST = 32  # tiers below one another that are followed
OWN, NETWORK = 0, 1  # of a part: the server's own time, or that between it and who asked it


class Tree(NamedTuple):
    """One state of all links. Hops behind hop x: behind[at[x]:at[x + 1]], in order of their beginning."""

    at: Array
    behind: Array
    begin_ns: Array  # of a hop as its asking side saw it
    end_ns: Array
    server_begin_ns: Array  # between these the server had it
    server_end_ns: Array
    received_ns: Array  # of a hop as its server saw it
    answered_ns: Array
    server_ns: Array


class Parts(NamedTuple):
    """What server's times are made of, added up hop by hop."""

    root: Array  # hop whose server's time it is a part of
    via: Array  # the hop behind the root by which it went there; the root for its own
    hop: Array  # where it went: this hop's server, or its network
    kind: Array  # OWN or NETWORK
    ns: Array  # float64


def tree_of(hops: Hops | HopTimes, owner: Array) -> Tree:
    """The tree of a state: for each hop the one behind whose answer it lies, or -1."""
    calls = np.flatnonzero(owner >= 0)
    calls = calls[np.lexsort((hops.sent_ns[calls], owner[calls]))]
    at = np.searchsorted(owner[calls], np.arange(owner.size + 1))
    span = hops.arrived_ns - hops.sent_ns
    server = np.minimum(hops.server_ns, span)
    begin = hops.sent_ns + (np.minimum(hops.told_ns, hops.arrived_ns) - hops.sent_ns - server).clip(0) // 2
    return Tree(
        at,
        calls,
        hops.sent_ns,
        hops.arrived_ns,
        begin,
        begin + server,
        hops.received_ns,
        np.where(hops.answered_ns >= 0, hops.answered_ns, hops.done_ns),
        hops.server_ns,
    )


@leaf
def held_up(tree, x, moment, end):  # type: ignore[no-untyped-def]
    """(the call behind x that holds it up at a moment, until when that is so): of those under way the one that ends
    last; -1 where none is.
    """
    found, until = -1, end
    for k in range(tree.at[x], tree.at[x + 1]):
        c = tree.behind[k]
        if tree.begin_ns[c] > moment:
            until = min(until, tree.begin_ns[c])  # It may be the one from then on.
            break
        if tree.end_ns[c] > moment and (found < 0 or tree.end_ns[c] > tree.end_ns[found]):
            found = c
    return (found, min(until, tree.end_ns[found])) if found >= 0 else (found, until)


@leaf
def _put(parts, count, root, via, hop, kind, ns):  # type: ignore[no-untyped-def]
    """Adds a part; to the one before it where it is of the same."""
    for k in range(min(count, parts.ns.size) - 1, max(-1, count - _NEAR_PARTS), -1):
        if parts.root[k] != root:
            break
        if parts.hop[k] == hop and parts.kind[k] == kind:  # A hop lies behind one other only: via is the same.
            parts.ns[k] += ns
            return count
    if count < parts.ns.size:
        parts.root[count], parts.via[count], parts.hop[count] = root, via, hop
        parts.kind[count], parts.ns[count] = kind, ns
    return count + 1


@leaf
def _walk(tree, root, stack, parts, count):  # type: ignore[no-untyped-def]
    """Gives every stretch of a root's server to somebody; its own part is left out. How many parts there are."""
    depth, via = 0, root
    stack[0, 0], stack[0, 1], stack[0, 2] = root, tree.received_ns[root], tree.answered_ns[root]
    while depth >= 0:
        x, moment, end = stack[depth]
        if moment >= end:
            depth -= 1
            continue
        c, until = held_up(tree, x, moment, end)
        stack[depth, 1] = until
        if c < 0:
            if x != root:
                count = _put(parts, count, root, via, x, OWN, until - moment)
            continue
        if depth == 0:
            via = c
        begin, stop = max(moment, tree.server_begin_ns[c]), min(until, tree.server_end_ns[c])
        outside = (until - moment) - max(0, stop - begin)
        if outside > 0:
            count = _put(parts, count, root, via, c, NETWORK, outside)
        if stop > begin:
            if depth + 1 < DEEPEST:
                depth += 1
                stack[depth, 0], stack[depth, 1], stack[depth, 2] = c, begin, stop
            else:
                count = _put(parts, count, root, via, c, OWN, stop - begin)
    return count


@kernel
def split_all(tree, roots, parts):  # type: ignore[no-untyped-def]
    """Splits the server's time of each root. How many parts there are; those beyond the room are counted only."""
    stack, count = np.empty((DEEPEST, 3), np.int64), 0
    for root in roots:
        begin = count
        count = _walk(tree, root, stack, parts, count)
        total = 0.0
        for k in range(begin, min(count, parts.ns.size)):
            total += parts.ns[k]
        server = np.float64(tree.server_ns[root])
        if total > server:  # More than the ledger leaves the server: what is behind it cannot have taken longer.
            for k in range(begin, min(count, parts.ns.size)):
                parts.ns[k] *= server / total
            total = server
        count = _put(parts, count, root, root, root, OWN, server - total)
    return count


def split(hops: Hops | HopTimes, owner: Array, roots: Array) -> Parts:
    """The parts of the server's time of some hops in one state of all links; those of one hop stand together."""
    tree = tree_of(hops, owner)
    room = 4 * roots.size + 64
    while True:
        root, via, hop, kind = np.empty((4, room), np.int64)
        ns = np.empty(room)
        count = split_all(tree, roots, Parts(root, via, hop, kind, ns))
        if count <= room:
            return Parts(root[:count], via[:count], hop[:count], kind[:count], ns[:count])
        room = count
