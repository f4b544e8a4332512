"""Which conversation each packet belongs to: a hash table over addresses, ports, protocol and point.

A TCP conversation ends where a new SYN opens the next one over the same ports (RFC 9293 section 3.6.1).
"""

import secrets
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s, Struct, Structs, Uint8s, Uint16s, Uint32s, Uint64s, staggered
from yaffle.capture.headers import Ends
from yaffle.capture.packets import (
    ACK,
    FIN,
    MARK_FRAGMENT,
    MARK_FROM_B,
    MARK_IPV6,
    MARK_LATER_FRAGMENT,
    MARK_TUNNEL_SHIFT,
    RST,
    SYN,
    Columns,
)
from yaffle.kernels import helper, int64, kernel, pasted, uint64
from yaffle.prefetch import prefetch

# One row a conversation, side by side in memory. `a` is who sent the first packet seen.
ROW = np.dtype(
    [
        ("a_hi", np.uint64),
        ("a_lo", np.uint64),
        ("b_hi", np.uint64),
        ("b_lo", np.uint64),
        ("a_port", np.uint16),
        ("b_port", np.uint16),
        ("protocol", np.uint16),
        ("point", np.uint16),
        ("syn_seq", np.uint32),
        ("ipv6", np.uint8),
        ("state", np.uint8),
        ("tunnel", np.uint16),  # index into packets.TUNNELS
        ("packets", np.int64),
        ("octets", np.int64),
        ("first_ns", np.int64),
        ("last_ns", np.int64),
        (
            "tunnel_id",
            np.int64,
        ),  # VXLAN network, GRE key, GTP-U endpoint, MPLS label or PPPoE session of the first packet
        ("outer_a_hi", np.uint64),  # addresses of the outermost IP header, 0 without
        ("outer_a_lo", np.uint64),
        ("outer_b_hi", np.uint64),
        ("outer_b_lo", np.uint64),
        ("syn_seq_b", np.uint32),  # of the SYN of `b`; syn_seq is of that of `a`
        ("pad", np.uint32),
    ]
)
ConversationRows = Structs  # of ROW
ConversationRow = Struct  # one of them
assert ROW.itemsize == 128  # Two lines of the cache; the first holds what a packet is compared with.


_HALF = np.dtype([("line", np.uint64, 8)])
_Halves = Structs  # of _HALF


def _aligned_rows(capacity: int) -> ConversationRows:
    rows = staggered(capacity, ROW, 0)
    rows.view(np.uint8)[:] = 0
    return rows


class Rows(NamedTuple):
    """The columns of all conversations, of one length."""

    a_hi: Uint64s
    a_lo: Uint64s
    b_hi: Uint64s
    b_lo: Uint64s
    a_port: Uint16s
    b_port: Uint16s
    protocol: Uint16s
    point: Uint16s
    syn_seq: Uint32s
    ipv6: Uint8s
    state: Uint8s
    tunnel: Uint16s
    packets: Int64s
    octets: Int64s
    first_ns: Int64s
    last_ns: Int64s
    tunnel_id: Int64s
    outer_a_hi: Uint64s
    outer_a_lo: Uint64s
    outer_b_hi: Uint64s
    outer_b_lo: Uint64s
    syn_seq_b: Uint32s


_EMPTY, _LOW = uint64(0xFFFFFFFFFFFFFFFF), uint64(0xFFFFFFFF)
_TCP = 6
_LAST_WITH_OUTER = 4  # of the tunnels that have an IP header around them
SYN_FROM_A, SYN_FROM_B, FIN_A, FIN_B, RESET, ANSWERED_SYN_A, ANSWERED_SYN_B = 1, 2, 4, 8, 16, 32, 64

_OF_A, _OF_B = SYN_FROM_A | FIN_A | ANSWERED_SYN_A, SYN_FROM_B | FIN_B | ANSWERED_SYN_B


