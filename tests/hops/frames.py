"""Traces in IPv6 packets and reports about packets, built field by field."""

import ipaddress
from struct import pack

ONES = 0xFFFFFFFF


def trace_node(
    bits,
    limit=64,
    node=1,
    ingress=2,
    egress=3,
    seconds=0,
    fraction=0,
    queue=0,
    wide=0,
    wide_in=0,
    wide_out=0,
    snapshot=None,
):
    """What one node writes of a trace type given by its bits."""
    found = b""
    for bit in sorted(bits):
        found += {
            0: pack("!I", limit << 24 | node),
            1: pack("!HH", ingress, egress),
            2: pack("!I", seconds),
            3: pack("!I", fraction),
            4: pack("!I", ONES),
            5: pack("!I", 7),
            6: pack("!I", queue),
            7: pack("!I", ONES),
            8: pack("!Q", limit << 56 | wide),
            9: pack("!II", wide_in, wide_out),
            10: pack("!Q", 9),
            11: pack("!I", ONES),
            22: b"",
        }[bit]
    if 22 in bits:
        data = snapshot if snapshot is not None else b""
        found += pack("!I", len(data) // 4 << 24 | 0xFFFFFF) + data
    return found


def trace_option(bits, nodes, room_words=0, namespace=1, overflow=False, incremental=False):
    """An IOAM option with a trace; nodes: newest first."""
    kind = sum(1 << (23 - bit) for bit in bits)
    words = sum(2 if bit in (8, 9, 10) else 1 for bit in bits if bit != 22)
    head = pack("!HHI", namespace, words << 11 | (1 << 10 if overflow else 0) | room_words, kind << 8)
    data = (b"" if incremental else bytes(4 * room_words)) + b"".join(nodes)
    own = bytes([0, 1 if incremental else 0]) + head + data
    return bytes([0x31, len(own)]) + own


def hop_by_hop(packet, option):
    """An IPv6 packet (of `tests.frames.ip`) with a Hop-by-Hop header that holds an option."""
    body = option + b"\1\0" * 0
    size = -(2 + len(body)) % 8
    pad = b"" if size == 0 else b"\0" if size == 1 else bytes([1, size - 2]) + bytes(size - 2)
    header = bytes([packet[6], (2 + len(body) + len(pad)) // 8 - 1]) + body + pad
    length = int.from_bytes(packet[4:6], "big") + len(header)
    return packet[:4] + pack("!H", length) + b"\0" + packet[7:40] + header + packet[40:]


def inner(src, sport, dst, dport, ip_id, ttl, payload=b"", dscp=0, stack=b"", protocol=17):
    """A packet as a switch got it, in Ethernet."""
    udp = pack("!HHHH", sport, dport, 8 + len(stack) + len(payload), 0) + stack + payload
    a, b = ipaddress.ip_address(src).packed, ipaddress.ip_address(dst).packed
    head = pack("!BBHHHBBH", 0x45, dscp << 2, 20 + len(udp), ip_id, 0x4000, ttl, protocol, 0) + a + b
    return b"\2" * 12 + b"\x08\0" + head + udp


def stack(hops, bits=0xFC00):
    """An INT-MD stack: hops newest first, each (node, ingress, egress, latency, queue, arrived, left)."""
    rows = b"".join(
        pack("!IHHIIQQ", node, one, two, late, queue, came, went) for node, one, two, late, queue, came, went in hops
    )
    words = 8
    head = pack("!II", 2 << 28 | words << 8 | 8, bits << 16) + bytes(4)
    return bytes([0x10, (len(head) + len(rows)) // 4, 0, 0]) + head + rows


def report(flags, ingress, egress, came, went, queue, about, drop=None):
    """One report of format 2.0, of a switch with metadata of its own."""
    bits, data = 0x4000, pack("!HH", ingress, egress)
    if drop is None:
        bits |= 0x2000 | 0x1000 | 0x0800 | 0x0400
        data += pack("!IIQQ", went - came, queue, came, went)
    else:
        bits |= 0x0800 | 1
        data += pack("!QI", came, drop << 16)
    about += bytes(-len(about) % 4)
    main = pack("!HHHH", bits, 0, 0, 0) + data + about
    return bytes([0x13, len(main) // 4, len(data) // 4, flags << 4]) + main


def datagram(node, sequence, reports, part=0):
    """A datagram of reports."""
    return pack("!II", 2 << 28 | part << 22 | sequence, node) + b"".join(reports)
