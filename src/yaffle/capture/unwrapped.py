"""One packet unwrapped layer by layer: what was read of its headers so far, and what comes next."""

import numpy as np

from yaffle.arrays import Struct, Structs, Uint8s
from yaffle.capture.octets import word
from yaffle.capture.packets import MARK_BROKEN, MARK_SLICED
from yaffle.kernels import helper, pasted, uint64

_NUMBERS = (
    "begin", "at", "end",  # offsets: of the packet, of what comes next, behind what was kept
    "wire",  # bytes on the wire
    "ether",  # EtherType of what comes next, or NOTHING or ANY_IP
    "layers",  # so many were unwrapped
    "transport",  # offset of the transport header; -1 where there is none
    "marks", "tunnel", "tunnel_id", "protocol", "vlan", "tos", "ttl", "ip_id",
    "fragment",  # identification of a fragment, else -1
    "src_port", "dst_port", "payload", "payload_at",
    "seq", "ack", "window", "flags", "tsval", "tsecr", "extra",
)  # fmt: skip
_HALVES = ("src_hi", "src_lo", "dst_hi", "dst_lo")  # of addresses; IPv4 in the lower half
UNWRAPPED = np.dtype([*((name, np.int64) for name in _NUMBERS), *((name, np.uint64) for name in _HALVES)])
UnwrappedRoom = Structs  # of UNWRAPPED
Unwrapped = Struct  # one of them
NOTHING, ANY_IP = -1, -2  # instead of an EtherType: what follows is not unwrapped; IP by its version


def empty_packet() -> UnwrappedRoom:
    """Room for one packet after another."""
    return np.zeros(1, UNWRAPPED)


@pasted
def begin(packet: Unwrapped, at: int, kept: int, wire: int) -> None:
    """Nothing was read of a packet yet."""
    packet.begin, packet.at, packet.end, packet.wire = at, at, at + kept, wire
    packet.ether, packet.layers, packet.transport, packet.fragment = NOTHING, 0, -1, -1
    packet.marks = MARK_SLICED if wire > kept else 0
    packet.tunnel, packet.tunnel_id, packet.protocol, packet.vlan = 0, 0, 0, 0
    packet.tos, packet.ttl, packet.ip_id = 0, 0, 0
    packet.src_port, packet.dst_port, packet.payload, packet.payload_at = 0, 0, 0, 0
    packet.seq, packet.ack, packet.window, packet.flags = 0, 0, 0, 0
    packet.tsval, packet.tsecr, packet.extra = 0, 0, 0
    packet.src_hi, packet.src_lo, packet.dst_hi, packet.dst_lo = uint64(0), uint64(0), uint64(0), uint64(0)


@pasted
def stop(packet: Unwrapped, protocol: int) -> None:
    """Nothing more is unwrapped; protocol: what there is."""
    packet.protocol, packet.ether = protocol, NOTHING


@pasted
def broken(packet: Unwrapped) -> None:
    """A header contradicts itself, or was cut before its end."""
    packet.marks |= MARK_BROKEN
    packet.ether = NOTHING


@helper
def address_half(data: Uint8s, at: int) -> int:
    """64 bits of an address."""
    return (uint64(word(data, at)) << uint64(32)) | uint64(word(data, at + 4))
