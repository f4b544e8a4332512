"""Between link and transport: VLAN tags (IEEE 802.1Q), MPLS (RFC 3032), PPPoE (RFC 2516), IPv4 (RFC 791), IPv6 with its
extension headers (RFC 8200).
"""

from yaffle.arrays import Uint8s
from yaffle.capture.octets import half, word
from yaffle.capture.packets import (
    MARK_BROKEN,
    MARK_DONT_FRAGMENT,
    MARK_FRAGMENT,
    MARK_IPV6,
    MARK_LATER_FRAGMENT,
    TUNNELS,
)
from yaffle.capture.unwrapped import ANY_IP, NOTHING, Unwrapped, address_half, broken, stop
from yaffle.kernels import int64, pasted, uint64

IPV4, IPV6, MPLS = 0x0800, 0x86DD, 0x8847
_MPLS_MANY, _PPPOE = 0x8848, 0x8864
_TAG, _SERVICE_TAG, _OLD_TAG = 0x8100, 0x88A8, 0x9100
_PPP_IPV4, _PPP_IPV6 = 0x21, 0x57
_HOP_BY_HOP, _ROUTING, _FRAGMENT, _AUTHENTICATION, _DESTINATION, _MOBILITY = 0, 43, 44, 51, 60, 135
_MOST_LAYERS = 12  # Nested deeper than any real network does: the rest is left alone.
_MOST_EXTENSIONS = 16
_IN_MPLS, _IN_PPPOE = TUNNELS.index("MPLS"), TUNNELS.index("PPPoE")


@pasted
def _tag(buf: Uint8s, packet: Unwrapped) -> None:
    if packet.end - packet.at < 4:
        broken(packet)
        return
    packet.vlan = half(buf, packet.at) & 0xFFF
    packet.ether = half(buf, packet.at + 2)
    packet.at += 4


@pasted
def _labels(buf: Uint8s, packet: Unwrapped) -> None:
    """A stack of MPLS labels."""
    bottom = int64(0)
    while packet.end - packet.at >= 4 and bottom == 0 and packet.layers <= _MOST_LAYERS:
        bottom = int64(buf[packet.at + 2]) & 1
        packet.tunnel_id = word(buf, packet.at) >> 12
        packet.at += 4
        packet.layers += 1
    if bottom == 0:
        broken(packet)
        return
    packet.tunnel, packet.ether = _IN_MPLS, ANY_IP


@pasted
def _pppoe(buf: Uint8s, packet: Unwrapped) -> None:
    if packet.end - packet.at < 8:
        broken(packet)
        return
    inner = half(buf, packet.at + 6)
    packet.tunnel_id, packet.tunnel = half(buf, packet.at + 2), _IN_PPPOE
    packet.at += 8
    if inner == _PPP_IPV4:
        packet.ether = IPV4
    elif inner == _PPP_IPV6:
        packet.ether = IPV6
    else:
        stop(packet, _PPPOE)


@pasted
def _ipv4(buf: Uint8s, packet: Unwrapped) -> None:
    at, kept = packet.at, packet.end - packet.at
    header = (int64(buf[at]) & 15) * 4
    total = half(buf, at + 2) if kept >= 20 else int64(0)
    if total == 0:  # Segmentation offload leaves the length to the hardware.
        total = packet.wire - (at - packet.begin)
    if kept < 20 or header < 20 or int64(buf[at]) >> 4 != 4 or total < header:
        stop(packet, IPV4)
        broken(packet)
        return
    bits = half(buf, at + 6)
    packet.tos, packet.ip_id = int64(buf[at + 1]), half(buf, at + 4)
    packet.ttl, packet.protocol = int64(buf[at + 8]), int64(buf[at + 9])
    packet.marks &= ~(MARK_IPV6 | MARK_DONT_FRAGMENT)
    if bits & 0x4000:
        packet.marks |= MARK_DONT_FRAGMENT
    packet.src_hi, packet.src_lo = uint64(0), uint64(word(buf, at + 12))
    packet.dst_hi, packet.dst_lo = uint64(0), uint64(word(buf, at + 16))
    packet.payload = total - header
    if bits & 0x3FFF:
        packet.marks |= MARK_FRAGMENT
        packet.fragment = packet.ip_id
    if bits & 0x1FFF:
        packet.marks |= MARK_LATER_FRAGMENT
        packet.ether = NOTHING
    elif at + header > packet.end:
        broken(packet)
    else:
        packet.transport = at + header


