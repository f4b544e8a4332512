"""Frames and files built by hand, field by field, so that tests know every byte."""

import ipaddress
from pathlib import Path
from struct import Struct

FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16
C, S = "198.51.100.10", "203.0.113.20"


def tcp(
    src,
    sport,
    dst,
    dport,
    seq,
    ack,
    flags,
    payload=b"",
    window=1000,
    options=b"",
    ip_id=0,
    ttl=64,
    tos=0,
    length=None,
    ts=None,
):
    """An IP packet with a TCP segment. ts: (value, echo). length: payload bytes claimed by the IP header."""
    if ts is not None:
        options = b"\x01\x01\x08\x0a" + Struct("!II").pack(*ts) + options
    options += b"\0" * (-len(options) % 4)
    header = (
        Struct("!HHIIHHHH").pack(
            sport, dport, seq & 0xFFFFFFFF, ack & 0xFFFFFFFF, (5 + len(options) // 4) << 12 | flags, window, 0, 0
        )
        + options
    )
    size = len(header) + (len(payload) if length is None else length)
    return ip(src, dst, 6, header + payload, size, ip_id, ttl, tos)


def ip(src, dst, protocol, body, size=None, ip_id=0, ttl=64, tos=0, fragment=0x4000):
    """An IP packet of either version."""
    size = len(body) if size is None else size
    a, b = ipaddress.ip_address(src).packed, ipaddress.ip_address(dst).packed
    if len(a) == 16:
        return Struct("!IHBB").pack(6 << 28 | tos << 20, size, protocol, ttl) + a + b + body
    return Struct("!BBHHHBBH4s4s").pack(0x45, tos, 20 + size, ip_id, fragment, ttl, protocol, 0, a, b) + body


def udp(src, sport, dst, dport, payload=b""):
    """An IP packet with a datagram."""
    return ip(src, dst, 17, Struct("!HHHH").pack(sport, dport, 8 + len(payload), 0) + payload)


def ether(packet, ethertype=None, dst=b"\x02\0\0\0\0\2", tags=b""):
    """An Ethernet frame."""
    kind = ethertype if ethertype is not None else (0x86DD if packet[0] >> 4 == 6 else 0x0800)
    return dst + b"\x02\0\0\0\0\1" + tags + Struct("!H").pack(kind) + packet


def pcap(path: Path, packets, link=1, order="<", nano=True, wire=None) -> Path:
    """packets: (time_ns, bytes), or (time_ns, bytes, bytes on the wire)."""
    head = Struct(order + "IHHiIII").pack(0xA1B23C4D if nano else 0xA1B2C3D4, 2, 4, 0, 0, 65535, link)
    out = bytearray(head)
    for entry in packets:
        time_ns, data = entry[:2]
        wire_bytes = entry[2] if len(entry) > 2 else len(data)
        part = time_ns % 10**9
        out += (
            Struct(order + "IIII").pack(time_ns // 10**9, part if nano else part // 1000, len(data), wire_bytes) + data
        )
    path.write_bytes(out)
    return path


class Talk:
    """Writes a TCP conversation step by step; numbers and times are kept for the caller."""

    def __init__(self, sport=40000, dport=80, client=C, server=S, start_ms=1000.0, ids=True, ts=True):
        self.ends = ((client, sport), (server, dport))
        self.seq, self.ids = [1000, 9000], [100, 5000] if ids else None
        self.now_ms, self.out, self.ts = start_ms, [], ts
        self.options = b"\x02\x04\x05\xb4\x04\x02\x01\x03\x03\x07"

    def send(
        self,
        side,
        at_ms,
        size=0,
        flags=ACK,
        seq=None,
        ack=None,
        ip_id=None,
        window=1000,
        lost=False,
        options=b"",
        advance=True,
        sent_ms=None,
    ):
        """One packet. size: of what it carries, or that itself; lost: it takes its number and identification but is not
        captured; sent_ms: by its host's clock, where that is not when it passed.
        """
        carried = size if isinstance(size, bytes) else b"x" * size
        (src, sport), (dst, dport) = self.ends[side], self.ends[1 - side]
        if self.ids is not None and ip_id is None:
            self.ids[side] += 1
        number = ip_id if ip_id is not None else (self.ids[side] if self.ids is not None else 0)
        first = self.seq[side] if seq is None else seq
        stamp = (int(at_ms if sent_ms is None else sent_ms), 0) if self.ts else None
        packet = tcp(
            src,
            sport,
            dst,
            dport,
            first,
            self.seq[1 - side] if ack is None else ack,
            flags,
            carried,
            window,
            options,
            number,
            ts=stamp,
        )
        if seq is None and advance:
            self.seq[side] += len(carried) + (1 if flags & (SYN | FIN) else 0)
        if not lost:
            self.out.append((int(at_ms * 1e6), ether(packet)))
        return first

    def open(self, at_ms=0.0, rtt_ms=10.0):
        """A handshake seen beside the client."""
        self.send(0, at_ms, flags=SYN, options=self.options, ack=0)
        self.send(1, at_ms + rtt_ms, flags=SYN | ACK, options=self.options)
        self.send(0, at_ms + rtt_ms + 0.01)
        return self

    def close(self, at_ms, rtt_ms=10.0):
        """An orderly close."""
        self.send(0, at_ms, flags=FIN | ACK)
        self.send(1, at_ms + rtt_ms, flags=FIN | ACK)
        self.send(0, at_ms + rtt_ms + 0.01)
        return self

    def write(self, path):
        """The capture, in order of time."""
        return pcap(path, sorted(self.out, key=lambda p: p[0]))
