"""DHCPv4 messages (RFC 2131, 2132), and what a message of either version says."""

import ipaddress
from dataclasses import dataclass

KINDS = {1: "discover", 2: "offer", 3: "request", 4: "decline", 5: "ack", 6: "nak", 7: "release", 8: "inform"}
ASKS = {"discover": ("offer", "ack"), "request": ("ack", "nak"), "inform": ("ack",)}
_COOKIE = b"\x63\x82\x53\x63"


@dataclass(frozen=True, slots=True)
class LeaseMessage:
    """What one message says."""

    kind: str
    transaction: int
    client: str  # its hardware address, or what else it is known by
    address: str  # given or wanted; empty where none is named
    server: str  # identifier of the server; empty without
    hops: int  # relays that it passed
    status: str = ""  # empty where all went well


def parse(data: bytes) -> LeaseMessage | None:
    """One message; None where it is none."""
    if len(data) < 240 or data[0] not in (1, 2) or data[236:240] != _COOKIE:
        return None
    options: dict[int, bytes] = {}
    at = 240
    while at < len(data):
        code = data[at]
        if code == 255:
            break
        if code == 0:
            at += 1
            continue
        if at + 2 > len(data):
            break
        size = data[at + 1]
        options.setdefault(code, data[at + 2 : at + 2 + size])
        at += 2 + size
    kind = KINDS.get(options.get(53, b"\0")[0] if options.get(53) else 0)
    if kind is None:
        return None
    given, own = data[16:20], data[12:16]
    wanted = given if any(given) else options.get(50, own)
    server = options.get(54, b"")
    return LeaseMessage(
        kind,
        int.from_bytes(data[4:8], "big"),
        ":".join(f"{b:02x}" for b in data[28 : 28 + min(16, data[2] or 6)]),
        str(ipaddress.IPv4Address(wanted)) if len(wanted) == 4 and any(wanted) else "",
        str(ipaddress.IPv4Address(server)) if len(server) == 4 else "",
        data[3],
    )
