"""The packet columns: their names, types and units; and a table of them that grows without copies."""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Int8s, Int32s, Int64s, Struct, Structs, Uint8s, Uint16s, Uint32s
from yaffle.room import Room

# What the transport engine reads of a packet, side by side: one connection's packets lie far apart in a busy capture,
# and each costs one step to memory this way.
HEAD = np.dtype(
    [
        ("seq", np.uint32),  # TCP sequence number; ICMP echo: its number
        ("ack", np.uint32),
        ("tsval", np.uint32),  # TCP timestamp value and echo reply (RFC 7323)
        ("tsecr", np.uint32),
        (
            "extra",
            np.uint32,
        ),  # SYN: MSS | (window scale + 1) << 16 | SACK permitted << 24; else first row of its SACK blocks
        ("payload", np.uint32),  # bytes of transport payload on the wire, from the IP length
        ("window", np.uint16),  # as sent, unscaled
        ("ip_id", np.uint16),  # IPv4 identification
        ("flags", np.uint16),  # of TCP, FIN = 1 … CWR = 128, AE = 256; ICMP: type << 8 | code
        ("marks", np.uint16),  # bits, see the MARK_ constants
    ]
)
_UDP = 17
Heads = Structs  # of HEAD
Head = Struct  # one of them

# (name, dtype, meaning). One row a packet, in order of capture within each source.
SCHEMA: tuple[tuple[str, type | np.dtype, str], ...] = (
    ("head", HEAD, "transport header fields, see HEAD"),
    ("time_ns", np.int64, "time of capture, ns since 1970 UTC"),
    ("position", np.int64, "offset of the packet's first byte in its (decompressed) file"),
    ("captured_bytes", np.uint32, "bytes kept in the file"),
    ("wire_bytes", np.uint32, "bytes on the wire, link header included"),
    ("flow", np.int32, "row of the connection or conversation; -1 where there is none"),
    ("source", np.uint16, "row of the source"),
    ("link", np.uint16, "interface within the source"),
    ("payload_at", np.uint16, "offset of the transport payload within the packet"),
    ("vlan", np.uint16, "VLAN number of the innermost tag, 0 without"),
    ("protocol", np.uint16, "IP protocol number; EtherType (0x600 and above) where it is not IP; 0 unknown"),
    ("tos", np.uint8, "DSCP << 2 | ECN"),
    ("ttl", np.uint8, "time to live or hop limit"),
    ("direction", np.int8, "0 from the client, 1 from the server"),
    ("kind", np.uint8, "what the segment is, see transport.kinds"),
)
# Of most captures all of these are nil; then nobody writes to them, and they take no memory. The kind is told later, in
# a column of its own.
MOSTLY_NIL = ("source", "link", "vlan", "kind")


class Columns(NamedTuple):
    """The columns of SCHEMA, all of one length."""

    head: Heads
    time_ns: Int64s
    position: Int64s
    captured_bytes: Uint32s
    wire_bytes: Uint32s
    flow: Int32s
    source: Uint16s
    link: Uint16s
    payload_at: Uint16s
    vlan: Uint16s
    protocol: Uint16s
    tos: Uint8s
    ttl: Uint8s
    direction: Int8s
    kind: Uint8s

    @property
    def payload_bytes(self) -> Uint32s:
        """Bytes of transport payload on the wire: a view into the heads, as the next two."""
        return self.head["payload"]

    @property
    def flags(self) -> Uint16s:
        """TCP flags; ICMP: type << 8 | code."""
        return self.head["flags"]

    @property
    def marks(self) -> Uint16s:
        """Bits, see the MARK_ constants."""
        return self.head["marks"]

    def datagrams(self, least_bytes: int) -> Int64s:
        """Rows of UDP packets that belong to a conversation and carry so many bytes or more."""
        rows = np.flatnonzero((self.protocol == _UDP) & (self.flow >= 0))
        return rows[self.payload_bytes[rows] >= least_bytes]

    def sack_counts(self) -> Uint16s:
        """How many SACK blocks each packet bears, whose first `head.extra` points at; 0 of a SYN."""
        return np.where(self.head["flags"] & SYN, 0, self.head["marks"] >> MARK_SACK_SHIFT & 7)


def fill(columns: Columns, given: Columns) -> None:
    """Writes the rows of one into another of the same length."""
    pairs: Iterable[tuple[str, Array, Array]] = zip(Columns._fields, columns, given, strict=True)
    for name, target, column in pairs:
        if name not in MOSTLY_NIL or column.any() or target.any():
            target[:] = column


FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16

MARK_SLICED = 1  # fewer bytes kept than were on the wire
MARK_FRAGMENT = 2  # a fragment of an IP packet
MARK_LATER_FRAGMENT = 4  # a fragment without the transport header
MARK_TIMESTAMPS = 8  # TCP timestamps present
MARK_SACK_SHIFT = 4  # bits 4 to 6: number of SACK blocks
MARK_MULTICAST = 128
MARK_BROADCAST = 256
MARK_TUNNEL_SHIFT = 9  # bits 9 to 11: TUNNELS
MARK_BROKEN = 4096  # a header contradicts itself, or was cut before its end
MARK_IPV6 = 8192
MARK_DONT_FRAGMENT = 16384
MARK_FROM_B_SHIFT = 15  # bit 15: sent by end `b` of its conversation, as the ends stood when it was read
MARK_FROM_B = 1 << MARK_FROM_B_SHIFT

TUNNELS = ("", "IP in IP", "GRE", "VXLAN", "GTP-U", "PPPoE", "MPLS", "other")


class PacketTable:
    """Packet columns with room to grow. Rows of those that are mostly nil are so until they are written to."""

    def __init__(self, capacity: int = 0, room: Room | None = None) -> None:
        room = room or Room()
        self._columns = [
            room.nil_column(dtype, place) if name in MOSTLY_NIL else room.column(dtype, place)
            for place, (name, dtype, _) in enumerate(SCHEMA)
        ]
        self._arrays: list[Array] = []
        self.capacity = self.size = 0
        self.reserve(capacity)

    def reserve(self, capacity: int) -> None:
        """Makes room for `capacity` rows in all."""
        if capacity > self.capacity or not self._arrays:
            self._arrays = [column.reserve(capacity, self.size) for column in self._columns]
            self.capacity = capacity

    def window(self, start: int, stop: int) -> Columns:
        """Writable views of the rows from start to stop; invalid after the next `reserve`."""
        return Columns(*(array[start:stop] for array in self._arrays))

    def columns(self) -> Columns:
        """Views of all rows."""
        return self.window(0, self.size)


class SackBlocks(NamedTuple):
    """Selective acknowledgement blocks of all packets, one after another; `extra` points at a packet's first."""

    left: Uint32s
    right: Uint32s
