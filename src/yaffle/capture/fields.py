"""The header fields of one packet by name, with the bytes each stands in: for the eye, and for rewriting addresses.

Sources: IEEE 802.3 and 802.1Q, RFC 791, 8200, 9293, 768, 792, 4443, 826, 2784, 7348. What is cut off or unknown ends
the list.
"""

import ipaddress
from dataclasses import dataclass, field
from struct import unpack_from

from yaffle.capture.registry import ETHERTYPES, PROTOCOLS, marking

ADDRESS = "address"  # role of fields that hold an IP address
_MOST_LAYERS = 12
_FLAGS = ((1, "FIN"), (2, "SYN"), (4, "RST"), (8, "PSH"), (16, "ACK"), (32, "URG"), (64, "ECE"), (128, "CWR"))
_OPTIONS = {
    0: "end",
    1: "padding",
    2: "maximum segment size",
    3: "window scale",
    4: "selective acknowledgement permitted",
    5: "selective acknowledgement",
    8: "timestamps",
}


@dataclass
class Field:
    """A field, or a header with fields of its own. `start` and `stop` are offsets within the packet."""

    name: str
    value: str
    start: int
    stop: int
    parts: list["Field"] = field(default_factory=list)
    role: str = ""


class _Reader:
    def __init__(self, data: bytes) -> None:
        self.data = data
        self.found: list[Field] = []

    def left(self, at: int) -> int:
        return len(self.data) - at

    def number(self, at: int, octets: int) -> int:
        return int.from_bytes(self.data[at : at + octets], "big")

    def header(self, name: str, at: int, octets: int, value: str = "") -> Field:
        entry = Field(name, value, at, min(len(self.data), at + octets))
        self.found.append(entry)
        return entry


def _mac(data: bytes) -> str:
    return ":".join(f"{b:02x}" for b in data)


def fields(data: bytes, link_type: int) -> list[Field]:
    """The headers of a packet, outermost first. Never raises: a short packet gives what is there."""
    r = _Reader(data)
    at, kind = 0, -1
    if link_type == 1 and len(data) >= 14:
        h = r.header("Ethernet", 0, 14)
        h.parts = [
            Field("to", _mac(data[:6]), 0, 6),
            Field("from", _mac(data[6:12]), 6, 12),
            Field("type", _type(r.number(12, 2)), 12, 14),
        ]
        at, kind = 14, r.number(12, 2)
    elif link_type in (12, 101, 228, 229) and data:
        kind = 0x0800 if data[0] >> 4 == 4 else 0x86DD
    elif link_type == 113 and len(data) >= 16:
        h = r.header("Linux capture header", 0, 16)
        h.parts = [Field("type", _type(r.number(14, 2)), 14, 16)]
        at, kind = 16, r.number(14, 2)
    elif link_type == 276 and len(data) >= 20:
        h = r.header("Linux capture header", 0, 20)
        h.parts = [Field("type", _type(r.number(0, 2)), 0, 2)]
        at, kind = 20, r.number(0, 2)
    _network(r, at, kind)
    return r.found


def _type(kind: int) -> str:
    return f"{ETHERTYPES.get(kind, 'unknown')} ({kind:#06x})"


def _network(r: _Reader, at: int, kind: int) -> None:
    for _ in range(_MOST_LAYERS):
        if kind in (0x8100, 0x88A8, 0x9100) and r.left(at) >= 4:
            tag = r.number(at, 2)
            h = r.header("VLAN tag", at, 4, f"VLAN {tag & 4095}")
            h.parts = [
                Field("priority", str(tag >> 13), at, at + 1),
                Field("VLAN", str(tag & 4095), at, at + 2),
                Field("type", _type(r.number(at + 2, 2)), at + 2, at + 4),
            ]
            at, kind = at + 4, r.number(at + 2, 2)
        elif kind in (0x8847, 0x8848) and r.left(at) >= 4:
            word = r.number(at, 4)
            r.header("MPLS label", at, 4, f"{word >> 12}").parts = [
                Field("label", str(word >> 12), at, at + 3), Field("class", str(word >> 9 & 7), at + 2, at + 3),
                Field("time to live", str(word & 255), at + 3, at + 4),
            ]  # fmt: skip
            at += 4
            if word >> 8 & 1:
                kind = {4: 0x0800, 6: 0x86DD}.get(r.number(at, 1) >> 4, -1) if r.left(at) else -1
        elif kind == 0x8864 and r.left(at) >= 8:
            r.header("PPPoE", at, 8, f"session {r.number(at + 2, 2)}")
            kind, at = {0x21: 0x0800, 0x57: 0x86DD}.get(r.number(at + 6, 2), -1), at + 8
        else:
            break
    if kind == 0x0800:
        _ipv4(r, at)
    elif kind == 0x86DD:
        _ipv6(r, at)
    elif kind == 0x0806 and r.left(at) >= 28:
        h = r.header("ARP", at, 28, {1: "who has", 2: "is at"}.get(r.number(at + 6, 2), "other"))
        h.parts = [
            Field("sender", _mac(r.data[at + 8 : at + 14]), at + 8, at + 14),
            Field("sender address", _v4(r, at + 14), at + 14, at + 18, role=ADDRESS),
            Field("target", _mac(r.data[at + 18 : at + 24]), at + 18, at + 24),
            Field("target address", _v4(r, at + 24), at + 24, at + 28, role=ADDRESS),
        ]  # fmt: skip


