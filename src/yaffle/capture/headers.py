"""From the bytes of each packet to its header columns: link, VLAN, tunnels, IP, TCP with options, UDP, ICMP.

Sources: IEEE 802.3, 802.1Q; RFC 791, 8200, 9293, 7323, 2018, 768, 792, 4443, 2784, 7348, 3032, 2516; the list of link
types of draft-ietf-opsawg-pcaplinktype. Every length is checked against the captured bytes before it is used.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, staggered
from yaffle.capture.packets import (
    MARK_BROADCAST,
    MARK_BROKEN,
    MARK_DONT_FRAGMENT,
    MARK_FRAGMENT,
    MARK_IPV6,
    MARK_LATER_FRAGMENT,
    MARK_MULTICAST,
    MARK_SACK_SHIFT,
    MARK_SLICED,
    MARK_TIMESTAMPS,
    MARK_TUNNEL_SHIFT,
)
from yaffle.capture.plain_tcp import u16, u32
from yaffle.capture.radio_head import (
    BAD,
    BARE,
    FOUND,
    MAC,
    PER_PACKET,
    RADIO_LINKS,
    RADIOTAP,
    STATE,
    open_body,
    radio_head,
    same_frame,
)  # fmt: skip
from yaffle.kernels import helper, kernel


# Addresses and ports as seen, for finding the conversation; kept only while a window is worked on.
class Ends(NamedTuple):
    """Both ends of each packet."""

    src_hi: Array
    src_lo: Array
    dst_hi: Array
    dst_lo: Array
    src_port: Array
    dst_port: Array
    fragment: Array
    outer: Array  # addresses of the outermost IP header of a tunnel: source high, low, destination high, low
    tunnel_id: Array


ETHERNET, RAW, LOOPBACK, LOOPBACK_BE, COOKED, COOKED_2 = 1, 101, 0, 108, 113, 276
RAW_BSD, RAW_OPENBSD, RAW_V4, RAW_V6 = 12, 14, 228, 229
READABLE_LINKS = (
    ETHERNET, RAW, LOOPBACK, LOOPBACK_BE, COOKED, COOKED_2, RAW_BSD, RAW_OPENBSD, RAW_V4, RAW_V6, *RADIO_LINKS,
)  # fmt: skip
_RETRY, _LOOK_BACK = 0x08, 64  # A frame that is sent again follows within so many others.

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

_MOST_LAYERS = 12  # Nested deeper than any real network does: the rest is left alone.


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


@helper
def _u64(buf, at):  # type: ignore[no-untyped-def]
    high = (
        (np.int64(buf[at]) << 24) | (np.int64(buf[at + 1]) << 16) | (np.int64(buf[at + 2]) << 8) | np.int64(buf[at + 3])
    )
    low = (
        (np.int64(buf[at + 4]) << 24)
        | (np.int64(buf[at + 5]) << 16)
        | (np.int64(buf[at + 6]) << 8)
        | np.int64(buf[at + 7])
    )
    return (np.uint64(high) << np.uint64(32)) | np.uint64(low)


@helper
def _quote(buf, at, end, quote):  # type: ignore[no-untyped-def]
    """Reads the packet that an ICMP error quotes (RFC 792, RFC 4443 section 3): its ends and protocol.

    Whether it is whole enough.
    """
    if end - at < 24:
        return False
    version = np.int64(buf[at]) >> 4
    ports = at
    if version == 4:
        header = (np.int64(buf[at]) & 15) * 4
        quote.protocol = buf[at + 9]
        quote.src_hi, quote.dst_hi = np.uint64(0), np.uint64(0)
        quote.src_lo, quote.dst_lo = np.uint64(u32(buf, at + 12)), np.uint64(u32(buf, at + 16))
        ports = at + max(np.int64(20), header)
    elif version == 6 and end - at >= 44:
        quote.protocol = buf[at + 6]
        quote.src_hi, quote.src_lo = _u64(buf, at + 8), _u64(buf, at + 16)
        quote.dst_hi, quote.dst_lo = _u64(buf, at + 24), _u64(buf, at + 32)
        ports = at + 40
    else:
        return False
    if end - ports < 4:
        return False
    quote.src_port, quote.dst_port = u16(buf, ports), u16(buf, ports + 2)
    return True


@helper
def _open_frame(buf, starts, i, at, end, link, out, link_types, heard, other):  # type: ignore[no-untyped-def]
    """Where the EtherType of what a radio heard stands; -1 where it cannot be read, is broken, or is a frame that was
    heard before and is sent again.
    """
    if not radio_head(buf, at, end, link, heard) or heard[STATE] & BAD:
        return np.int64(-1)
    mac = heard[MAC]
    body = open_body(buf, mac, end, heard[STATE])
    if body < 0 or not buf[mac + 1] & _RETRY:
        return body
    for back in range(1, min(_LOOK_BACK, i) + 1):
        k = i - back
        if link_types[out.link[k]] != link:
            continue
        stop = starts[k] + np.int64(out.captured_bytes[k])
        former = radio_head(buf, starts[k], stop, link, other) and not other[STATE] & BAD
        if former and same_frame(buf, mac, end, other[MAC], stop):
            return np.int64(-1)
    return body


@kernel
def decode(buf, starts, which, link_types, out, ends, sack_left, sack_right, sack_base, quotes):  # type: ignore[no-untyped-def]
    """Fills the header columns of the packets numbered in `which`; they begin at `starts` (offsets within buf).

    out: Columns whose captured_bytes, wire_bytes and link are set. quotes: QUOTE rows, as many
    as packets. Returns the numbers of SACK blocks and of quotes written.
    """
    sacks = 0
    quoted = 0
    heard, other = np.empty(FOUND, np.int64), np.empty(FOUND, np.int64)
    for j in range(which.size):
        i = which[j]
        at = starts[i]
        end = at + np.int64(out.captured_bytes[i])
        wire = np.int64(out.wire_bytes[i])
        begin = at
        marks = 0
        tunnel = 0
        tunnel_id = 0
        if wire > end - at:
            marks |= MARK_SLICED
        protocol = 0
        vlan = 0
        tos = 0
        ttl = 0
        ip_id = 0
        fragment = -1
        src_hi = np.uint64(0)
        src_lo = np.uint64(0)
        dst_hi = np.uint64(0)
        dst_lo = np.uint64(0)
        src_port = 0
        dst_port = 0
        payload = 0
        payload_at = 0
        seq = 0
        ack = 0
        window = 0
        flags = 0
        tsval = 0
        tsecr = 0
        extra = 0
        link = link_types[out.link[i]]
        ether = -1  # EtherType of what comes next; -1 stop, -2 IP by its version nibble
        if link == ETHERNET:
            if end - at >= 14:
                ether = u16(buf, at + 12)
                if buf[at] == 255 and buf[at + 1] == 255 and buf[at + 2] == 255:
                    marks |= MARK_BROADCAST
                elif buf[at] & 1:
                    marks |= MARK_MULTICAST
                at += 14
            else:
                marks |= MARK_BROKEN
        elif link == COOKED:
            if end - at >= 16:
                ether = u16(buf, at + 14)
                cast = u16(buf, at)
                if cast == 1:
                    marks |= MARK_BROADCAST
                elif cast == 2:
                    marks |= MARK_MULTICAST
                at += 16
            else:
                marks |= MARK_BROKEN
        elif link == COOKED_2:
            if end - at >= 20:
                ether = u16(buf, at)
                cast = np.int64(buf[at + 10])
                if cast == 1:
                    marks |= MARK_BROADCAST
                elif cast == 2:
                    marks |= MARK_MULTICAST
                at += 20
            else:
                marks |= MARK_BROKEN
        elif link == LOOPBACK or link == LOOPBACK_BE:
            at += 4
            ether = -2
        elif link == BARE or link == RADIOTAP or link == PER_PACKET:
            body = _open_frame(buf, starts, i, at, end, link, out, link_types, heard, other)
            if body >= 0:
                ether = u16(buf, body)
                at = body + 2
        elif link == RAW or link == RAW_BSD or link == RAW_OPENBSD or link == RAW_V4 or link == RAW_V6:
            ether = -2

        layers = 0
        transport = -1
        while ether != -1:
            layers += 1
            if layers > _MOST_LAYERS or at >= end:
                marks |= MARK_BROKEN
                break
            if ether == -2:
                version = np.int64(buf[at]) >> 4
                if version == 4:
                    ether = 0x0800
                elif version == 6:
                    ether = 0x86DD
                else:
                    break
            if ether == 0x8100 or ether == 0x88A8 or ether == 0x9100:
                if end - at < 4:
                    marks |= MARK_BROKEN
                    break
                vlan = u16(buf, at) & 0xFFF
                ether = u16(buf, at + 2)
                at += 4
                continue
            if ether == 0x8847 or ether == 0x8848:
                bottom = 0
                while end - at >= 4 and bottom == 0 and layers <= _MOST_LAYERS:
                    bottom = np.int64(buf[at + 2]) & 1
                    tunnel_id = u32(buf, at) >> 12
                    at += 4
                    layers += 1
                if bottom == 0:
                    marks |= MARK_BROKEN
                    break
                tunnel = 6
                ether = -2
                continue
            if ether == 0x8864:
                if end - at < 8:
                    marks |= MARK_BROKEN
                    break
                ppp = u16(buf, at + 6)
                tunnel_id = u16(buf, at + 2)
                at += 8
                tunnel = 5
                if ppp == 0x21:
                    ether = 0x0800
                elif ppp == 0x57:
                    ether = 0x86DD
                else:
                    protocol = 0x8864
                    break
                continue
            if ether == 0x0800:
                if end - at < 20:
                    marks |= MARK_BROKEN
                    protocol = 0x0800
                    break
                header = (np.int64(buf[at]) & 15) * 4
                total = u16(buf, at + 2)
                if header < 20 or np.int64(buf[at]) >> 4 != 4:
                    marks |= MARK_BROKEN
                    protocol = 0x0800
                    break
                if total == 0:  # Segmentation offload leaves the length to the hardware.
                    total = wire - (at - begin)
                if total < header:
                    marks |= MARK_BROKEN
                    protocol = 0x0800
                    break
                tos = np.int64(buf[at + 1])
                ip_id = u16(buf, at + 4)
                ttl = np.int64(buf[at + 8])
                protocol = np.int64(buf[at + 9])
                bits = u16(buf, at + 6)
                marks &= ~MARK_IPV6
                if bits & 0x4000:
                    marks |= MARK_DONT_FRAGMENT
                else:
                    marks &= ~MARK_DONT_FRAGMENT
                src_hi = np.uint64(0)
                dst_hi = np.uint64(0)
                src_lo = np.uint64(u32(buf, at + 12))
                dst_lo = np.uint64(u32(buf, at + 16))
                if bits & 0x3FFF:
                    marks |= MARK_FRAGMENT
                    fragment = ip_id
                    if bits & 0x1FFF:
                        marks |= MARK_LATER_FRAGMENT
                        payload = total - header
                        break
                transport = at + header
                payload = total - header
                if transport > end:
                    marks |= MARK_BROKEN
                    transport = -1
                    break
            elif ether == 0x86DD:
                if end - at < 40 or np.int64(buf[at]) >> 4 != 6:
                    marks |= MARK_BROKEN
                    protocol = 0x86DD
                    break
                tos = (u16(buf, at) >> 4) & 255
                payload = u16(buf, at + 4)
                if payload == 0:
                    payload = max(0, wire - (at - begin) - 40)
                protocol = np.int64(buf[at + 6])
                ttl = np.int64(buf[at + 7])
                ip_id = 0
                marks |= MARK_IPV6
                src_hi = _u64(buf, at + 8)
                src_lo = _u64(buf, at + 16)
                dst_hi = _u64(buf, at + 24)
                dst_lo = _u64(buf, at + 32)
                transport = at + 40
                later = False
                chained = 0
                while (
                    protocol == 0
                    or protocol == 43
                    or protocol == 60
                    or protocol == 44
                    or protocol == 51
                    or protocol == 135
                ):
                    chained += 1
                    if end - transport < 8 or chained > 16:
                        marks |= MARK_BROKEN
                        transport = -1
                        break
                    if protocol == 44:
                        size = 8
                        bits = u16(buf, transport + 2)
                        if bits & 0xFFF9:
                            marks |= MARK_FRAGMENT
                            fragment = u32(buf, transport + 4)
                            later = (bits & 0xFFF8) != 0
                    elif protocol == 51:
                        size = (np.int64(buf[transport + 1]) + 2) * 4
                    else:
                        size = (np.int64(buf[transport + 1]) + 1) * 8
                    protocol = np.int64(buf[transport])
                    transport += size
                    payload -= size
                    if transport > end or payload < 0:
                        marks |= MARK_BROKEN
                        transport = -1
                        break
                    if later:
                        marks |= MARK_LATER_FRAGMENT
                        transport = -1
                        break
                payload = max(payload, 0)
                if transport < 0:
                    break
            else:
                protocol = ether
                break
            # A transport header, or a tunnel, begins at `transport`.
            ether = -1
            if protocol == 4 or protocol == 41 or protocol == 47 or protocol == 17:
                if tunnel == 0 or tunnel >= 5:  # The outermost addresses are kept.
                    ends.outer[i, 0], ends.outer[i, 1], ends.outer[i, 2], ends.outer[i, 3] = (
                        src_hi,
                        src_lo,
                        dst_hi,
                        dst_lo,
                    )
            if protocol == 4:
                tunnel, ether, at, transport = 1, 0x0800, transport, -1
            elif protocol == 41:
                tunnel, ether, at, transport = 1, 0x86DD, transport, -1
            elif protocol == 47 and end - transport >= 4:
                bits = u16(buf, transport)
                size = 4 + 4 * ((bits >> 15) & 1) + 4 * ((bits >> 13) & 1) + 4 * ((bits >> 12) & 1)
                inner = u16(buf, transport + 2)
                if (bits & 7) == 0 and end - transport >= size:
                    if bits & 0x2000:
                        tunnel_id = u32(buf, transport + 4 + 4 * ((bits >> 15) & 1))
                    if inner == 0x6558 and end - transport >= size + 14:
                        tunnel, ether, at, transport = 2, u16(buf, transport + size + 12), transport + size + 14, -1
                    elif inner == 0x0800 or inner == 0x86DD or inner == 0x8847:
                        tunnel, ether, at, transport = 2, inner, transport + size, -1
            elif protocol == 17 and end - transport >= 8:
                to = u16(buf, transport + 2)
                if to == 4789 and end - transport >= 30 and (np.int64(buf[transport + 8]) & 8) != 0:
                    tunnel_id = u32(buf, transport + 12) >> 8
                    tunnel, ether, at, transport = 3, u16(buf, transport + 28), transport + 30, -1
                elif (
                    to == 2152
                    and end - transport >= 16
                    and (np.int64(buf[transport + 8]) & 0xF0) == 0x30
                    and np.int64(buf[transport + 9]) == 255
                ):
                    size = 16 + (4 if np.int64(buf[transport + 8]) & 7 else 0)
                    if end - transport > size:
                        nibble = np.int64(buf[transport + size]) >> 4
                        if nibble == 4 or nibble == 6:
                            tunnel_id = u32(buf, transport + 12)
                            tunnel, ether, at, transport = 4, -2, transport + size, -1

        if transport >= 0:
            have = end - transport
            if protocol == 6:
                if have >= 20:
                    header = (np.int64(buf[transport + 12]) >> 4) * 4
                    src_port = u16(buf, transport)
                    dst_port = u16(buf, transport + 2)
                    seq = u32(buf, transport + 4)
                    ack = u32(buf, transport + 8)
                    flags = u16(buf, transport + 12) & 0x1FF
                    window = u16(buf, transport + 14)
                    if header < 20 or header > payload:
                        marks |= MARK_BROKEN
                        header = min(max(header, 20), max(payload, 20))
                    payload = max(0, payload - header)
                    payload_at = transport + header - begin
                    o = transport + 20
                    stop = min(transport + header, end)
                    scale, mss, permitted, blocks = 0, 0, 0, 0
                    while o < stop:
                        code = np.int64(buf[o])
                        if code == 0:
                            break
                        if code == 1:
                            o += 1
                            continue
                        if o + 1 >= stop:
                            break
                        size = np.int64(buf[o + 1])
                        if size < 2 or o + size > stop:
                            break
                        if code == 2 and size == 4:
                            mss = u16(buf, o + 2)
                        elif code == 3 and size == 3:
                            scale = 1 + min(14, np.int64(buf[o + 2]))
                        elif code == 4 and size == 2:
                            permitted = 1
                        elif code == 8 and size == 10:
                            marks |= MARK_TIMESTAMPS
                            tsval = u32(buf, o + 2)
                            tsecr = u32(buf, o + 6)
                        elif code == 5 and size >= 10 and blocks == 0:
                            while blocks < 4 and 2 + 8 * (blocks + 1) <= size:
                                sack_left[sacks + blocks] = u32(buf, o + 2 + 8 * blocks)
                                sack_right[sacks + blocks] = u32(buf, o + 6 + 8 * blocks)
                                blocks += 1
                        o += size
                    if flags & 2:
                        extra = mss | (scale << 16) | (permitted << 24)
                    elif blocks:
                        extra = sack_base + sacks
                        sacks += blocks
                        marks |= blocks << MARK_SACK_SHIFT
                else:
                    marks |= MARK_BROKEN
                    if have >= 4:
                        src_port = u16(buf, transport)
                        dst_port = u16(buf, transport + 2)
                    payload = 0
            elif protocol == 17 or protocol == 132 or protocol == 136:
                if have >= 8:
                    src_port = u16(buf, transport)
                    dst_port = u16(buf, transport + 2)
                    payload = max(0, payload - 8)
                    payload_at = transport + 8 - begin
                else:
                    marks |= MARK_BROKEN
                    payload = 0
            elif protocol == 1 or protocol == 58:
                if have >= 8:
                    flags = u16(buf, transport)
                    kind = np.int64(buf[transport])
                    if (protocol == 1 and (kind == 8 or kind == 0)) or (
                        protocol == 58 and (kind == 128 or kind == 129)
                    ):
                        src_port = u16(buf, transport + 4)
                        dst_port = src_port
                        seq = u16(buf, transport + 6)
                    if (protocol == 1 and (3 <= kind <= 5 or kind == 11 or kind == 12)) or (
                        protocol == 58 and 1 <= kind <= 4
                    ):
                        if _quote(buf, transport + 8, end, quotes[quoted]):
                            quotes[quoted].packet = i
                            quotes[quoted].kind = flags
                            quoted += 1
                    payload = max(0, payload - 8)
                    payload_at = transport + 8 - begin
                else:
                    marks |= MARK_BROKEN
                    payload = 0
            else:
                payload_at = transport - begin
        marks |= tunnel << MARK_TUNNEL_SHIFT
        out.payload_bytes[i] = payload
        head = out.head[i]
        head.seq = seq
        head.ack = ack
        head.tsval = tsval
        head.tsecr = tsecr
        head.extra = extra
        head.payload = payload
        head.window = window
        head.ip_id = ip_id
        head.flags = flags
        head.marks = marks
        out.payload_at[i] = min(payload_at, 65535)
        out.vlan[i] = vlan
        out.protocol[i] = protocol
        out.flags[i] = flags
        out.marks[i] = marks
        out.tos[i] = tos
        out.ttl[i] = ttl
        out.kind[i] = 0
        out.direction[i] = 0
        ends.src_hi[i] = src_hi
        ends.src_lo[i] = src_lo
        ends.dst_hi[i] = dst_hi
        ends.dst_lo[i] = dst_lo
        ends.src_port[i] = src_port
        ends.dst_port[i] = dst_port
        ends.fragment[i] = fragment
        ends.tunnel_id[i] = tunnel_id
    return sacks, quoted
