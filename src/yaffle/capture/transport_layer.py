"""Transport headers: TCP with its options (RFC 9293, 7323, 2018), UDP (RFC 768) and those with ports where it has them,
ICMP (RFC 792, 4443) with the packets that its errors quote.
"""

import numpy as np

from yaffle.arrays import Struct, Structs, Uint8s, Uint32s
from yaffle.capture.octets import half, word
from yaffle.capture.packets import MARK_BROKEN, MARK_SACK_SHIFT, MARK_TIMESTAMPS, SYN
from yaffle.capture.unwrapped import Unwrapped, address_half
from yaffle.kernels import helper, int64, pasted, uint64

TCP, UDP = 6, 17
_SCTP, _UDP_LITE, _ICMP, _ICMP_V6 = 132, 136, 1, 58
_END, _FILLER, _MSS, _SCALE, _SACK_PERMITTED, _SACK, _TIMESTAMPS = 0, 1, 2, 3, 4, 5, 8
_MOST_SCALE, _MOST_BLOCKS = 14, 4

# What an ICMP error says of which packet.
QUOTE = np.dtype(
    [
        ("packet", np.int64),
        ("kind", np.int64),  # ICMP type << 8 | code
        ("protocol", np.int64),
        ("src_hi", np.uint64),
        ("src_lo", np.uint64),
        ("dst_hi", np.uint64),
        ("dst_lo", np.uint64),
        ("src_port", np.int64),
        ("dst_port", np.int64),
        ("flow", np.int64),  # conversation of the quoted packet; -1 where none was seen
    ]
)
Quotes = Structs  # of QUOTE
Quote = Struct  # one of them


def empty_quotes(capacity: int) -> Quotes:
    """Room for what ICMP errors say."""
    return np.zeros(capacity, QUOTE)


@helper
def _quote(buf: Uint8s, at: int, end: int, quote: Quote) -> bool:
    """Reads the packet that an ICMP error quotes (RFC 792, RFC 4443 section 3): its ends and protocol.

    Whether it is whole enough.
    """
    if end - at < 24:
        return False
    version = int64(buf[at]) >> 4
    ports = at
    if version == 4:
        header = (int64(buf[at]) & 15) * 4
        quote.protocol = buf[at + 9]
        quote.src_hi, quote.dst_hi = uint64(0), uint64(0)
        quote.src_lo, quote.dst_lo = uint64(word(buf, at + 12)), uint64(word(buf, at + 16))
        ports = at + max(int64(20), header)
    elif version == 6 and end - at >= 44:
        quote.protocol = buf[at + 6]
        quote.src_hi, quote.src_lo = address_half(buf, at + 8), address_half(buf, at + 16)
        quote.dst_hi, quote.dst_lo = address_half(buf, at + 24), address_half(buf, at + 32)
        ports = at + 40
    else:
        return False
    if end - ports < 4:
        return False
    quote.src_port, quote.dst_port = half(buf, ports), half(buf, ports + 2)
    return True


@pasted
def _ports(buf: Uint8s, packet: Unwrapped) -> None:
    packet.src_port, packet.dst_port = half(buf, packet.transport), half(buf, packet.transport + 2)


@pasted
def _behind(packet: Unwrapped, header: int) -> None:
    """The payload behind a transport header."""
    packet.payload = max(int64(0), packet.payload - header)
    packet.payload_at = packet.transport + header - packet.begin


@pasted
def _cut(packet: Unwrapped) -> None:
    """A transport header that is not all there."""
    packet.marks |= MARK_BROKEN
    packet.payload = 0


