"""Which conversation each packet belongs to: a hash table over addresses, ports, protocol and point.

A TCP conversation ends where a new SYN opens the next one over the same ports (RFC 9293 section 3.6.1).
"""

import secrets
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, staggered
from yaffle.capture.headers import Ends
from yaffle.capture.packets import (
    HEAD_FROM_B,
    MARK_FRAGMENT,
    MARK_IPV6,
    MARK_LATER_FRAGMENT,
    MARK_TUNNEL_SHIFT,
    Columns,
)
from yaffle.kernels import helper, kernel
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
assert ROW.itemsize == 128  # Two lines of the cache; the first holds what a packet is compared with.


_HALF = np.dtype([("line", np.uint64, 8)])


def _aligned_rows(capacity: int) -> Array:
    rows = staggered(capacity, ROW, 0)
    rows.view(np.uint8)[:] = 0
    return rows


class Rows(NamedTuple):
    """The columns of all conversations, of one length."""

    a_hi: Array
    a_lo: Array
    b_hi: Array
    b_lo: Array
    a_port: Array
    b_port: Array
    protocol: Array
    point: Array
    syn_seq: Array
    ipv6: Array
    state: Array
    tunnel: Array
    packets: Array
    octets: Array
    first_ns: Array
    last_ns: Array
    tunnel_id: Array
    outer_a_hi: Array
    outer_a_lo: Array
    outer_b_hi: Array
    outer_b_lo: Array
    syn_seq_b: Array


_EMPTY = np.uint64(0xFFFFFFFFFFFFFFFF)
SYN_FROM_A, SYN_FROM_B, FIN_A, FIN_B, RESET, ANSWERED_SYN_A, ANSWERED_SYN_B = 1, 2, 4, 8, 16, 32, 64

_OF_A, _OF_B = SYN_FROM_A | FIN_A | ANSWERED_SYN_A, SYN_FROM_B | FIN_B | ANSWERED_SYN_B


@helper
def _mix(high, low, port, seed):  # type: ignore[no-untyped-def]
    x = (high ^ seed ^ (low * np.uint64(0x9E3779B97F4A7C15))) + np.uint64(port) * np.uint64(0xC2B2AE3D27D4EB4F)
    x ^= x >> np.uint64(29)
    x *= np.uint64(0xBF58476D1CE4E5B9)
    return x ^ (x >> np.uint64(32))


@kernel
def _keys(packets, ends, point_of_link, seed, keys):  # type: ignore[no-untyped-def]
    """A hash of the two ends of each packet, the same in both directions; 0 where it belongs to no conversation."""
    for i in range(packets.time_ns.size):
        protocol = np.int64(packets.protocol[i])
        keys[i] = 0
        if protocol == 0 or protocol >= 0x600:
            continue
        key = _mix(ends.src_hi[i], ends.src_lo[i], ends.src_port[i], seed) + _mix(
            ends.dst_hi[i], ends.dst_lo[i], ends.dst_port[i], seed
        )
        key += np.uint64(protocol * 31 + np.int64(point_of_link[packets.link[i]])) * np.uint64(0x9E3779B97F4A7C15)
        keys[i] = max(key ^ (key >> np.uint64(31)), np.uint64(1))


