"""Link headers: Ethernet, the cooked ones, loopback, raw IP, radio (the list of draft-ietf-opsawg-pcaplinktype)."""

from yaffle.arrays import Int64s, Uint8s
from yaffle.capture.octets import half
from yaffle.capture.packets import MARK_BROADCAST, MARK_MULTICAST, Columns
from yaffle.capture.radio_head import (
    BAD,
    BARE,
    MAC,
    PER_PACKET,
    RADIO_LINKS,
    RADIOTAP,
    STATE,
    open_body,
    radio_head,
    same_frame,
)
from yaffle.capture.unwrapped import ANY_IP, Unwrapped, broken
from yaffle.kernels import helper, int64, pasted

ETHERNET, RAW, LOOPBACK, LOOPBACK_BE, COOKED, COOKED_2 = 1, 101, 0, 108, 113, 276
RAW_BSD, RAW_OPENBSD, RAW_V4, RAW_V6 = 12, 14, 228, 229
READABLE_LINKS = (
    ETHERNET, RAW, LOOPBACK, LOOPBACK_BE, COOKED, COOKED_2, RAW_BSD, RAW_OPENBSD, RAW_V4, RAW_V6, *RADIO_LINKS,
)  # fmt: skip
_ETHERNET_BYTES, _COOKED_BYTES, _COOKED_2_BYTES, _LOOPBACK_BYTES = 14, 16, 20, 4
_TO_ALL, _TO_MANY = 1, 2  # what the cooked headers say of whom a packet is for
_RETRY, _LOOK_BACK = 0x08, 64  # A frame that is sent again follows within so many others.


@helper
def _open_frame(
    buf: Uint8s,
    starts: Int64s,
    i: int,
    at: int,
    end: int,
    link: int,
    out: Columns,
    link_types: Int64s,
    heard: Int64s,
    other: Int64s,
) -> int:
    """Where the EtherType of what a radio heard stands; -1 where it cannot be read, is broken, or is a frame that was
    heard before and is sent again.
    """
    if not radio_head(buf, at, end, link, heard) or heard[STATE] & BAD:
        return int64(-1)
    mac = heard[MAC]
    body = open_body(buf, mac, end, heard[STATE])
    if body < 0 or not buf[mac + 1] & _RETRY:
        return body
    for back in range(1, min(_LOOK_BACK, i) + 1):
        k = i - back
        if link_types[out.link[k]] != link:
            continue
        stop = starts[k] + int64(out.captured_bytes[k])
        former = radio_head(buf, starts[k], stop, link, other) and not other[STATE] & BAD
        if former and same_frame(buf, mac, end, other[MAC], stop):
            return int64(-1)
    return body


@pasted
def _ethernet(buf: Uint8s, packet: Unwrapped) -> None:
    at = packet.at
    if packet.end - at < _ETHERNET_BYTES:
        broken(packet)
        return
    packet.ether = half(buf, at + 12)
    if buf[at] == 255 and buf[at + 1] == 255 and buf[at + 2] == 255:
        packet.marks |= MARK_BROADCAST
    elif buf[at] & 1:
        packet.marks |= MARK_MULTICAST
    packet.at += _ETHERNET_BYTES


@pasted
def _cooked(buf: Uint8s, packet: Unwrapped, size: int, ether_at: int, cast: int) -> None:
    """A header that the kernel made up. cast: whom the packet is for."""
    packet.ether = half(buf, packet.at + ether_at)
    if cast == _TO_ALL:
        packet.marks |= MARK_BROADCAST
    elif cast == _TO_MANY:
        packet.marks |= MARK_MULTICAST
    packet.at += size


@pasted
def open_link(
    buf: Uint8s,
    starts: Int64s,
    i: int,
    packet: Unwrapped,
    link: int,
    out: Columns,
    link_types: Int64s,
    heard: Int64s,
    other: Int64s,
) -> None:
    """Opens the link header of packet i. heard, other: room for what a radio tells."""
    at, size = packet.at, packet.end - packet.at
    if link == ETHERNET:
        _ethernet(buf, packet)
    elif link == COOKED:
        if size >= _COOKED_BYTES:
            _cooked(buf, packet, _COOKED_BYTES, 14, half(buf, at))
        else:
            broken(packet)
    elif link == COOKED_2:
        if size >= _COOKED_2_BYTES:
            _cooked(buf, packet, _COOKED_2_BYTES, 0, int64(buf[at + 10]))
        else:
            broken(packet)
    elif link == LOOPBACK or link == LOOPBACK_BE:
        packet.at += _LOOPBACK_BYTES
        packet.ether = ANY_IP
    elif link == BARE or link == RADIOTAP or link == PER_PACKET:
        body = _open_frame(buf, starts, i, at, packet.end, link, out, link_types, heard, other)
        if body >= 0:
            packet.ether = half(buf, body)
            packet.at = body + 2
    elif link == RAW or link == RAW_BSD or link == RAW_OPENBSD or link == RAW_V4 or link == RAW_V6:
        packet.ether = ANY_IP