@pasted
def _extensions(buf: Uint8s, packet: Unwrapped) -> bool:
    """Steps over what stands between IPv6 and the transport header: whether that follows."""
    chained = 0
    protocol = packet.protocol
    while (
        protocol == _HOP_BY_HOP
        or protocol == _ROUTING
        or protocol == _DESTINATION
        or protocol == _FRAGMENT
        or protocol == _AUTHENTICATION
        or protocol == _MOBILITY
    ):
        at = packet.transport
        chained += 1
        if packet.end - at < 8 or chained > _MOST_EXTENSIONS:
            packet.marks |= MARK_BROKEN
            return False
        later = False
        size = (int64(buf[at + 1]) + 1) * 8
        if protocol == _FRAGMENT:
            size = int64(8)
            bits = half(buf, at + 2)
            if bits & 0xFFF9:
                packet.marks |= MARK_FRAGMENT
                packet.fragment = word(buf, at + 4)
                later = (bits & 0xFFF8) != 0
        elif protocol == _AUTHENTICATION:
            size = (int64(buf[at + 1]) + 2) * 4
        protocol = int64(buf[at])
        packet.protocol = protocol
        packet.transport += size
        packet.payload -= size
        if packet.transport > packet.end or packet.payload < 0:
            packet.marks |= MARK_BROKEN
            return False
        if later:
            packet.marks |= MARK_LATER_FRAGMENT
            return False
    return True


@pasted
def _ipv6(buf: Uint8s, packet: Unwrapped) -> None:
    at = packet.at
    if packet.end - at < 40 or int64(buf[at]) >> 4 != 6:
        stop(packet, IPV6)
        broken(packet)
        return
    packet.tos, packet.ttl = (half(buf, at) >> 4) & 255, int64(buf[at + 7])
    packet.payload, packet.protocol = half(buf, at + 4), int64(buf[at + 6])
    if packet.payload == 0:
        packet.payload = max(int64(0), packet.wire - (at - packet.begin) - 40)
    packet.ip_id = 0
    packet.marks |= MARK_IPV6
    packet.src_hi, packet.src_lo = address_half(buf, at + 8), address_half(buf, at + 16)
    packet.dst_hi, packet.dst_lo = address_half(buf, at + 24), address_half(buf, at + 32)
    packet.transport = at + 40
    if not _extensions(buf, packet):
        packet.transport, packet.ether = -1, NOTHING
    packet.payload = max(int64(0), packet.payload)


@pasted
def open_layer(buf: Uint8s, packet: Unwrapped) -> None:
    """Opens what comes next. Where a transport header, or a tunnel, follows, `transport` says where."""
    packet.layers += 1
    if packet.layers > _MOST_LAYERS or packet.at >= packet.end:
        broken(packet)
        return
    if packet.ether == ANY_IP:
        version = int64(buf[packet.at]) >> 4
        packet.ether = IPV4 if version == 4 else IPV6 if version == 6 else NOTHING
    ether = packet.ether
    if ether == IPV4:
        _ipv4(buf, packet)
    elif ether == IPV6:
        _ipv6(buf, packet)
    elif ether == _TAG or ether == _SERVICE_TAG or ether == _OLD_TAG:
        _tag(buf, packet)
    elif ether == MPLS or ether == _MPLS_MANY:
        _labels(buf, packet)
    elif ether == _PPPOE:
        _pppoe(buf, packet)
    elif ether != NOTHING:
        stop(packet, ether)
