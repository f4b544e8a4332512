"""DHCPv6 messages (RFC 8415), also inside those of relays."""

import ipaddress

from yaffle.protocols.dhcp import LeaseMessage

KINDS = {
    1: "solicit", 2: "advertise", 3: "request", 4: "confirm", 5: "renew", 6: "rebind", 7: "reply", 8: "release",
    9: "decline", 10: "reconfigure",
    11: "information-request",
}  # fmt: skip
ASKS = {
    kind: ("reply",) for kind in ("request", "confirm", "renew", "rebind", "release", "decline", "information-request")
} | {"solicit": ("advertise", "reply")}
STATUSES = {1: "UnspecFail", 2: "NoAddrsAvail", 3: "NoBinding", 4: "NotOnLink", 5: "UseMulticast", 6: "NoPrefixAvail"}
_RELAYED = (12, 13)
_DEEPEST = 8  # Relays that a message passed (RFC 8415 section 7.6 allows 8).
_CLIENT, _SERVER, _NA, _TA, _ADDRESS, _RELAY_MESSAGE, _STATUS, _PD, _PREFIX = 1, 2, 3, 4, 5, 9, 13, 25, 26


def _options(data: bytes, at: int) -> list[tuple[int, bytes]]:
    found = []
    while at + 4 <= len(data):
        code, size = int.from_bytes(data[at : at + 2], "big"), int.from_bytes(data[at + 2 : at + 4], "big")
        found.append((code, data[at + 4 : at + 4 + size]))
        at += 4 + size
    return found


def _duid(value: bytes) -> str:
    """Who it is: the link-layer address where the identifier holds one (section 11), else the identifier."""
    kind = int.from_bytes(value[:2], "big")
    own = value[8:] if kind == 1 else value[4:] if kind == 3 else b""
    return own.hex(":") if own else value.hex()


def _granted(options: list[tuple[int, bytes]]) -> tuple[str, str]:
    """First address or prefix, and the first status that tells of failure."""
    address, status = "", ""
    for code, value in options:
        if code == _STATUS and len(value) >= 2:
            status = status or STATUSES.get(int.from_bytes(value[:2], "big"), "")
        elif code == _ADDRESS and len(value) >= 16:
            address = address or str(ipaddress.IPv6Address(value[:16]))
        elif code == _PREFIX and len(value) >= 25:
            address = address or f"{ipaddress.IPv6Address(value[9:25])}/{value[8]}"
        elif code in (_NA, _PD, _TA):
            inner = _granted(
                [o for o in _options(value, 4 if code == _TA else 12) if o[0] in (_STATUS, _ADDRESS, _PREFIX)]
            )
            address, status = address or inner[0], status or inner[1]
    return address, status


def parse(data: bytes) -> LeaseMessage | None:
    """One message; None where it is none."""
    hops = 0
    while data and data[0] in _RELAYED and hops < _DEEPEST:
        data = next((value for code, value in _options(data, 34) if code == _RELAY_MESSAGE), b"")
        hops += 1
    if len(data) < 8 or data[0] not in KINDS:
        return None
    options = _options(data, 4)
    named = dict(reversed(options))
    if _CLIENT not in named and data[0] != 11:
        return None
    address, status = _granted(options)
    return LeaseMessage(
        KINDS[data[0]], int.from_bytes(data[1:4], "big"), _duid(named.get(_CLIENT, b"")), address, "", hops, status
    )
