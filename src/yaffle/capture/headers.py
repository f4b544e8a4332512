"""From the bytes of each packet to its header columns: link, VLAN, tunnels, IP, TCP with options, UDP, ICMP.

Sources: those of the modules for each layer. Every length is checked against the captured bytes before it is used.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s, Uint8s, Uint32s, Uint64s, Uint64s2, staggered
from yaffle.capture.link_layer import open_link
from yaffle.capture.network_layer import open_layer
from yaffle.capture.packets import MARK_TUNNEL_SHIFT, Columns
from yaffle.capture.radio_head import FOUND
from yaffle.capture.transport_layer import Quotes, open_transport
from yaffle.capture.tunnel_layer import open_tunnel
from yaffle.capture.unwrapped import NOTHING, Unwrapped, UnwrappedRoom, begin
from yaffle.kernels import int64, kernel, pasted


# Addresses and ports as seen, for finding the conversation; kept only while a window is worked on.
class Ends(NamedTuple):
    """Both ends of each packet."""

    src_hi: Uint64s
    src_lo: Uint64s
    dst_hi: Uint64s
    dst_lo: Uint64s
    src_port: Int64s
    dst_port: Int64s
    fragment: Int64s
    outer: Uint64s2  # addresses of the outermost IP header of a tunnel: source high, low, destination high, low
    tunnel_id: Int64s


def empty_ends(capacity: int) -> Ends:
    """Room for the ends of `capacity` packets; addresses as two 64-bit halves, IPv4 in the lower half."""
    halves = (
        staggered(capacity, np.uint64, 0),
        staggered(capacity, np.uint64, 1),
        staggered(capacity, np.uint64, 2),
        staggered(capacity, np.uint64, 3),
    )
    numbers = [staggered(capacity, np.int64, place) for place in range(4, 8)]
    src_port, dst_port, fragment, tunnel_id = numbers
    return Ends(*halves, src_port, dst_port, fragment, np.zeros((capacity, 4), np.uint64), tunnel_id)


@pasted
def _write(packet: Unwrapped, i: int, out: Columns, ends: Ends) -> None:
    """Puts what was read of packet i into the columns."""
    marks = packet.marks | packet.tunnel << MARK_TUNNEL_SHIFT
    head = out.head[i]
    head.seq, head.ack, head.tsval, head.tsecr = packet.seq, packet.ack, packet.tsval, packet.tsecr
    head.extra, head.payload, head.window = packet.extra, packet.payload, packet.window
    head.ip_id, head.flags, head.marks = packet.ip_id, packet.flags, marks
    out.payload_at[i] = min(packet.payload_at, 65535)
    if packet.vlan:  # Nil already.
        out.vlan[i] = packet.vlan
    out.protocol[i], out.direction[i] = packet.protocol, 0
    out.tos[i], out.ttl[i] = packet.tos, packet.ttl
    ends.src_hi[i], ends.src_lo[i] = packet.src_hi, packet.src_lo
    ends.dst_hi[i], ends.dst_lo[i] = packet.dst_hi, packet.dst_lo
    ends.src_port[i], ends.dst_port[i] = packet.src_port, packet.dst_port
    ends.fragment[i], ends.tunnel_id[i] = packet.fragment, packet.tunnel_id


@kernel
def decode(
    buf: Uint8s,
    starts: Int64s,
    which: Int64s,
    link_types: Int64s,
    out: Columns,
    ends: Ends,
    room: UnwrappedRoom,
    sack_left: Uint32s,
    sack_right: Uint32s,
    sack_base: int,
    quotes: Quotes,
) -> tuple[int, int]:
    """Fills the header columns of the packets numbered in `which`; they begin at `starts` (offsets within buf).

    out: Columns whose captured_bytes, wire_bytes and link are set. room: UNWRAPPED (1,). quotes: QUOTE rows, as many as
    packets. Returns the numbers of SACK blocks and of quotes written.
    """
    sacks = quoted = int64(0)
    heard, other = np.empty(FOUND, np.int64), np.empty(FOUND, np.int64)
    for j in range(which.size):
        i, packet = which[j], room[0]
        begin(packet, starts[i], int64(out.captured_bytes[i]), int64(out.wire_bytes[i]))
        open_link(buf, starts, i, packet, link_types[out.link[i]], out, link_types, heard, other)
        while packet.ether != NOTHING:
            open_layer(buf, packet)
            if packet.transport >= 0:
                open_tunnel(buf, packet, ends.outer[i])
        if packet.transport >= 0:
            sacks, quoted = open_transport(buf, packet, i, sack_left, sack_right, sack_base, sacks, quotes, quoted)
        _write(packet, i, out, ends)
    return sacks, quoted
