"""One host as both: the requests it owes an answer to, the calls it makes, and which of them may lie behind which."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import helper, kernel
from yaffle.tiers.hops import Hops

MOST_KINDS = 24  # of requests and of calls that are told apart at one host; rarer ones are one kind
MOST_OWNERS = 96  # requests under way that are weighed for one call
TOKEN_BIT = 9  # in `likeness`: an identifier that both carry; the bits below are values by place (3 times 3)


class HostCalls(NamedTuple):
    """The evidence at one host. Requests (fronts) in order of their beginning, calls in order of theirs; int64."""

    front: Array  # hop of each request
    front_kind: Array  # 0 ≤ kind < number of kinds
    handed_ns: Array
    received_ns: Array
    answered_ns: Array
    done_ns: Array
    call: Array  # hop of each call
    call_kind: Array
    sent_ns: Array
    told_ns: Array
    end_ns: Array
    connection: Array
    service: Array
    freed_ns: Array  # when the call before it on its connection ended; the beginning of time where there is none
    earlier: Array  # the call before it of the same service, -1 where there is none
    later: Array
    owners_at: Array  # (calls + 1): call c may be behind owners[owners_at[c]:owners_at[c + 1]]
    owners: Array  # requests, int32
    likeness: Array  # uint16 for each of these: what the request and the call have in common, bit by bit
    pair: Array  # int32 for each of these: number of the first values of both, with their kinds
    pair_front: Array  # for each such pair the number of its request's part: how often that value was asked with
    pair_call: Array  # and of its call's part
    pair_kinds: Array  # and of its kinds: that of the request times the number of those of calls, and that of the call

    @property
    def shape(self) -> tuple[int, int]:
        """How many kinds of requests and of calls there are."""
        return int(self.front_kind.max(initial=-1)) + 1, int(self.call_kind.max(initial=-1)) + 1


def _numbered(kind: Array) -> Array:
    """Kinds by how often they occur, the rarest put together."""
    _, number, count = np.unique(kind, return_inverse=True, return_counts=True)
    rank = np.empty(count.size, np.int64)
    rank[np.argsort(-count, kind="stable")] = np.arange(count.size)
    return np.minimum(rank[number.reshape(-1)], MOST_KINDS - 1)


def _before(group: Array) -> Array:
    """For each row the row of the same group before it, -1 where there is none."""
    order = np.argsort(group, kind="stable")
    found = np.full(group.size, -1, np.int64)
    same = group[order][1:] == group[order][:-1]
    found[order[1:][same]] = order[:-1][same]
    return found


def _pairs(hops: Hops, front: Array, call: Array, kf: Array, kc: Array) -> tuple[Array, ...]:
    """Numbers of pairs of first values with the kinds of what they were asked with, one a possible owner, and the
    numbers of both parts of each, and of their kinds.
    """
    one = hops.values[front, 0] * np.uint64(0x9E3779B97F4A7C15) + (kf * 64 + kc).astype(np.uint64)
    two = hops.values[call, 0] * np.uint64(0xC2B2AE3D27D4EB4F) + (kf * 64 + kc).astype(np.uint64)
    _, first, pair = np.unique(
        one ^ (two << np.uint64(1) | two >> np.uint64(63)), return_index=True, return_inverse=True
    )
    parts = [np.unique(part[first], return_inverse=True)[1].reshape(-1) for part in (one, two)]
    return pair.reshape(-1).astype(np.int32), *parts, (kf * (int(kc.max(initial=-1)) + 1) + kc)[first]


@helper
def _alike(values, tokens, f, c):  # type: ignore[no-untyped-def]
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
def _may_own(front, handed, done, call, sent, values, tokens, at, owners, likeness):  # type: ignore[no-untyped-def]
    """Fills at, and owners with likeness where these have room; how many there are."""
    under_way = np.empty(front.size, np.int64)
    count, opened, total = 0, 0, 0
    for c in range(call.size):
        while opened < front.size and handed[opened] <= sent[c]:
            under_way[count] = opened
            count, opened = count + 1, opened + 1
        kept = 0
        for k in range(count):
            if done[under_way[k]] >= sent[c]:
                under_way[kept] = under_way[k]
                kept += 1
        count = kept
        for k in range(max(0, count - MOST_OWNERS), count):
            f = under_way[k]
            if front[f] == call[c] or (handed[f] == sent[c] and front[f] > call[c]):
                continue
            if total < owners.size:
                owners[total] = f
                likeness[total] = _alike(values, tokens, front[f], call[c])
            total += 1
        at[c + 1] = total
    return total


def host_calls(hops: Hops, served: Array, made: Array) -> HostCalls:
    """The evidence at a host that `served` some hops and `made` others."""
    served = served[np.argsort(hops.handed_ns[served], kind="stable")]
    made = made[np.argsort(hops.sent_ns[made], kind="stable")]
    answered = np.where(hops.answered_ns[served] >= 0, hops.answered_ns[served], hops.done_ns[served])
    at, nothing = np.zeros(made.size + 1, np.int64), np.empty(0, np.int32)
    told = (served, hops.handed_ns[served], hops.done_ns[served], made, hops.sent_ns[made], hops.values, hops.tokens)
    total = _may_own(*told, at, nothing, np.empty(0, np.uint16))
    owners, likeness = np.empty(total, np.int32), np.empty(total, np.uint16)
    _may_own(*told, at, owners, likeness)
    connection, service, end = hops.connection[made], hops.service[made], hops.arrived_ns[made]
    previous = _before(connection)
    earlier = _before(service)
    later = np.full(made.size, -1, np.int64)
    later[earlier[earlier >= 0]] = np.flatnonzero(earlier >= 0)
    front_kind, call_kind = (
        _numbered(hops.kind[served] ^ hops.service[served] << 32), _numbered(hops.kind[made] ^ service << 32)
    )
    owned = np.repeat(np.arange(made.size), np.diff(at))
    return HostCalls(
        served,
        front_kind,
        hops.handed_ns[served],
        hops.received_ns[served],
        answered,
        hops.done_ns[served],
        made,
        call_kind,
        hops.sent_ns[made],
        hops.told_ns[made],
        end,
        connection,
        service,
        np.where(previous >= 0, end[previous], np.iinfo(np.int64).min),
        earlier,
        later,
        at,
        owners,
        likeness,
        *_pairs(hops, served[owners], made[owned], front_kind[owners], call_kind[owned]),
    )
