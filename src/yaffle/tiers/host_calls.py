"""One host as both: the requests it owes an answer to, the calls it makes, and which of them may lie behind which."""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Bools, Int32s, Int64s, Struct, Structs, Uint64s, Uint64s2
from yaffle.kernels import helper, kernel, uint64
from yaffle.tiers.hops import Hops

MOST_KINDS = 24  # of requests and of calls that are told apart at one host; rarer ones are one kind
MOST_OWNERS = 96  # requests under way that are weighed for one call
_USUAL_OWNERS = 6  # of a call: for so many there is room at first
_SHORT = (1 << 16) - 1
TOKEN_BIT = 9  # in `likeness`: an identifier that both carry; the bits below are values by place (3 times 3)


# A request: its hop; its kind, from 0; when its first and its last byte were there, when the answer began and ended.
FRONT = np.dtype([(n, np.int64) for n in ("hop", "kind", "handed_ns", "received_ns", "answered_ns", "done_ns")])
Fronts = Structs  # of FRONT
Front = Struct  # one of them
# A call: its hop; its kind, from 0; when it was sent, its answer began and ended; its connection and the service it
# went to; when the call before it on its connection ended, long ago where there is none; the calls before and after
# it to the same service, -1 without; its possible owners: owners[owners:owners_end].
CALL = np.dtype(
    [
        (name, np.int64)
        for name in (
            "hop", "kind", "sent_ns", "told_ns", "end_ns", "connection", "service", "freed_ns", "earlier", "later",
            "owners", "owners_end",
        )
    ]
)  # fmt: skip
Calls = Structs  # of CALL
Call = Struct  # one of them
# A possible owner of a call: the request; what both have in common, bit by bit; the number of their pair of first
# values.
OWNER = np.dtype([("front", np.int64), ("likeness", np.int64), ("pair", np.int64)])
Owners = Structs  # of OWNER
Owner = Struct  # one of them
# A pair of first values with the kinds of what they were asked with: number of the request's part, of the call's part,
# of the kinds: that of the request times the number of those of calls, and that of the call. The first stands for none.
PAIR = np.dtype([("front", np.int64), ("call", np.int64), ("kinds", np.int64)])
Pairs = Structs  # of PAIR
Pair = Struct  # one of them


class HostCalls(NamedTuple):
    """The evidence at one host. Requests (fronts) in order of their beginning, calls in order of theirs."""

    fronts: Fronts  # FRONT
    calls: Calls  # CALL
    owners: Owners  # OWNER
    pairs: Pairs  # PAIR

    @property
    def shape(self) -> tuple[int, int, int]:
        """How many kinds of requests and of calls there are, and pairs of values."""
        fronts, calls = (int(table["kind"].max(initial=-1)) + 1 for table in (self.fronts, self.calls))
        return fronts, calls, self.pairs.size


def _in_order_of_appearance(values: Array) -> Int32s:
    """The number of each value among those that are there, the first to appear first."""
    import pyarrow as pa  # Where there is nothing behind a server, nobody waits for it to be loaded.

    return np.asarray(pa.array(np.ascontiguousarray(values)).dictionary_encode().indices.to_numpy())


def _numbered(kind: Int64s) -> Int64s:
    """Kinds by how often they occur, the rarest put together."""
    number = _in_order_of_appearance(kind)
    count = np.bincount(number)
    rank = np.empty(count.size, np.int64)
    rank[np.argsort(-count, kind="stable")] = np.arange(count.size)
    return np.minimum(rank[number], MOST_KINDS - 1)


def _before(group: Int64s) -> Int64s:
    """For each row the row of the same group before it, -1 where there is none."""
    low = group.min(initial=0)
    few = group.max(initial=0) - low <= _SHORT  # Numbers of 16 bits are sorted by their digits.
    order = np.argsort((group - low).astype(np.uint16) if few else group, kind="stable")
    found = np.full(group.size, -1, np.int64)
    same = group[order][1:] == group[order][:-1]
    found[order[1:][same]] = order[:-1][same]
    return found


def _returning(values: Uint64s) -> Bools:
    """Which values stand there more than once."""
    order = np.argsort(values, kind="stable")
    same = values[order][1:] == values[order][:-1]
    found = np.zeros(values.size, bool)
    found[order[1:][same]] = found[order[:-1][same]] = True
    return found