def _v4(r: _Reader, at: int) -> str:
    return str(ipaddress.IPv4Address(r.data[at : at + 4]))


def _marking(tos: int) -> str:
    return f"{marking(tos >> 2)}, ECN {('not capable', 'ECT(1)', 'ECT(0)', 'congestion met')[tos & 3]}"


def _ipv4(r: _Reader, at: int) -> None:
    if r.left(at) < 20 or r.data[at] >> 4 != 4 or r.data[at] & 15 < 5:
        return
    size, total, part = (r.data[at] & 15) * 4, r.number(at + 2, 2), r.number(at + 6, 2)
    more = ", more fragments" if part & 0x2000 else ""
    whole = ", do not fragment" if part & 0x4000 else ""
    protocol = r.data[at + 9]
    h = r.header("IPv4", at, size, f"{_v4(r, at + 12)} to {_v4(r, at + 16)}")
    h.parts = [
        Field("header length", f"{size} B", at, at + 1), Field("DSCP", _marking(r.data[at + 1]), at + 1, at + 2),
        Field("length", f"{total} B", at + 2, at + 4),
        Field("identification", str(r.number(at + 4, 2)), at + 4, at + 6),
        Field("fragment", f"offset {(part & 0x1FFF) * 8}{more}{whole}", at + 6, at + 8),
        Field("time to live", str(r.data[at + 8]), at + 8, at + 9),
        Field("protocol", f"{PROTOCOLS.get(protocol, 'unknown')} ({protocol})", at + 9, at + 10),
        Field("checksum", f"{r.number(at + 10, 2):#06x}", at + 10, at + 12, role="ip checksum"),
        Field("from", _v4(r, at + 12), at + 12, at + 16, role=ADDRESS),
        Field("to", _v4(r, at + 16), at + 16, at + 20, role=ADDRESS),
    ]  # fmt: skip
    if not part & 0x1FFF:
        _transport(r, at + size, protocol, at + max(size, total) if total else len(r.data))


def _ipv6(r: _Reader, at: int) -> None:
    if r.left(at) < 40 or r.data[at] >> 4 != 6:
        return
    one, two = (str(ipaddress.IPv6Address(r.data[at + k : at + k + 16])) for k in (8, 24))
    following, length = r.data[at + 6], r.number(at + 4, 2)
    h = r.header("IPv6", at, 40, f"{one} to {two}")
    h.parts = [
        Field("DSCP", _marking(r.number(at, 2) >> 4 & 255), at, at + 2),
        Field("flow label", f"{r.number(at, 4) & 0xFFFFF:#07x}", at + 1, at + 4),
        Field("payload length", f"{length} B", at + 4, at + 6),
        Field("next header", f"{PROTOCOLS.get(following, 'extension')} ({following})", at + 6, at + 7),
        Field("hop limit", str(r.data[at + 7]), at + 7, at + 8), Field("from", one, at + 8, at + 24, role=ADDRESS),
        Field("to", two, at + 24, at + 40, role=ADDRESS),
    ]  # fmt: skip
    end, at = at + 40 + length, at + 40
    for _ in range(_MOST_LAYERS):
        if following not in (0, 43, 44, 51, 60) or r.left(at) < 8:
            break
        size = 8 if following == 44 else (r.data[at + 1] + 2) * 4 if following == 51 else (r.data[at + 1] + 1) * 8
        r.header(
            {0: "hop-by-hop options", 43: "routing", 44: "fragment", 51: "authentication", 60: "destination options"}[
                following
            ],
            at,
            size,
        )
        if following == 44 and r.number(at + 2, 2) >> 3:
            return
        following, at = r.data[at], at + size
    _transport(r, at, following, end)


