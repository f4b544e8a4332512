"""Masks addresses consistently: the same address always becomes the same other one, and addresses of one network stay
in one.

The mapping keeps prefixes, bit by bit, under a secret key (Fan, Xu, Ammar and Moon 2004, "Prefix-preserving IP address
anonymization"), here with a keyed BLAKE2b as its pseudo-random function. Whoever lacks the key cannot turn it back, but
who knows some traffic may recognize it: masked evidence is harder to read, not secret.
"""

import hashlib
import ipaddress
import secrets
from functools import lru_cache
from struct import pack, unpack_from

from yaffle.capture.fields import ADDRESS, Field, fields

_TRANSPORTS = ("TCP", "UDP", "ICMP", "ICMPv6")


class Masker:
    """One mapping of addresses."""

    def __init__(self, key: bytes | None = None) -> None:
        self._key = key or secrets.token_bytes(32)
        self.packed = lru_cache(maxsize=200_000)(self._packed)

    def _packed(self, address: bytes) -> bytes:
        """An address of 4 or 16 bytes under the mapping."""
        bits = 8 * len(address)
        whole = int.from_bytes(address, "big")
        masked = 0
        for k in range(bits):
            prefix = (whole >> (bits - k)) << (bits - k) if k else 0
            digest = hashlib.blake2b(
                pack("!BB", bits, k) + prefix.to_bytes(len(address), "big"), key=self._key, digest_size=1
            ).digest()
            masked = masked << 1 | ((whole >> (bits - 1 - k) & 1) ^ (digest[0] & 1))
        return masked.to_bytes(len(address), "big")

    def text(self, address: str) -> str:
        """The same for an address as text."""
        return str(ipaddress.ip_address(self.packed(ipaddress.ip_address(address).packed)))

    def hardware(self, address: str) -> str:
        """Another hardware address for one as text, locally administered; nothing of the maker stays."""
        octets = bytes.fromhex(address.replace(":", ""))
        other = hashlib.blake2b(b"hardware" + octets, key=self._key, digest_size=len(octets)).digest()
        return bytes([other[0] & 0xFC | 2, *other[1:]]).hex(":")

    def packet(self, data: bytes, link_type: int) -> bytes:
        """A packet with every address in its headers masked, checksums mended, hardware addresses and payload left out.

        What cannot be decoded might hold addresses: only what the decoded headers cover is kept.
        """
        found = fields(data, link_type)
        headers = [h for h in found if h.name != "payload"]
        if not headers:
            return b""
        out = bytearray(data[: max(h.stop for h in headers)])
        change = 0  # of the sum over the addresses, for the checksums that cover them
        for header in headers:
            if header.name == "Ethernet":
                out[header.start : header.start + 12] = bytes(12)
            changed = self._mask(header, out)
            if header.name == "IPv4":
                _mend(out, _place(header, "ip checksum"), changed)
                change = changed
            elif header.name == "IPv6":
                change = changed
            elif header.name in _TRANSPORTS and header.name != "ICMP":
                _mend(out, _place(header, "checksum"), change, udp=header.name == "UDP")
        return bytes(out)

    def _mask(self, header: Field, out: bytearray) -> int:
        """Masks the addresses of one header; returns by how much the sum of their 16-bit words changed."""
        changed = 0
        for part in header.parts:
            if header.name == "ARP" and part.stop - part.start == 6:
                out[part.start : part.stop] = bytes(6)
            if part.role == ADDRESS and part.stop <= len(out):
                before = bytes(out[part.start : part.stop])
                after = self.packed(before)
                changed += sum(unpack_from(f"!{len(after) // 2}H", after)) - sum(
                    unpack_from(f"!{len(before) // 2}H", before)
                )
                out[part.start : part.stop] = after
        return changed


def _place(header: Field, role: str) -> int:
    return next((part.start for part in header.parts if part.role == role), -1)


def _mend(out: bytearray, at: int, changed: int, *, udp: bool = False) -> None:
    """Updates an internet checksum (RFC 1624) by a change of the sum it covers; a UDP checksum of zero means none."""
    if at < 0 or at + 2 > len(out):
        return
    former = int.from_bytes(out[at : at + 2], "big")
    if udp and former == 0:
        return
    total = (~former & 0xFFFF) + changed % 0xFFFF
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    value = ~total & 0xFFFF
    out[at : at + 2] = (0xFFFF if udp and value == 0 else value).to_bytes(2, "big")
