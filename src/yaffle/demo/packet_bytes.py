"""Turns what a tap recorded into the bytes of Ethernet frames."""

import ipaddress
from bisect import bisect_left
from functools import cache
from struct import Struct

from yaffle.demo.tcp_model import SYN, Endpoint, Segment

_IP = Struct("!BBHHHBBH4s4s")
_TCP = Struct("!HHIIHHHH")
_UDP = Struct("!HHHH")


@cache
def _packed(address: str) -> bytes:
    return ipaddress.ip_address(address).packed


@cache
def _ethernet(src: str, dst: str, ipv6: bool) -> bytes:
    def station(address: str) -> bytes:
        return b"\x02\x00\x5e" + _packed(address)[-3:]

    return station(dst) + station(src) + (b"\x86\xdd" if ipv6 else b"\x08\x00")


def _checksum(header: bytes) -> int:
    total: int = sum(Struct(f"!{len(header) // 2}H").unpack(header))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _ip(src: str, dst: str, protocol: int, length: int, ip_id: int, ttl: int, tos: int) -> bytes:
    if ":" in src:
        return Struct("!IHBB").pack(6 << 28 | tos << 20, length, protocol, ttl) + _packed(src) + _packed(dst)
    fields = (0x45, tos, 20 + length, ip_id, 0x4000, ttl, protocol)
    bare = _IP.pack(*fields, 0, _packed(src), _packed(dst))
    return _IP.pack(*fields, _checksum(bare), _packed(src), _packed(dst))


def tcp_frame(segment: Segment, ip_id: int, ttl: int, tos: int, snap: int) -> tuple[int, bytes]:
    """(bytes on the wire, kept bytes) of a segment. Payload is what was said, or filler."""
    end, peer = segment.end, segment.end.peer
    stamp = b"\x01\x01\x08\x0a" + Struct("!II").pack(segment.tsval, segment.tsecr)
    if segment.flags & SYN:
        options = b"\x02\x04\x05\xb4\x04\x02" + stamp[2:] + b"\x01\x03\x03\x07"
    else:
        options = stamp
        if segment.sack:
            blocks = b"".join(
                Struct("!II").pack((a + peer.base) & 0xFFFFFFFF, (b + peer.base) & 0xFFFFFFFF)
                for a, b in reversed(segment.sack)
            )
            options += b"\x01\x01\x05" + bytes([2 + len(blocks)]) + blocks
    ack = (segment.ack + peer.base) & 0xFFFFFFFF if segment.flags & 16 else 0
    header = 20 + len(options)
    tcp = _TCP.pack(
        end.port,
        peer.port,
        (segment.seq + end.base) & 0xFFFFFFFF,
        ack,
        (header // 4) << 12 | segment.flags,
        min(65535, segment.window),
        0,
        0,
    )
    src, dst = end.host.address, peer.host.address
    wire = 14 + (40 if ":" in src else 20) + header + segment.length
    kept = _ethernet(src, dst, ":" in src) + _ip(src, dst, 6, header + segment.length, ip_id, ttl, tos) + tcp + options
    filler = min(segment.length, max(0, snap - len(kept)))
    return wire, (kept + _payload(end, segment.seq - 1, filler))[:snap]


def _payload(end: Endpoint, at: int, size: int) -> bytes:
    """Bytes of a side's stream from a place on: what was said there, filler elsewhere."""
    out = bytearray(b"\x2e" * size)
    first = bisect_left(end.said, at, key=lambda said: said[0] + len(said[1]))
    for place, text in end.said[first:]:
        if place >= at + size:
            break
        skip = max(0, at - place)
        part = text[skip : skip + size - max(0, place - at)]
        out[max(0, place - at) : max(0, place - at) + len(part)] = part
    return bytes(out)


def udp_frame(
    src: str, src_port: int, dst: str, dst_port: int, payload: bytes, ip_id: int, ttl: int, tos: int, snap: int
) -> tuple[int, bytes]:
    """(bytes on the wire, kept bytes) of a datagram."""
    udp = _UDP.pack(src_port, dst_port, 8 + len(payload), 0)
    frame = _ethernet(src, dst, ":" in src) + _ip(src, dst, 17, 8 + len(payload), ip_id, ttl, tos) + udp + payload
    return len(frame), frame[:snap]
