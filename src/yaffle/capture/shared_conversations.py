"""Conversations that several interfaces saw: which may be the same, and whether their packets are."""

import secrets
from functools import cached_property
from threading import Lock

import numpy as np

from yaffle.arrays import Array, Bools, Int32s, Int64s, Int64s2, Uint64s
from yaffle.capture.conversations import SYN_FROM_A, Rows
from yaffle.capture.draft import Draft
from yaffle.capture.packets import Columns, Head
from yaffle.kernels import helper, int64, kernel, uint64
from yaffle.prefetch import prefetch

_AHEAD = 16  # packets asked for before their turn
_SAME_MOMENT_NS = 2_000
_FLOWS_COMPARED = 24
_LIKE_ENOUGH = 8  # Packets of a conversation, without which their number alone says nothing.
_NEAR_NS = 1_000_000_000  # Conversations of the same ends that are further apart in time are at odds.
_TCP = 6
_MOST_OF_ENDS = 16  # Of more conversations between the same ends, only the first are compared.


def conversation_keys(flows: Rows) -> Uint64s:
    """One number for the two ends, whoever sent first and wherever it was seen."""

    def mix(high: Array, low: Array, port: Array) -> Array:
        x = (high ^ (low * uint64(0x9E3779B97F4A7C15))) + port.astype(np.uint64) * uint64(0xC2B2AE3D27D4EB4F)
        x = (x ^ (x >> uint64(29))) * uint64(0xBF58476D1CE4E5B9)
        return np.asarray(x ^ (x >> uint64(32)))

    return np.asarray(
        mix(flows.a_hi, flows.a_lo, flows.a_port)
        + mix(flows.b_hi, flows.b_lo, flows.b_port)
        + flows.protocol.astype(np.uint64)
    )


@kernel
def _pairs(order: Int64s, begins: Int64s, flows: Rows, out: Int64s2) -> int:
    """Fills out (lower point, higher point, conversation of each, 1 where they lived together) for conversations of the
    same ends at two points; with no room it only counts. Returns how many.

    begins: where the conversations of the same ends begin in `order`, and its end.
    """
    count = 0
    for g in range(begins.size - 1):
        last = min(begins[g + 1], begins[g] + _MOST_OF_ENDS)
        for i in range(begins[g], last):
            for j in range(i + 1, last):
                one, two = order[i], order[j]
                if flows.point[one] == flows.point[two]:
                    continue
                if flows.point[one] > flows.point[two]:
                    one, two = two, one
                if count < out.shape[0]:
                    together = (
                        flows.first_ns[one] <= flows.last_ns[two] + _NEAR_NS
                        and flows.first_ns[two] <= flows.last_ns[one] + _NEAR_NS
                    )
                    out[count, 0], out[count, 1] = flows.point[one], flows.point[two]
                    out[count, 2], out[count, 3] = one, two
                    out[count, 4] = 1 if together else 0
                count += 1
    return count


@kernel
def _put_rows(flow: Int32s, number: Int32s, place: Int64s, out: Int64s) -> None:
    """Fills out with the rows of some conversations, one conversation after another, in order of capture.

    number: of each conversation its place among those, -1 for others; place: where its next row goes.
    """
    last = flow.size - 1
    for i in range(flow.size):
        soon = flow[min(i + _AHEAD, last)]
        if soon >= 0 and number[soon] >= 0:
            prefetch(out, place[number[soon]])
        f = flow[i]
        if f >= 0 and number[f] >= 0:
            out[place[number[f]]] = i
            place[number[f]] += 1


@helper
def _identity(head: Head) -> int:
    """A number for a packet that stays the same along the path (and is the same for repeats)."""
    own = uint64(head.seq) << uint64(32) | uint64(head.ack)
    own ^= uint64(head.ip_id) * uint64(0x9E3779B97F4A7C15)
    return own ^ uint64(head.payload) << uint64(16) ^ uint64(head.tsval) * uint64(0xBF58476D1CE4E5B9)


