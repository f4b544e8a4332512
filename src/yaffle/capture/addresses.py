"""Addresses as text: one integer form inside (two 64-bit halves, IPv4 in the lower), the usual form outside."""

import ipaddress

from yaffle.capture.conversations import Rows


def address_text(high: int, low: int, ipv6: bool) -> str:
    """An address in its usual form (RFC 5952 for IPv6)."""
    if ipv6:
        return str(ipaddress.IPv6Address((int(high) << 64) | int(low)))
    return str(ipaddress.IPv4Address(int(low) & 0xFFFFFFFF))


def end_text(address: str, port: int) -> str:
    """An address with a port; IPv6 in brackets."""
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def client_address(flows: Rows, row: int) -> str:
    """Address of the client of a conversation."""
    return address_text(flows.a_hi[row], flows.a_lo[row], bool(flows.ipv6[row]))


def server_address(flows: Rows, row: int) -> str:
    """Address of the server of a conversation."""
    return address_text(flows.b_hi[row], flows.b_lo[row], bool(flows.ipv6[row]))