@pasted
def _options(
    buf: Uint8s, packet: Unwrapped, header: int, sack_left: Uint32s, sack_right: Uint32s, sack_base: int, sacks: int
) -> int:
    """TCP options; gives the number of SACK blocks so far."""
    at, stop = packet.transport + 20, min(packet.transport + header, packet.end)
    scale = mss = permitted = blocks = int64(0)
    while at < stop:
        code = int64(buf[at])
        if code == _FILLER:
            at += 1
            continue
        if code == _END or at + 1 >= stop:
            break
        size = int64(buf[at + 1])
        if size < 2 or at + size > stop:
            break
        if code == _MSS and size == 4:
            mss = half(buf, at + 2)
        elif code == _SCALE and size == 3:
            scale = 1 + min(int64(_MOST_SCALE), int64(buf[at + 2]))
        elif code == _SACK_PERMITTED and size == 2:
            permitted = int64(1)
        elif code == _TIMESTAMPS and size == 10:
            packet.marks |= MARK_TIMESTAMPS
            packet.tsval, packet.tsecr = word(buf, at + 2), word(buf, at + 6)
        elif code == _SACK and size >= 10 and blocks == 0:
            while blocks < _MOST_BLOCKS and 2 + 8 * (blocks + 1) <= size:
                sack_left[sacks + blocks] = word(buf, at + 2 + 8 * blocks)
                sack_right[sacks + blocks] = word(buf, at + 6 + 8 * blocks)
                blocks += 1
        at += size
    if packet.flags & SYN:
        packet.extra = mss | (scale << 16) | (permitted << 24)
    elif blocks:
        packet.extra = sack_base + sacks
        packet.marks |= blocks << MARK_SACK_SHIFT
        sacks += blocks
    return sacks


@pasted
def _tcp(buf: Uint8s, packet: Unwrapped, sack_left: Uint32s, sack_right: Uint32s, sack_base: int, sacks: int) -> int:
    """Gives the number of SACK blocks so far."""
    at, kept = packet.transport, packet.end - packet.transport
    if kept < 20:
        if kept >= 4:
            _ports(buf, packet)
        _cut(packet)
        return sacks
    _ports(buf, packet)
    packet.seq, packet.ack = word(buf, at + 4), word(buf, at + 8)
    packet.flags, packet.window = half(buf, at + 12) & 0x1FF, half(buf, at + 14)
    header = (int64(buf[at + 12]) >> 4) * 4
    if header < 20 or header > packet.payload:
        packet.marks |= MARK_BROKEN
        header = min(max(header, int64(20)), max(packet.payload, int64(20)))
    _behind(packet, header)
    return _options(buf, packet, header, sack_left, sack_right, sack_base, sacks)


@pasted
def _icmp(buf: Uint8s, packet: Unwrapped, i: int, quotes: Quotes, quoted: int) -> int:
    """Gives the number of quotes so far."""
    at, old = packet.transport, packet.protocol == _ICMP
    kind = int64(buf[at])
    packet.flags = half(buf, at)
    echo = (kind == 8 or kind == 0) if old else (kind == 128 or kind == 129)
    error = (3 <= kind <= 5 or kind == 11 or kind == 12) if old else 1 <= kind <= 4
    if echo:
        packet.src_port = packet.dst_port = half(buf, at + 4)
        packet.seq = half(buf, at + 6)
    if error and _quote(buf, at + 8, packet.end, quotes[quoted]):
        quotes[quoted].packet, quotes[quoted].kind = i, packet.flags
        quoted += 1
    _behind(packet, 8)
    return quoted


@pasted
def open_transport(
    buf: Uint8s,
    packet: Unwrapped,
    i: int,
    sack_left: Uint32s,
    sack_right: Uint32s,
    sack_base: int,
    sacks: int,
    quotes: Quotes,
    quoted: int,
) -> tuple[int, int]:
    """Opens the transport header of packet i: (number of SACK blocks, number of quotes) so far."""
    protocol, kept = packet.protocol, packet.end - packet.transport
    if protocol == TCP:
        sacks = _tcp(buf, packet, sack_left, sack_right, sack_base, sacks)
    elif protocol == UDP or protocol == _SCTP or protocol == _UDP_LITE:
        if kept >= 8:
            _ports(buf, packet)
            _behind(packet, 8)
        else:
            _cut(packet)
    elif protocol == _ICMP or protocol == _ICMP_V6:
        if kept >= 8:
            quoted = _icmp(buf, packet, i, quotes, quoted)
        else:
            _cut(packet)
    else:
        packet.payload_at = packet.transport - packet.begin
    return sacks, quoted