def _transport(r: _Reader, at: int, protocol: int, end: int) -> None:
    if len([f for f in r.found if f.name in ("IPv4", "IPv6")]) > _MOST_LAYERS:
        return
    if protocol == 6 and r.left(at) >= 20:
        _tcp(r, at, end)
    elif protocol == 17 and r.left(at) >= 8:
        ports = r.number(at, 2), r.number(at + 2, 2)
        h = r.header("UDP", at, 8, f"port {ports[0]} to {ports[1]}")
        h.parts = [
            Field("from port", str(ports[0]), at, at + 2), Field("to port", str(ports[1]), at + 2, at + 4),
            Field("length", f"{r.number(at + 4, 2)} B", at + 4, at + 6),
            Field("checksum", f"{r.number(at + 6, 2):#06x}", at + 6, at + 8, role="checksum"),
        ]  # fmt: skip
        if ports[1] == 4789 and r.left(at + 8) >= 8:
            r.header("VXLAN", at + 8, 8, f"network {r.number(at + 12, 3)}")
            if r.left(at + 16) >= 14:
                r.header("Ethernet", at + 16, 14)
                _network(r, at + 30, r.number(at + 28, 2))
        else:
            _payload(r, at + 8, end)
    elif protocol in (1, 58) and r.left(at) >= 8:
        h = r.header("ICMP" if protocol == 1 else "ICMPv6", at, 8, f"type {r.data[at]}, code {r.data[at + 1]}")
        h.parts = [
            Field("type", str(r.data[at]), at, at + 1), Field("code", str(r.data[at + 1]), at + 1, at + 2),
            Field("checksum", f"{r.number(at + 2, 2):#06x}", at + 2, at + 4, role="checksum"),
        ]  # fmt: skip
        if (protocol == 1 and r.data[at] in (3, 4, 5, 11, 12)) or (protocol == 58 and r.data[at] < 5):
            _network(r, at + 8, 0x0800 if protocol == 1 else 0x86DD)
        else:
            _payload(r, at + 8, end)
    elif protocol == 4:
        _ipv4(r, at)
    elif protocol == 41:
        _ipv6(r, at)
    elif protocol == 47 and r.left(at) >= 4:
        flags, kind = unpack_from("!HH", r.data, at)
        size = 4 + 4 * (flags >> 15) + 4 * (flags >> 13 & 1) + 4 * (flags >> 12 & 1)
        r.header("GRE", at, size, _type(kind))
        _network(r, at + size, kind)
    else:
        _payload(r, at, end)


def _tcp(r: _Reader, at: int, end: int) -> None:
    ports, size = (r.number(at, 2), r.number(at + 2, 2)), (r.data[at + 12] >> 4) * 4
    flags = r.number(at + 12, 2) & 0x1FF
    words = " ".join(name for bit, name in _FLAGS if flags & bit) or "none"
    h = r.header("TCP", at, max(20, size), f"port {ports[0]} to {ports[1]}, {words}")
    h.parts = [
        Field("from port", str(ports[0]), at, at + 2), Field("to port", str(ports[1]), at + 2, at + 4),
        Field("sequence", str(r.number(at + 4, 4)), at + 4, at + 8),
        Field("acknowledges", str(r.number(at + 8, 4)), at + 8, at + 12),
        Field("header length", f"{size} B", at + 12, at + 13), Field("flags", words, at + 12, at + 14),
        Field("window", f"{r.number(at + 14, 2)} (unscaled)", at + 14, at + 16),
        Field("checksum", f"{r.number(at + 16, 2):#06x}", at + 16, at + 18, role="checksum"),
        Field("urgent pointer", str(r.number(at + 18, 2)), at + 18, at + 20),
    ]  # fmt: skip
    place, stop = at + 20, min(len(r.data), at + size)
    while place < stop:
        kind = r.data[place]
        length = 1 if kind < 2 else r.data[place + 1] if place + 1 < stop else 0
        if length < 1 or place + length > stop or (kind >= 2 and length < 2):
            break
        h.parts.append(
            Field(
                f"option: {_OPTIONS.get(kind, str(kind))}",
                _option(r.data[place : place + length]),
                place,
                place + length,
            )
        )
        if kind == 0:
            break
        place += length
    _payload(r, at + max(20, size), end)


def _option(data: bytes) -> str:
    if data[0] == 2 and len(data) == 4:
        return f"{int.from_bytes(data[2:], 'big')} B"
    if data[0] == 3 and len(data) == 3:
        return f"shift {data[2]}"
    if data[0] == 8 and len(data) == 10:
        return "value {}, echo {}".format(*unpack_from("!II", data, 2))
    if data[0] == 5:
        blocks = [unpack_from("!II", data, k) for k in range(2, len(data) - 7, 8)]
        return ", ".join(f"{a} to {b}" for a, b in blocks)
    return ""


def _payload(r: _Reader, at: int, end: int) -> None:
    stop = min(len(r.data), end)
    if at < stop:
        r.header(
            "payload",
            at,
            stop - at,
            f"{max(0, end - at)} B" if end <= len(r.data) else f"{stop - at} of {end - at} B kept",
        )