@helper
def _identities(packets: Columns, rows: Int64s, out: Uint64s) -> None:
    """Those of some packets, which lie far apart."""
    for i in range(rows.size):
        prefetch(packets.head, rows[min(i + _AHEAD, rows.size - 1)])
        out[i] = _identity(packets.head[rows[i]])


@helper
def _found(identity: int, ids: Uint64s, slots: Int32s, mask: int, chance: int) -> int:
    """The slot where a packet of this identity stands, or would."""
    slot = int64((identity * chance) >> uint64(32)) & mask
    while slots[slot] >= 0 and ids[slots[slot]] != identity:
        slot = (slot + 1) & mask
    return slot


@kernel
def _first_of_each(ids: Uint64s, slots: Int32s, chance: int) -> tuple[int, int]:
    """Puts the first packet of each identity into a slot; (how many there are, the mask of the slots that are used)."""
    mask = 1
    while mask < 2 * ids.size:
        mask *= 2
    mask -= 1
    slots[: mask + 1] = -1
    count = 0
    for i in range(ids.size):
        slot = _found(ids[i], ids, slots, mask, chance)
        if slots[slot] < 0:
            slots[slot] = i
            count += 1
    return count, mask


@kernel
def compare_pairs(
    packets: Columns, rows: Int64s, starts: Int64s, pairs: Int64s2, chance: int, copies: Int64s
) -> tuple[int, int, int, int]:
    """Of pairs of conversations of two interfaces: packets that both saw, those of them at the same moment, and packets
    of the shorter of each pair. Fills copies with the rows of the second that are copies; their number comes last.

    rows: packets of conversation number k: rows[starts[k]:starts[k + 1]]; pairs: int64 (n, 2) of such numbers;
    chance: an odd number that nobody knows, so that no capture is made to fall into few slots.
    """
    shared = same = seen = found = most = 0
    for index in range(pairs.shape[0]):
        for k in range(2):
            most = max(most, starts[pairs[index, k] + 1] - starts[pairs[index, k]])
    room_a, room_b, slots = np.empty(most, np.uint64), np.empty(most, np.uint64), np.empty(4 * most + 2, np.int32)
    met = np.empty(most, np.bool_)
    for index in range(pairs.shape[0]):
        if index >= _FLOWS_COMPARED and same * 2 < shared:
            break
        a = rows[starts[pairs[index, 0]] : starts[pairs[index, 0] + 1]]
        b = rows[starts[pairs[index, 1]] : starts[pairs[index, 1] + 1]]
        if a.size == 0 or b.size == 0:
            continue
        ids_a, ids_b = room_a[: a.size], room_b[: b.size]
        _identities(packets, a, ids_a)
        _identities(packets, b, ids_b)
        kinds, mask = _first_of_each(ids_a, slots, chance)
        # All look alike to their headers: the first is taken for the first.
        in_order = kinds * 2 < a.size and a.size >= _LIKE_ENOUGH and abs(a.size - b.size) * 10 <= a.size
        seen += min(a.size, b.size)
        met[: a.size] = False
        for j in range(min(a.size, b.size) if in_order else b.size):
            i = j if in_order else slots[_found(ids_b[j], ids_a, slots, mask, chance)]
            if i < 0 or met[i]:
                continue
            met[i] = True
            shared += 1
            apart = abs(packets.time_ns[a[i]] - packets.time_ns[b[j]])
            if apart <= _SAME_MOMENT_NS and packets.ttl[a[i]] == packets.ttl[b[j]]:
                same += 1
                copies[found] = b[j]
                found += 1
    return shared, same, seen, found


