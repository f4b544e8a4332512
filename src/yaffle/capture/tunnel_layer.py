"""Packets inside of packets: of IP (RFC 2003, 2473), GRE (RFC 2784, 2890), VXLAN (RFC 7348), GTP-U."""

from yaffle.arrays import Uint8s, Uint64s
from yaffle.capture.network_layer import IPV4, IPV6, MPLS
from yaffle.capture.octets import half, word
from yaffle.capture.packets import TUNNELS
from yaffle.capture.unwrapped import ANY_IP, NOTHING, Unwrapped
from yaffle.kernels import int64, pasted

_IPV4_INSIDE, _IPV6_INSIDE, _GRE, _UDP = 4, 41, 47, 17
_BRIDGED = 0x6558
_VXLAN_PORT, _GTP_PORT = 4789, 2152
_GTP_DATA = 255
_IN_IP, _IN_GRE, _IN_VXLAN, _IN_GTP, _OUTSIDE = (
    TUNNELS.index(name) for name in ("IP in IP", "GRE", "VXLAN", "GTP-U", "PPPoE")
)  # PPPoE and MPLS lie outside of IP


@pasted
def _inside(packet: Unwrapped, tunnel: int, ether: int, at: int) -> None:
    """Another packet lies inside."""
    packet.tunnel, packet.ether, packet.at, packet.transport = tunnel, ether, at, -1


@pasted
def _gre(buf: Uint8s, packet: Unwrapped) -> None:
    at, kept = packet.transport, packet.end - packet.transport
    bits = half(buf, at)
    summed, keyed, numbered = bits >> 15 & 1, bits >> 13 & 1, bits >> 12 & 1
    size = 4 + 4 * summed + 4 * keyed + 4 * numbered
    inner = half(buf, at + 2)
    if bits & 7 or kept < size:
        return
    if keyed:
        packet.tunnel_id = word(buf, at + 4 + 4 * summed)
    if inner == _BRIDGED and kept >= size + 14:
        _inside(packet, _IN_GRE, half(buf, at + size + 12), at + size + 14)
    elif inner == IPV4 or inner == IPV6 or inner == MPLS:
        _inside(packet, _IN_GRE, inner, at + size)


@pasted
def _in_udp(buf: Uint8s, packet: Unwrapped) -> None:
    at, kept = packet.transport, packet.end - packet.transport
    port = half(buf, at + 2)
    if port == _VXLAN_PORT and kept >= 30 and int64(buf[at + 8]) & 8:
        packet.tunnel_id = word(buf, at + 12) >> 8
        _inside(packet, _IN_VXLAN, half(buf, at + 28), at + 30)
    elif port == _GTP_PORT and kept >= 16 and int64(buf[at + 8]) & 0xF0 == 0x30 and buf[at + 9] == _GTP_DATA:
        size = 16 + (4 if int64(buf[at + 8]) & 7 else 0)
        if kept > size:
            version = int64(buf[at + size]) >> 4
            if version == 4 or version == 6:
                packet.tunnel_id = word(buf, at + 12)
                _inside(packet, _IN_GTP, ANY_IP, at + size)


@pasted
def open_tunnel(buf: Uint8s, packet: Unwrapped, outer: Uint64s) -> None:
    """Where another packet lies behind the IP header, it comes next. outer: addresses of the outermost IP header."""
    packet.ether = NOTHING
    protocol, kept = packet.protocol, packet.end - packet.transport
    if protocol != _IPV4_INSIDE and protocol != _IPV6_INSIDE and protocol != _GRE and protocol != _UDP:
        return
    if packet.tunnel == 0 or packet.tunnel >= _OUTSIDE:  # The outermost addresses are kept.
        outer[0], outer[1], outer[2], outer[3] = packet.src_hi, packet.src_lo, packet.dst_hi, packet.dst_lo
    if protocol == _IPV4_INSIDE:
        _inside(packet, _IN_IP, IPV4, packet.transport)
    elif protocol == _IPV6_INSIDE:
        _inside(packet, _IN_IP, IPV6, packet.transport)
    elif protocol == _GRE and kept >= 4:
        _gre(buf, packet)
    elif protocol == _UDP and kept >= 8:
        _in_udp(buf, packet)
