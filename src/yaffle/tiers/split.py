"""Where a server's time went: along the critical path, at each instant to the deepest call that held it up.

Of calls under way at once the one whose answer came last is what was waited for. Inside a call, before it reached its
server and after its answer left, the network between the two; in between its server, split likewise. When no call is
under way it is the server's own, also while it waits for a worker or a free connection. All parts add up to the
server's time, because each stretch is given to one. Of several states of what lies behind what, the parts are averages.
"""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Float64s, Int64s, Int64s2
from yaffle.kernels import int64, kernel, leaf
from yaffle.tiers.hops import Hops, HopTimes
from yaffle.tiers.tree import Tree, held_up, tree_of
from yaffle.tiers.watch import Watch

DEEPEST = 32  # tiers below one another that are followed
OWN, NETWORK = 0, 1  # of a part: the server's own time, or that between it and who asked it
_THREADS = 2
_PARTS = 10  # of a root, for which there is room at first
_AT_ONCE = 20_000  # roots that are split, until it is asked whether to go on


class Parts(NamedTuple):
    """What servers' times are made of, added up hop by hop; those of one root stand together."""

    root: Int64s  # hop whose server's time it is a part of
    via: Int64s  # the hop behind the root by which it went there; the root for its own
    hop: Int64s  # where it went: this hop's server, or its network
    kind: Int64s  # OWN or NETWORK
    ns: Float64s  # on average over all states
    least_ns: Float64s  # in the state with the least of it
    most_ns: Float64s


class _Room(NamedTuple):
    """What is needed to add up parts, beside these."""

    place: Int64s2  # (2, hops): the last part of each hop and kind, if it is one of the root at hand; else anything
    before: Int64s  # a part: the one of the same hop and kind before it by another way, -1 without
    now_ns: Float64s  # a part: in the state at hand
    states: Int64s  # a part: in how many states it is there
    stack: Int64s2


@leaf
def _put(parts: Parts, room: _Room, begin: int, count: int, root: int, via: int, hop: int, kind: int, ns: float) -> int:
    """Adds to a part of the root, whose parts begin at `begin`, or begins one; how many there are."""
    last = room.place[kind, hop]
    if not (begin <= last < min(count, parts.ns.size) and parts.hop[last] == hop and parts.kind[last] == kind):
        last = -1
    k = last
    while k >= 0 and parts.via[k] != via:
        k = room.before[k]
    if k >= 0:
        room.now_ns[k] = max(0.0, room.now_ns[k]) + ns
        return count
    if count < parts.ns.size:
        parts.root[count], parts.via[count], parts.hop[count], parts.kind[count] = root, via, hop, kind
        parts.ns[count], parts.least_ns[count], parts.most_ns[count] = 0.0, np.inf, 0.0
        room.place[kind, hop], room.before[count] = count, last
        room.now_ns[count], room.states[count] = ns, 0
    return count + 1


@leaf
def _walk(tree: Tree, base: int, root: int, parts: Parts, room: _Room, begin: int, count: int) -> int:
    """Gives every stretch of a root's server in one state to somebody; its own part is left out. How many parts there
    are.
    """
    depth, via, stack = 0, root, room.stack
    stack[0, 0], stack[0, 1], stack[0, 2] = root, tree.received_ns[root], tree.answered_ns[root]
    while depth >= 0:
        x, moment, end = stack[depth]
        if moment >= end:
            depth -= 1
            continue
        c, until = held_up(tree, base, x, moment, end)
        stack[depth, 1] = until
        if c < 0:
            if x != root:
                count = _put(parts, room, begin, count, root, via, x, OWN, until - moment)
            continue
        if depth == 0:
            via = c
        first, stop = max(moment, tree.server_begin_ns[c]), min(until, tree.server_end_ns[c])
        outside = (until - moment) - max(0, stop - first)
        if outside > 0:
            count = _put(parts, room, begin, count, root, via, c, NETWORK, outside)
        if stop > first:
            if depth + 1 < DEEPEST:
                depth += 1
                stack[depth, 0], stack[depth, 1], stack[depth, 2] = c, first, stop
            else:
                count = _put(parts, room, begin, count, root, via, c, OWN, stop - first)
    return count


@leaf
def _close(parts: Parts, room: _Room, begin: int, end: int, shrunk: float) -> None:
    """Adds what the parts are in the state at hand to what they are in all."""
    for k in range(begin, end):
        ns = room.now_ns[k] * shrunk
        if room.now_ns[k] >= 0:
            parts.ns[k] += ns
            parts.least_ns[k], parts.most_ns[k] = min(parts.least_ns[k], ns), max(parts.most_ns[k], ns)
            room.states[k] += 1
        room.now_ns[k] = -1.0


@kernel
def _split_all(tree: Tree, states: int, roots: Int64s, parts: Parts, room: _Room) -> int:
    """Splits the server's time of each root. How many parts there are; those beyond the room are counted only."""
    count, hops = 0, tree.end_ns.size
    for root in roots:
        begin, server = count, np.float64(tree.server_ns[root])
        for s in range(states):
            count = _walk(tree, s * (hops + 1), int64(root), parts, room, begin, count)
            total, end = 0.0, min(count, parts.ns.size)
            for k in range(begin, end):
                total += max(0.0, room.now_ns[k])
            count = _put(
                parts, room, begin, count, int64(root), int64(root), int64(root), OWN, max(0.0, server - total)
            )
            # More than the ledger leaves the server is shrunk: what is behind it cannot have taken longer.
            _close(parts, room, begin, min(count, parts.ns.size), min(1.0, server / total) if total > 0 else 1.0)
        for k in range(begin, min(count, parts.ns.size)):
            parts.ns[k] /= states
            if room.states[k] < states:
                parts.least_ns[k] = 0.0
    return count


def _split_some(tree: Tree, states: int, roots: Int64s, place: Int64s2) -> Parts:
    size = _PARTS * roots.size + 64
    while True:
        parts = Parts(*np.empty((4, size), np.int64), *np.empty((3, size)))
        room = _Room(
            place, np.empty(size, np.int64), np.empty(size), np.empty(size, np.int64),
            np.empty((DEEPEST, 3), np.int64),
        )  # fmt: skip
        count = _split_all(tree, states, roots, parts, room)
        if count <= size:
            return Parts._make(column[:count] for column in parts)
        size = count


def split(hops: Hops | HopTimes, owners: Array, roots: Int64s, watch: Watch | None = None) -> Parts:
    """The parts of the server's time of some hops over states of all links, (states, hops), on both cores.

    Raises Cancelled where `watch` says so.
    """
    watch, tree = watch or Watch(), tree_of(hops, owners)

    pieces = np.array_split(roots, 1 + roots.size // _AT_ONCE)

    def some(thread: int) -> list[Parts]:
        place, found = np.empty((2, tree.end_ns.size), np.int64), []
        for piece in pieces[thread::_THREADS]:
            watch.went(0)
            found.append(_split_some(tree, owners.shape[0], piece, place))
        return found

    with ThreadPoolExecutor(_THREADS) as pool:
        every = list(pool.map(some, range(_THREADS)))
        in_order = [every[k % _THREADS][k // _THREADS] for k in range(len(pieces))]
        return Parts._make(pool.map(np.concatenate, zip(*in_order, strict=True)))