class SharedConversations:
    """Conversations of the same ends at two points. `together` and `at_odds`: for each two points, the lower first,
    int64 (n, 2) of such conversations that lived at the same time, and of such that did not: of another point, if its
    clock is wrong.

    Their packets are gathered in one pass when they are first compared. They may be by several threads.
    """

    def __init__(self, capture: Draft, order: Array, begins: Array) -> None:
        """order: conversations, those of the same ends side by side; begins: where each such group begins, and the
        end.
        """
        flows = capture.conversations
        self._capture = capture
        out = np.empty((_pairs(order, begins, flows, np.empty((0, 5), np.int64)), 5), np.int64)
        _pairs(order, begins, flows, out)
        self.together, self.at_odds = (_by_points(out[out[:, 4] == told]) for told in (1, 0))
        shared = np.zeros(flows.point.size, bool)
        shared[out[:, 2:4].reshape(-1)] = True
        wanted = np.flatnonzero(shared)
        self._starts = np.concatenate([[0], np.cumsum(flows.packets[wanted])]).astype(np.int64)
        self._number = np.full(flows.point.size, -1, np.int32)
        self._number[wanted] = np.arange(wanted.size)
        self._lock, self._chance = Lock(), uint64(secrets.randbits(64) | 1)

    @cached_property
    def _rows(self) -> Int64s:
        rows = np.empty(int(self._starts[-1]), np.int64)
        _put_rows(self._capture.packets.flow, self._number, self._starts[:-1].copy(), rows)
        return rows

    def compare(self, pairs: Int64s2, *, pieces: bool = False) -> tuple[str, Int64s]:
        """How two points relate, from conversations both saw; and the rows of the second that are copies. pieces: their
        files follow each other, so that conversations without sequence numbers may be pieces of one.
        """
        nothing = np.empty(0, np.int64)
        if pieces:
            pairs = pairs[~_may_be_pieces(self._capture.conversations, pairs)]
        if not pairs.size:
            return "nothing shared", nothing
        with self._lock:
            rows = self._rows
        numbers = self._number[pairs].astype(np.int64)
        copies = np.empty(int((self._starts[numbers[:, 1] + 1] - self._starts[numbers[:, 1]]).sum()), np.int64)
        shared, same, seen, found = compare_pairs(
            self._capture.packets, rows, self._starts, numbers, self._chance, copies
        )
        if shared * 10 < seen or shared == 0:
            return "nothing shared", nothing
        return ("elsewhere", nothing) if same * 2 < shared else ("same place", copies[:found])


def _may_be_pieces(flows: Rows, pairs: Int64s2) -> Bools:
    """Of pairs of conversations whether one may be what follows of the other: not at the same time, of many packets,
    whose numbers (of IP alone) begin again and again. bool (n,).
    """
    one, two = pairs.T
    apart = (flows.first_ns[one] > flows.last_ns[two]) | (flows.first_ns[two] > flows.last_ns[one])
    many = np.minimum(flows.packets[one], flows.packets[two]) >= _LIKE_ENOUGH
    return np.asarray(apart & many & (flows.protocol[one] != _TCP))


def _by_points(pairs: Int64s2) -> dict[tuple[int, int], Array]:
    """The conversations of each two points, in the order given."""
    order = np.lexsort((pairs[:, 1], pairs[:, 0]))
    pairs = pairs[order]
    cuts = np.flatnonzero((np.diff(pairs[:, :2], axis=0) != 0).any(axis=1)) + 1
    return {(int(part[0, 0]), int(part[0, 1])): part[:, 2:4] for part in np.split(pairs, cuts) if part.size}


def other_sequences(flows: Rows, pairs: Int64s2) -> Bools:
    """Which pairs of conversations of the same ends began with other sequence numbers while both lived: something
    between answers itself. bool (n,).
    """
    one, two = pairs.T
    opening = np.maximum(flows.syn_seq, flows.syn_seq_b)  # Of the one side that sent a SYN, as a rule.
    opened = (flows.state & (SYN_FROM_A | SYN_FROM_A << 1)) > 0
    both = np.minimum(flows.last_ns[one], flows.last_ns[two]) - np.maximum(flows.first_ns[one], flows.first_ns[two])
    shorter = np.minimum(flows.last_ns[one] - flows.first_ns[one], flows.last_ns[two] - flows.first_ns[two])
    return np.asarray(
        (flows.protocol[one] == 6) & opened[one] & opened[two] & (opening[one] != opening[two]) & (both * 2 > shorter)
    )