def _pairs(hops: Hops, fronts: Fronts, calls: Calls, front: Int64s, call: Int64s) -> tuple[Int64s, Pairs]:
    """(the pair of each request `front` with the call `call`, all pairs as PAIR). The first pair stands for all of
    which a value never comes again: nothing can be learnt from those.
    """
    first_of = hops.values[fronts["hop"], 0], hops.values[calls["hop"], 0]
    with ThreadPoolExecutor(2) as pool:
        asked, made = pool.map(
            lambda v, kind: _returning(v ^ kind["kind"].astype(np.uint64) << uint64(40)), first_of, (fronts, calls)
        )
    told = np.flatnonzero(asked[front] & made[call])
    kinds = fronts["kind"][front[told]] * (int(calls["kind"].max(initial=-1)) + 1) + calls["kind"][call[told]]
    mixed = kinds.astype(np.uint64)
    one = first_of[0][front[told]] * uint64(0x9E3779B97F4A7C15) + mixed
    two = first_of[1][call[told]] * uint64(0xC2B2AE3D27D4EB4F) + mixed
    number = _in_order_of_appearance(one ^ (two << uint64(1) | two >> uint64(63)))
    first = np.flatnonzero(np.diff(np.maximum.accumulate(number), prepend=-1))
    found, pair = np.zeros(1 + first.size, PAIR), np.zeros(front.size, np.int64)
    pair[told] = number + 1
    for name, part in (("front", one), ("call", two)):
        found[name][1:] = _in_order_of_appearance(part[first]) + 1
    found["kinds"][1:] = kinds[first]
    return pair, found


@helper
def _alike(values: Uint64s2, tokens: Uint64s2, f: int, c: int) -> int:
    """What request and call have in common."""
    bits = 0
    places = values.shape[1]
    for i in range(places):
        for j in range(places):
            if values[f, i] != 0 and values[f, i] == values[c, j]:
                bits |= 1 << (i * places + j)
    for i in range(tokens.shape[1]):
        if tokens[f, i] == 0:
            break
        for j in range(tokens.shape[1]):
            if tokens[c, j] == tokens[f, i]:
                bits |= 1 << TOKEN_BIT
    return bits


@kernel
def _may_own(fronts: Fronts, calls: Calls, values: Uint64s2, tokens: Uint64s2, owners: Owners) -> int:
    """Fills the calls' ranges of owners, and owners where there is room; how many there are."""
    under_way = np.empty(fronts.size, np.int64)
    count, opened, total = 0, 0, 0
    for c in range(calls.size):
        calls[c].owners = total
        while opened < fronts.size and fronts[opened].handed_ns <= calls[c].sent_ns:
            under_way[count] = opened
            count, opened = count + 1, opened + 1
        kept = 0
        for k in range(count):
            if fronts[under_way[k]].done_ns >= calls[c].sent_ns:
                under_way[kept] = under_way[k]
                kept += 1
        count = kept
        for k in range(max(0, count - MOST_OWNERS), count):
            f = under_way[k]
            same_moment = fronts[f].handed_ns == calls[c].sent_ns
            if fronts[f].hop == calls[c].hop or (same_moment and fronts[f].hop > calls[c].hop):
                continue
            if total < owners.size:
                owners[total].front = f
                owners[total].likeness = _alike(values, tokens, fronts[f].hop, calls[c].hop)
            total += 1
        calls[c].owners_end = total
    return total


def _fronts(hops: Hops, served: Int64s) -> Fronts:
    """The requests of a host."""
    served = served[np.argsort(hops.handed_ns[served], kind="stable")]
    found = np.empty(served.size, FRONT)
    found["hop"], found["kind"] = served, _numbered(hops.kind[served] ^ hops.service[served] << 32)
    for name in ("handed_ns", "received_ns", "done_ns"):
        found[name] = getattr(hops, name)[served]
    answered = hops.answered_ns[served]
    found["answered_ns"] = np.where(answered >= 0, answered, found["done_ns"])
    return found


def _calls(hops: Hops, made: Int64s) -> Calls:
    """The calls of a host, without their owners."""
    made = made[np.argsort(hops.sent_ns[made], kind="stable")]
    found = np.empty(made.size, CALL)
    with ThreadPoolExecutor(1) as beside:
        before = beside.map(_before, (hops.connection[made], hops.service[made]))
        found["hop"], found["kind"] = made, _numbered(hops.kind[made] ^ hops.service[made] << 32)
        for name, column in (
            ("sent_ns", hops.sent_ns),
            ("told_ns", hops.told_ns),
            ("end_ns", hops.arrived_ns),
            ("connection", hops.connection),
            ("service", hops.service),
        ):
            found[name] = column[made]
        previous, earlier = [*before]
    found["freed_ns"] = np.where(previous >= 0, found["end_ns"][previous], np.iinfo(np.int64).min)
    found["earlier"], found["later"] = earlier, -1
    found["later"][earlier[earlier >= 0]] = np.flatnonzero(earlier >= 0)
    return found


def host_calls(hops: Hops, served: Int64s, made: Int64s) -> HostCalls:
    """The evidence at a host that `served` some hops and `made` others."""
    fronts, calls = _fronts(hops, served), _calls(hops, made)
    owners = np.empty(_USUAL_OWNERS * calls.size, OWNER)
    count = _may_own(fronts, calls, hops.values, hops.tokens, owners)
    if count > owners.size:
        owners = np.empty(count, OWNER)
        _may_own(fronts, calls, hops.values, hops.tokens, owners)
    owners = owners[:count]
    owned = np.repeat(np.arange(calls.size), calls["owners_end"] - calls["owners"])
    owners["pair"], pairs = _pairs(hops, fronts, calls, owners["front"], owned)
    return HostCalls(fronts, calls, owners, pairs)