@helper
def _mix(high: int, low: int, port: int, seed: int) -> int:
    x = (high ^ seed ^ (low * uint64(0x9E3779B97F4A7C15))) + uint64(port) * uint64(0xC2B2AE3D27D4EB4F)
    x ^= x >> uint64(29)
    x *= uint64(0xBF58476D1CE4E5B9)
    return x ^ (x >> uint64(32))


@kernel
def _keys(packets: Columns, ends: Ends, point_of_link: Int64s, seed: int, keys: Uint64s) -> None:
    """A hash of the two ends of each packet, the same in both directions; 0 where it belongs to no conversation."""
    for i in range(packets.time_ns.size):
        protocol = int64(packets.protocol[i])
        keys[i] = 0
        if protocol == 0 or protocol >= 0x600:
            continue
        key = _mix(ends.src_hi[i], ends.src_lo[i], ends.src_port[i], seed) + _mix(
            ends.dst_hi[i], ends.dst_lo[i], ends.dst_port[i], seed
        )
        key += uint64(protocol * 31 + int64(point_of_link[packets.link[i]])) * uint64(0x9E3779B97F4A7C15)
        keys[i] = max(key ^ (key >> uint64(31)), uint64(1))


@pasted
def _direction(row: ConversationRow, packets: Columns, ends: Ends, i: int, point: int) -> int:
    """0 where packet i was sent by end `a` of a conversation, 1 by `b`; -1 where it is none of its."""
    if row.protocol != packets.protocol[i] or row.point != point:
        return -1
    source_hi, source_lo, target_hi, target_lo = ends.src_hi[i], ends.src_lo[i], ends.dst_hi[i], ends.dst_lo[i]
    source_port, target_port = ends.src_port[i], ends.dst_port[i]
    if (
        row.a_port == source_port
        and row.b_port == target_port
        and row.a_lo == source_lo
        and row.b_lo == target_lo
        and row.a_hi == source_hi
        and row.b_hi == target_hi
    ):
        return 0
    if (
        row.a_port == target_port
        and row.b_port == source_port
        and row.a_lo == target_lo
        and row.b_lo == source_lo
        and row.a_hi == target_hi
        and row.b_hi == source_hi
    ):
        return 1
    return -1


@pasted
def _looked_up(
    slots: Uint64s, key: int, rows: ConversationRows, packets: Columns, ends: Ends, i: int, point: int
) -> tuple[int, int, int]:
    """(slot, row, direction) of packet i; where its conversation is not known, the slot it would have, -1 and 0."""
    mask, tag = uint64(slots.size - 1), key >> uint64(32)
    slot = tag & mask
    entry = slots[slot]
    while entry != _EMPTY:
        if entry >> uint64(32) == tag:
            row = int64(entry & _LOW)
            direction = _direction(rows[row], packets, ends, i, point)
            if direction >= 0:
                return slot, row, direction
        slot = (slot + uint64(1)) & mask
        entry = slots[slot]
    return slot, int64(-1), 0


@pasted
def _fragment_slot(ends: Ends, i: int, seed: int, fragments: Uint64s) -> int:
    """Where the conversation of a packet's fragments is kept."""
    mixed = _mix(ends.src_hi[i], ends.src_lo[i], 0, seed) + _mix(ends.dst_hi[i], ends.dst_lo[i], 1, seed)
    return (mixed + uint64(ends.fragment[i])) & uint64(fragments.size - 1)


@pasted
def _follow_first(packets: Columns, ends: Ends, i: int, seed: int, rows: ConversationRows, fragments: Uint64s) -> None:
    """A later fragment has no ports: it follows the first one."""
    packets.flow[i] = -1
    entry = fragments[_fragment_slot(ends, i, seed, fragments)]
    if entry == _EMPTY or int64(entry >> uint64(32)) != ends.fragment[i]:
        return
    row = rows[int64(entry & _LOW)]
    if row.protocol != packets.protocol[i]:
        return
    source_hi, source_lo, target_hi, target_lo = ends.src_hi[i], ends.src_lo[i], ends.dst_hi[i], ends.dst_lo[i]
    forward = row.a_hi == source_hi and row.a_lo == source_lo and row.b_lo == target_lo and row.b_hi == target_hi
    backward = row.b_hi == source_hi and row.b_lo == source_lo and row.a_lo == target_lo and row.a_hi == target_hi
    if forward or backward:
        packets.flow[i] = int64(entry & _LOW)
        packets.direction[i] = 0 if forward else 1
        row.packets += 1
        row.octets += packets.wire_bytes[i]


