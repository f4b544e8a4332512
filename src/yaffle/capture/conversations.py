"""Which conversation each packet belongs to: a hash table over addresses, ports, protocol and point.

A TCP conversation ends where a new SYN opens the next one over the same ports (RFC 9293 section 3.6.1).
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.headers import Ends
from yaffle.capture.packets import Columns
from yaffle.kernels import helper, kernel

# One row a conversation. `a` is who sent the first packet seen.
_ROWS = (
    ("a_hi", np.uint64),
    ("a_lo", np.uint64),
    ("b_hi", np.uint64),
    ("b_lo", np.uint64),
    ("a_port", np.uint16),
    ("b_port", np.uint16),
    ("protocol", np.uint16),
    ("point", np.uint16),
    ("ipv6", np.uint8),
    ("state", np.uint8),
    ("syn_seq", np.uint32),
    ("packets", np.int64),
    ("octets", np.int64),
    ("first_ns", np.int64),
    ("last_ns", np.int64),
)


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
    ipv6: Array
    state: Array
    syn_seq: Array
    packets: Array
    octets: Array
    first_ns: Array
    last_ns: Array


SYN_FROM_A, SYN_FROM_B, FIN_A, FIN_B, RESET, ANSWERED_SYN_A, ANSWERED_SYN_B = 1, 2, 4, 8, 16, 32, 64


@helper
def _mix(high, low, port):  # type: ignore[no-untyped-def]
    x = (high ^ (low * np.uint64(0x9E3779B97F4A7C15))) + np.uint64(port) * np.uint64(0xC2B2AE3D27D4EB4F)
    x ^= x >> np.uint64(29)
    x *= np.uint64(0xBF58476D1CE4E5B9)
    return x ^ (x >> np.uint64(32))


@kernel
def _assign(start, packets, ends, point_of_link, rows, count, slots, fragments):  # type: ignore[no-untyped-def]
    """Gives each packet its conversation. Returns (next packet, rows used); stops early when the table is full."""
    mask = np.uint64(slots.size - 1)
    room = rows.point.size
    for i in range(start, packets.time_ns.size):
        protocol = np.int64(packets.protocol[i])
        marks = np.int64(packets.marks[i])
        if protocol == 0 or protocol >= 0x600:
            packets.flow[i] = -1
            continue
        point = np.int64(point_of_link[packets.link[i]])
        sh, sl, dh, dl = ends.src_hi[i], ends.src_lo[i], ends.dst_hi[i], ends.dst_lo[i]
        sp, dp = ends.src_port[i], ends.dst_port[i]
        if marks & 4:  # A later fragment has no ports: it follows the first one.
            key = (_mix(sh, sl, 0) + _mix(dh, dl, 1) + np.uint64(ends.fragment[i])) & np.uint64(fragments.size - 1)
            row = fragments[key]
            packets.flow[i] = -1
            if row >= 0 and rows.protocol[row] == protocol:
                forward = rows.a_hi[row] == sh and rows.a_lo[row] == sl and rows.b_lo[row] == dl and rows.b_hi[row] == dh
                backward = rows.b_hi[row] == sh and rows.b_lo[row] == sl and rows.a_lo[row] == dl and rows.a_hi[row] == dh
                if forward or backward:
                    packets.flow[i] = row
                    packets.direction[i] = 0 if forward else 1
                    rows.packets[row] += 1
                    rows.octets[row] += packets.wire_bytes[i]
            continue
        slot = (_mix(sh, sl, sp) + _mix(dh, dl, dp) + np.uint64(protocol * 31 + point)) & mask
        row = -1
        direction = 0
        while True:
            row = slots[slot]
            if row < 0:
                break
            if rows.protocol[row] == protocol and rows.point[row] == point:
                if rows.a_port[row] == sp and rows.b_port[row] == dp and rows.a_lo[row] == sl and rows.b_lo[row] == dl:
                    if rows.a_hi[row] == sh and rows.b_hi[row] == dh:
                        direction = 0
                        break
                if rows.a_port[row] == dp and rows.b_port[row] == sp and rows.a_lo[row] == dl and rows.b_lo[row] == sl:
                    if rows.a_hi[row] == dh and rows.b_hi[row] == sh:
                        direction = 1
                        break
            slot = (slot + np.uint64(1)) & mask
        flags = np.int64(packets.flags[i])
        fresh = row < 0
        if protocol == 6 and not fresh and (flags & 0x16) == 2:
            state = np.int64(rows.state[row])
            own = 1 if direction == 0 else 2
            if state & own:
                fresh = rows.syn_seq[row] != packets.seq[i]
            elif state & 3:
                fresh = (state & 28) != 0  # The other side opened before; a new start only once that had closed.
            else:
                fresh = True
        if fresh:
            if count == room or count * 2 >= slots.size:
                return i, count
            row = count
            count += 1
            slots[slot] = row
            rows.a_hi[row], rows.a_lo[row], rows.b_hi[row], rows.b_lo[row] = sh, sl, dh, dl
            rows.a_port[row], rows.b_port[row] = sp, dp
            rows.protocol[row], rows.point[row] = protocol, point
            rows.ipv6[row] = 1 if marks & 8192 else 0
            rows.state[row] = 0
            rows.syn_seq[row] = 0
            rows.packets[row] = 0
            rows.octets[row] = 0
            rows.first_ns[row] = packets.time_ns[i]
            rows.last_ns[row] = packets.time_ns[i]
            direction = 0
        if protocol == 6:
            if flags & 2:
                if flags & 16:
                    rows.state[row] |= 32 if direction == 0 else 64
                else:
                    rows.state[row] |= 1 if direction == 0 else 2
                    rows.syn_seq[row] = packets.seq[i]
            if flags & 1:
                rows.state[row] |= 4 if direction == 0 else 8
            if flags & 4:
                rows.state[row] |= 16
        packets.flow[i] = row
        packets.direction[i] = direction
        rows.packets[row] += 1
        rows.octets[row] += packets.wire_bytes[i]
        rows.last_ns[row] = max(rows.last_ns[row], packets.time_ns[i])
        rows.first_ns[row] = min(rows.first_ns[row], packets.time_ns[i])
        if marks & 2:
            key = (_mix(sh, sl, 0) + _mix(dh, dl, 1) + np.uint64(ends.fragment[i])) & np.uint64(fragments.size - 1)
            fragments[key] = row
    return packets.time_ns.size, count


@kernel
def _refill(rows, count, slots):  # type: ignore[no-untyped-def]
    """Puts the rows into a larger table; of rows with one key the latest stays reachable."""
    mask = np.uint64(slots.size - 1)
    for row in range(count):
        point = np.int64(rows.point[row])
        protocol = np.int64(rows.protocol[row])
        slot = _mix(rows.a_hi[row], rows.a_lo[row], np.int64(rows.a_port[row])) + _mix(rows.b_hi[row], rows.b_lo[row], np.int64(rows.b_port[row]))
        slot = (slot + np.uint64(protocol * 31 + point)) & mask
        while True:
            other = slots[slot]
            if other < 0:
                break
            if rows.protocol[other] == protocol and rows.point[other] == point:
                same = rows.a_port[other] == rows.a_port[row] and rows.b_port[other] == rows.b_port[row]
                same = same and rows.a_lo[other] == rows.a_lo[row] and rows.b_lo[other] == rows.b_lo[row]
                same = same and rows.a_hi[other] == rows.a_hi[row] and rows.b_hi[other] == rows.b_hi[row]
                swapped = rows.a_port[other] == rows.b_port[row] and rows.b_port[other] == rows.a_port[row]
                swapped = swapped and rows.a_lo[other] == rows.b_lo[row] and rows.b_lo[other] == rows.a_lo[row]
                swapped = swapped and rows.a_hi[other] == rows.b_hi[row] and rows.b_hi[other] == rows.a_hi[row]
                if same or swapped:
                    break
            slot = (slot + np.uint64(1)) & mask
        slots[slot] = row


class ConversationTable:
    """All conversations so far; grows as needed."""

    def __init__(self) -> None:
        self._rows = Rows(*(np.zeros(1024, dtype) for _, dtype in _ROWS))
        self._slots = np.full(4096, -1, np.int32)
        self._fragments = np.full(1 << 14, -1, np.int32)
        self.count = 0

    def assign(self, packets: Columns, ends: Ends, point_of_link: Array) -> None:
        """Sets `flow` and `direction` (0: sent by `a`) of the packets."""
        at, total = 0, packets.time_ns.size
        while True:
            at, self.count = _assign(at, packets, ends, point_of_link, self._rows, self.count, self._slots, self._fragments)
            if at >= total:
                return
            if self.count == self._rows.point.size:
                self._rows = Rows(*(np.concatenate([column, np.zeros_like(column)]) for column in self._rows))
            if self.count * 2 >= self._slots.size:
                self._slots = np.full(self._slots.size * 4, -1, np.int32)
                _refill(self._rows, self.count, self._slots)

    def rows(self) -> Rows:
        """Views of the rows in use."""
        return Rows(*(column[: self.count] for column in self._rows))