@kernel
def _assign(start, packets, ends, point_of_link, seed, keys, rows, halves, count, slots, fragments):  # type: ignore[no-untyped-def]
    """Gives each packet its conversation. Returns (next packet, rows used); stops early when the table is full.

    slots: uint64, upper half of the key << 32 | row; all ones where empty. halves: the rows in halves, to be asked for
    ahead.
    """
    mask = np.uint64(slots.size - 1)
    low = np.uint64(0xFFFFFFFF)
    empty = np.uint64(0xFFFFFFFFFFFFFFFF)
    last = packets.time_ns.size - 1
    for i in range(start, packets.time_ns.size):
        key = keys[i]
        prefetch(slots, keys[min(i + 24, last)] >> np.uint64(32) & mask)
        soon = slots[keys[min(i + 12, last)] >> np.uint64(32) & mask]
        if soon != empty:
            prefetch(rows, np.int64(soon & low))
            prefetch(halves, 2 * np.int64(soon & low) + 1)
        if key == np.uint64(0):
            packets.flow[i] = -1
            continue
        marks = np.int64(packets.marks[i])
        protocol = np.int64(packets.protocol[i])
        point = np.int64(point_of_link[packets.link[i]])
        sh, sl, dh, dl = ends.src_hi[i], ends.src_lo[i], ends.dst_hi[i], ends.dst_lo[i]
        sp, dp = ends.src_port[i], ends.dst_port[i]
        if marks & MARK_LATER_FRAGMENT:  # A later fragment has no ports: it follows the first one.
            slot = (_mix(sh, sl, 0, seed) + _mix(dh, dl, 1, seed) + np.uint64(ends.fragment[i])) & np.uint64(
                fragments.size - 1
            )
            entry = fragments[slot]
            row = np.int64(entry & low)
            packets.flow[i] = -1
            if (
                entry != empty
                and np.int64(entry >> np.uint64(32)) == ends.fragment[i]
                and rows[row].protocol == protocol
            ):
                r = rows[row]
                forward = r.a_hi == sh and r.a_lo == sl and r.b_lo == dl and r.b_hi == dh
                backward = r.b_hi == sh and r.b_lo == sl and r.a_lo == dl and r.a_hi == dh
                if forward or backward:
                    packets.flow[i] = row
                    packets.direction[i] = 0 if forward else 1
                    r.packets += 1
                    r.octets += packets.wire_bytes[i]
            continue
        tag = key >> np.uint64(32)
        slot = tag & mask
        row = -1
        direction = 0
        while True:
            entry = slots[slot]
            if entry == empty:
                break
            if entry >> np.uint64(32) == tag:
                row = np.int64(entry & low)
                r = rows[row]
                if r.protocol == protocol and r.point == point:
                    if (
                        r.a_port == sp
                        and r.b_port == dp
                        and r.a_lo == sl
                        and r.b_lo == dl
                        and r.a_hi == sh
                        and r.b_hi == dh
                    ):
                        direction = 0
                        break
                    if (
                        r.a_port == dp
                        and r.b_port == sp
                        and r.a_lo == dl
                        and r.b_lo == sl
                        and r.a_hi == dh
                        and r.b_hi == sh
                    ):
                        direction = 1
                        break
                row = -1
            slot = (slot + np.uint64(1)) & mask
        flags = np.int64(packets.flags[i])
        fresh = row < 0
        if protocol == 6 and not fresh and (flags & 0x16) == 2:
            state = np.int64(rows[row].state)
            own = 1 if direction == 0 else 2
            if state & own:
                fresh = (rows[row].syn_seq if direction == 0 else rows[row].syn_seq_b) != packets.head[i].seq
            elif state & 3:
                fresh = (state & 28) != 0  # The other side opened before; a new start only once that had closed.
            else:
                fresh = True
        if fresh:
            if count == rows.size or count * 2 >= slots.size:
                return i, count
            row = count
            count += 1
            slots[slot] = (tag << np.uint64(32)) | np.uint64(row)
            r = rows[row]
            r.a_hi, r.a_lo, r.b_hi, r.b_lo = sh, sl, dh, dl
            r.a_port, r.b_port = sp, dp
            r.protocol, r.point = protocol, point
            r.ipv6 = 1 if marks & MARK_IPV6 else 0
            r.state, r.syn_seq, r.syn_seq_b = 0, 0, 0
            r.packets, r.octets = 0, 0
            r.first_ns = r.last_ns = packets.time_ns[i]
            r.tunnel = (marks >> MARK_TUNNEL_SHIFT) & 7
            r.tunnel_id = ends.tunnel_id[i]
            r.outer_a_hi = r.outer_a_lo = r.outer_b_hi = r.outer_b_lo = np.uint64(0)
            if 1 <= r.tunnel <= 4:
                r.outer_a_hi, r.outer_a_lo, r.outer_b_hi, r.outer_b_lo = (
                    ends.outer[i, 0],
                    ends.outer[i, 1],
                    ends.outer[i, 2],
                    ends.outer[i, 3],
                )
            direction = 0
        r = rows[row]
        if protocol == 6:
            if flags & 2:
                if flags & 16:
                    r.state |= 32 if direction == 0 else 64
                else:
                    r.state |= 1 if direction == 0 else 2
                    if direction == 0:
                        r.syn_seq = packets.head[i].seq
                    else:
                        r.syn_seq_b = packets.head[i].seq
            if flags & 1:
                r.state |= 4 if direction == 0 else 8
            if flags & 4:
                r.state |= 16
        packets.flow[i] = row
        packets.direction[i] = direction
        if direction:
            packets.head[i].flags |= HEAD_FROM_B
        r.packets += 1
        r.octets += packets.wire_bytes[i]
        r.last_ns = max(r.last_ns, packets.time_ns[i])
        r.first_ns = min(r.first_ns, packets.time_ns[i])
        if marks & MARK_FRAGMENT:
            slot = (_mix(sh, sl, 0, seed) + _mix(dh, dl, 1, seed) + np.uint64(ends.fragment[i])) & np.uint64(
                fragments.size - 1
            )
            fragments[slot] = (np.uint64(ends.fragment[i]) << np.uint64(32)) | np.uint64(row)
    return packets.time_ns.size, count


@kernel
def refill(old, slots):  # type: ignore[no-untyped-def]
    """Puts the entries into a larger table."""
    mask = np.uint64(slots.size - 1)
    empty = np.uint64(0xFFFFFFFFFFFFFFFF)
    for k in range(old.size):
        if old[k] != empty:
            slot = old[k] >> np.uint64(32) & mask
            while slots[slot] != empty:
                slot = (slot + np.uint64(1)) & mask
            slots[slot] = old[k]


@helper
def turned(state):  # type: ignore[no-untyped-def]
    """The state of a conversation whose ends change places."""
    return (state & RESET) | (state & _OF_A) << 1 | (state & _OF_B) >> 1


class ConversationTable:
    """All conversations so far; grows as needed."""

    def __init__(self) -> None:
        self._rows = _aligned_rows(1024)
        self._slots = np.full(4096, _EMPTY, np.uint64)
        self._fragments = np.full(1 << 14, _EMPTY, np.uint64)
        self._seed = np.uint64(secrets.randbits(64))  # Nobody can prepare a capture in which all keys collide.
        self._keys = np.empty(0, np.uint64)
        self.count = 0

    def assign(self, packets: Columns, ends: Ends, point_of_link: Array) -> None:
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
                self._keys,
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