@pasted
def _opens_next(row: ConversationRow, packets: Columns, i: int, direction: int) -> bool:
    """Whether a packet opens the next conversation over the ports of one that is known."""
    if packets.protocol[i] != _TCP or packets.head[i].flags & (SYN | ACK | RST) != SYN:
        return False
    state = int64(row.state)
    if state & (SYN_FROM_A if direction == 0 else SYN_FROM_B):
        return (row.syn_seq if direction == 0 else row.syn_seq_b) != packets.head[i].seq
    if state & (SYN_FROM_A | SYN_FROM_B):
        return (state & (FIN_A | FIN_B | RESET)) != 0  # The other side opened before; a new start once that had closed.
    return True


@pasted
def _begin(row: ConversationRow, packets: Columns, ends: Ends, i: int, point: int) -> None:
    """A conversation begins with packet i."""
    marks = int64(packets.head[i].marks)
    row.a_hi, row.a_lo, row.b_hi, row.b_lo = ends.src_hi[i], ends.src_lo[i], ends.dst_hi[i], ends.dst_lo[i]
    row.a_port, row.b_port = ends.src_port[i], ends.dst_port[i]
    row.protocol, row.point = packets.protocol[i], point
    row.ipv6 = 1 if marks & MARK_IPV6 else 0
    row.state, row.syn_seq, row.syn_seq_b = 0, 0, 0
    row.packets, row.octets = 0, 0
    row.first_ns = row.last_ns = packets.time_ns[i]
    row.tunnel, row.tunnel_id = (marks >> MARK_TUNNEL_SHIFT) & 7, ends.tunnel_id[i]
    row.outer_a_hi = row.outer_a_lo = row.outer_b_hi = row.outer_b_lo = uint64(0)
    if 1 <= row.tunnel <= _LAST_WITH_OUTER:
        outer = ends.outer
        row.outer_a_hi, row.outer_a_lo, row.outer_b_hi, row.outer_b_lo = (
            outer[i, 0], outer[i, 1], outer[i, 2], outer[i, 3],
        )  # fmt: skip


@pasted
def _note_flags(row: ConversationRow, packets: Columns, i: int, direction: int) -> None:
    """What a TCP packet tells of how its conversation opens and closes."""
    flags = int64(packets.head[i].flags)
    if flags & SYN and flags & ACK:
        row.state |= ANSWERED_SYN_A if direction == 0 else ANSWERED_SYN_B
    elif flags & SYN and direction == 0:
        row.state |= SYN_FROM_A
        row.syn_seq = packets.head[i].seq
    elif flags & SYN:
        row.state |= SYN_FROM_B
        row.syn_seq_b = packets.head[i].seq
    if flags & FIN:
        row.state |= FIN_A if direction == 0 else FIN_B
    if flags & RST:
        row.state |= RESET


@pasted
def _ask_ahead(slots: Uint64s, keys: Uint64s, i: int, rows: ConversationRows, halves: _Halves) -> None:
    """What later packets need is asked for."""
    last, mask = keys.size - 1, uint64(slots.size - 1)
    prefetch(slots, keys[min(i + 24, last)] >> uint64(32) & mask)
    soon = slots[keys[min(i + 12, last)] >> uint64(32) & mask]
    if soon != _EMPTY:
        prefetch(rows, int64(soon & _LOW))
        prefetch(halves, 2 * int64(soon & _LOW) + 1)


