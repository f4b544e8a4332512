"""Slow plain twin of the header kernel, for Ethernet, VLAN, IPv4, IPv6 without extensions, TCP, UDP and ICMP."""

from struct import unpack_from


def plain_headers(frame: bytes, wire: int) -> dict[str, int] | None:
    """protocol, seq, ack, payload_bytes, flags, ttl; None where the frame leads beyond this twin."""
    found = dict.fromkeys(("protocol", "seq", "ack", "payload_bytes", "flags", "ttl"), 0)
    if len(frame) < 14:
        return found
    at, kind = 14, unpack_from("!H", frame, 12)[0]
    layers = 0
    while kind in (0x8100, 0x88A8, 0x9100):
        layers += 1
        if len(frame) - at < 4 or layers > 10:
            return None if layers > 10 else found
        kind, at = unpack_from("!H", frame, at + 2)[0], at + 4
    if kind not in (0x0800, 0x86DD):
        if kind in (0x8847, 0x8848, 0x8864) or at >= len(frame):
            return None
        found["protocol"] = kind
        return found
    if at >= len(frame):
        return None
    if kind == 0x0800:
        if len(frame) - at < 20 or frame[at] >> 4 != 4 or frame[at] & 15 < 5:
            found["protocol"] = 0x0800
            return found
        header, total = (frame[at] & 15) * 4, unpack_from("!H", frame, at + 2)[0] or wire - at
        if total < header:
            found["protocol"] = 0x0800
            return found
        if unpack_from("!H", frame, at + 6)[0] & 0x3FFF:
            return None
        found["ttl"], found["protocol"] = frame[at + 8], frame[at + 9]
        transport, payload = at + header, total - header
        if transport > len(frame):
            found["payload_bytes"] = payload
            return found
    else:
        if len(frame) - at < 40 or frame[at] >> 4 != 6:
            found["protocol"] = 0x86DD
            return found
        payload = unpack_from("!H", frame, at + 4)[0] or max(0, wire - at - 40)
        found["protocol"], found["ttl"] = frame[at + 6], frame[at + 7]
        transport = at + 40
        if found["protocol"] in (0, 43, 44, 51, 60, 135):
            return None
    rest = frame[transport:]
    protocol = found["protocol"]
    if protocol in (4, 41, 47, 132, 136):
        return None
    if protocol == 6:
        if len(rest) < 20:
            return found
        found["seq"], found["ack"] = unpack_from("!II", rest, 4)
        found["flags"] = unpack_from("!H", rest, 12)[0] & 0x1FF
        offset = (rest[12] >> 4) * 4
        if offset < 20 or offset > payload:
            offset = min(max(offset, 20), max(payload, 20))
        found["payload_bytes"] = max(0, payload - offset)
    elif protocol == 17:
        if len(rest) >= 8:
            if unpack_from("!H", rest, 2)[0] in (4789, 2152):
                return None
            found["payload_bytes"] = max(0, payload - 8)
    elif protocol in (1, 58):
        if len(rest) >= 8:
            found["flags"] = unpack_from("!H", rest)[0]
            if (protocol, rest[0]) in ((1, 0), (1, 8), (58, 128), (58, 129)):
                found["seq"] = unpack_from("!H", rest, 6)[0]
            found["payload_bytes"] = max(0, payload - 8)
    else:
        found["payload_bytes"] = payload
    return found
