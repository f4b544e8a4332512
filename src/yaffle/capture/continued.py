"""Conversations that go on in the next file: the same ends at the same point, without a new beginning."""

import numpy as np

from yaffle.arrays import Int8s, Int32s, Int64s, Uint64s
from yaffle.capture.conversations import Rows, turned
from yaffle.capture.draft import Draft
from yaffle.capture.packets import MARK_FROM_B, Columns
from yaffle.kernels import int64, kernel, uint8

_OPENED = 3  # either side sent a SYN (conversations.SYN_FROM_A, SYN_FROM_B)


@kernel
def _continue(order: Int64s, begins: Int64s, flows: Rows, latest: Int64s, target: Int64s, swap: Int8s) -> None:
    """Fills target, the conversation that each goes on with (itself where it begins anew), and swap, 1 where its ends
    stand the other way round; sums and states are added up in what is gone on with.

    order: conversations by their ends, then by their beginning; begins: as in `SharedConversations`; latest: of each
    point -1, as it is left.
    """
    for g in range(begins.size - 1):
        for k in range(begins[g], begins[g + 1]):
            row = order[k]
            target[row], swap[row] = row, 0
            before = latest[flows.point[row]]
            anew = before < 0
            if not anew and flows.state[row] & _OPENED:
                # Of the one side that sent a SYN, as a rule.
                opening, earlier = (
                    max(flows.syn_seq[row], flows.syn_seq_b[row]),
                    max(flows.syn_seq[before], flows.syn_seq_b[before]),
                )
                anew = opening != earlier and (flows.state[before] & _OPENED) != 0
            if anew:
                latest[flows.point[row]] = row
                continue
            target[row] = before
            state = int64(flows.state[row])
            if flows.a_lo[row] != flows.a_lo[before] or flows.a_port[row] != flows.a_port[before]:
                swap[row] = 1
                state = turned(state)
            flows.state[before] |= uint8(state)
            flows.packets[before] += flows.packets[row]
            flows.octets[before] += flows.octets[row]
            flows.last_ns[before] = max(flows.last_ns[before], flows.last_ns[row])
        for k in range(begins[g], begins[g + 1]):
            latest[flows.point[order[k]]] = -1


@kernel
def renumber(packets: Columns, number: Int32s, swap: Int8s) -> None:
    """Gives packets the new number of their conversation; swap: 1 where its ends change places."""
    for i in range(packets.flow.size):
        old = packets.flow[i]
        if old >= 0:
            packets.flow[i] = number[old]
            if swap[old]:
                packets.direction[i] ^= 1
                packets.head[i].marks ^= MARK_FROM_B


def join_continued(capture: Draft, keys: Uint64s) -> None:
    """Conversations of one point over the same ports become one, unless the later began with a SYN of its own.

    keys: of each conversation, the same for the same ends.
    """
    flows = capture.conversations
    count = flows.point.size
    order = np.lexsort((flows.first_ns, keys))
    latest = np.full(int(flows.point.max(initial=0)) + 1, -1, np.int64)
    target, swap = np.empty(count, np.int64), np.empty(count, np.int8)
    _continue(order, begins_of(keys[order]), flows, latest, target, swap)
    kept = np.flatnonzero(target == np.arange(count))
    if kept.size == count:
        return
    number = np.full(count, -1, np.int32)
    number[kept] = np.arange(kept.size, dtype=np.int32)
    capture.own("flow", *(("head", "direction") if swap.any() else ()))
    renumber(capture.packets, number[target], swap)
    capture.conversations = Rows._make(column[kept] for column in flows)


def begins_of(ordered: Uint64s) -> Int64s:
    """Where equal values that stand side by side begin, and their end."""
    return np.concatenate([[0], np.flatnonzero(np.diff(ordered)) + 1, [ordered.size]])