@kernel
def _assign(
    start: int,
    packets: Columns,
    ends: Ends,
    point_of_link: Int64s,
    seed: int,
    keys: Uint64s,
    rows: ConversationRows,
    halves: _Halves,
    count: int,
    slots: Uint64s,
    fragments: Uint64s,
) -> tuple[int, int]:
    """Gives each packet its conversation. Returns (next packet, rows used); stops early when the table is full.

    slots: uint64, upper half of the key << 32 | row; all ones where empty. halves: the rows in halves, to be asked for
    ahead.
    """
    for i in range(start, keys.size):
        key = keys[i]
        _ask_ahead(slots, keys, i, rows, halves)
        if key == uint64(0):
            packets.flow[i] = -1
            continue
        marks = packets.head[i].marks
        if marks & MARK_LATER_FRAGMENT:
            _follow_first(packets, ends, i, seed, rows, fragments)
            continue
        point = int64(point_of_link[packets.link[i]])
        slot, row, direction = _looked_up(slots, key, rows, packets, ends, i, point)
        if row < 0 or _opens_next(rows[row], packets, i, direction):
            if count == rows.size or count * 2 >= slots.size:
                return i, count
            row, direction = count, 0
            count += 1
            slots[slot] = (key >> uint64(32) << uint64(32)) | uint64(row)
            _begin(rows[row], packets, ends, i, point)
        own = rows[row]
        if packets.protocol[i] == _TCP:
            _note_flags(own, packets, i, direction)
        packets.flow[i], packets.direction[i] = row, direction
        if direction:
            packets.head[i].marks |= MARK_FROM_B
        own.packets += 1
        own.octets += packets.wire_bytes[i]
        own.last_ns = max(own.last_ns, packets.time_ns[i])
        own.first_ns = min(own.first_ns, packets.time_ns[i])
        if marks & MARK_FRAGMENT:
            place = _fragment_slot(ends, i, seed, fragments)
            fragments[place] = (uint64(ends.fragment[i]) << uint64(32)) | uint64(row)
    return keys.size, count


@kernel
def refill(old: Uint64s, slots: Uint64s) -> None:
    """Puts the entries into a larger table."""
    mask = uint64(slots.size - 1)
    empty = uint64(0xFFFFFFFFFFFFFFFF)
    for k in range(old.size):
        if old[k] != empty:
            slot = old[k] >> uint64(32) & mask
            while slots[slot] != empty:
                slot = (slot + uint64(1)) & mask
            slots[slot] = old[k]


@helper
def turned(state: int) -> int:
    """The state of a conversation whose ends change places."""
    return (state & RESET) | (state & _OF_A) << 1 | (state & _OF_B) >> 1


class ConversationTable:
    """All conversations so far; grows as needed."""

    def __init__(self) -> None:
        self._rows = _aligned_rows(1024)
        self._slots = np.full(4096, _EMPTY, np.uint64)
        self._fragments = np.full(1 << 14, _EMPTY, np.uint64)
        self._seed = uint64(secrets.randbits(64))  # Nobody can prepare a capture in which all keys collide.
        self._keys = np.empty(0, np.uint64)
        self.count = 0

    def assign(self, packets: Columns, ends: Ends, point_of_link: Int64s) -> None:
        """Sets `flow` and `direction` (0: sent by `a`) of the packets."""
        at, total = 0, packets.time_ns.size
        if self._keys.size < total:
            self._keys = np.empty(total, np.uint64)
        _keys(packets, ends, point_of_link, self._seed, self._keys)
        while True:
            at, self.count = _assign(
                at,
                packets,
                ends,
                point_of_link,
                self._seed,
                self._keys[:total],
                self._rows,
                self._rows.view(_HALF),
                self.count,
                self._slots,
                self._fragments,
            )
            if at >= total:
                return
            if self.count == self._rows.size:
                grown = _aligned_rows(2 * self.count)
                grown[: self.count] = self._rows
                self._rows = grown
            if self.count * 2 >= self._slots.size:
                slots = np.full(self._slots.size * 4, _EMPTY, np.uint64)
                refill(self._slots, slots)
                self._slots = slots

    def rows(self) -> Rows:
        """The rows in use, as columns."""
        return Rows(*(np.ascontiguousarray(self._rows[name][: self.count]) for name in Rows._fields))
