"""Packets of STAMP, the simple two-way active measurement protocol (RFC 8762; TLVs by RFC 8972), unauthenticated and
authenticated.
"""

import hashlib
import hmac
import time
from dataclasses import dataclass
from struct import Struct

SIZE, SIZE_AUTHENTICATED = 44, 112
_PLAIN = Struct("!IIIH")  # of a sender: number, seconds, fraction, error estimate
_REFLECTED = Struct("!IIIHHIIIIIHHBxxx")
_EPOCH_S = 2_208_988_800  # from 1900 (NTP, RFC 5905) to 1970
_UNSYNCHRONIZED = 0x0001  # scale 0, multiplier 1: an error is not known (RFC 4656 section 4.1.2)
_PTP = 0x4000  # Z of an error estimate
_TLV = Struct("!BBH")
_UNRECOGNIZED, _MALFORMED = 0x80, 0x40
EXTRA_PADDING, CLASS_OF_SERVICE = 1, 4
_KNOWN = {EXTRA_PADDING, CLASS_OF_SERVICE}
_HMAC = 16


def ntp_of(now_ns: int) -> tuple[int, int]:
    """Seconds and fraction of an NTP timestamp."""
    seconds, rest = divmod(now_ns, 10**9)
    return (seconds + _EPOCH_S) & 0xFFFFFFFF, (rest << 32) // 10**9


def ns_of(seconds: int, fraction: int, error: int = 0) -> int:
    """The reverse, in the era that holds today (RFC 5905 section 6). error: the estimate beside it, which says where it
    is
    a truncated PTP timestamp (RFC 8186): seconds since 1970 and nanoseconds.
    """
    if error & _PTP:
        return seconds * 10**9 + fraction
    whole = seconds - _EPOCH_S
    if whole < 0:
        whole += 1 << 32
    return whole * 10**9 + (fraction * 10**9 >> 32)


def ask(number: int, now_ns: int, size: int = SIZE, key: bytes = b"") -> bytes:
    """A packet of a session's sender."""
    if not key:
        return _PLAIN.pack(number, *ntp_of(now_ns), _UNSYNCHRONIZED).ljust(max(SIZE, size), b"\0")
    head = number.to_bytes(4, "big") + bytes(12) + _PLAIN.pack(0, *ntp_of(now_ns), _UNSYNCHRONIZED)[4:]
    return head.ljust(SIZE_AUTHENTICATED - _HMAC, b"\0") + _signed(head.ljust(SIZE_AUTHENTICATED - _HMAC, b"\0"), key)


def _signed(octets: bytes, key: bytes) -> bytes:
    """HMAC-SHA-256, the first 128 bits (RFC 8762 section 4.4)."""
    return hmac.new(key, octets, hashlib.sha256).digest()[:_HMAC]


def _is_signed(octets: bytes, key: bytes) -> bool:
    """Whether a packet is long enough and was signed with a key."""
    body, told = octets[: SIZE_AUTHENTICATED - _HMAC], octets[SIZE_AUTHENTICATED - _HMAC : SIZE_AUTHENTICATED]
    return len(octets) >= SIZE_AUTHENTICATED and hmac.compare_digest(_signed(body, key), told)


@dataclass(frozen=True)
class Asked:
    """What a sender's packet says."""

    number: int
    sent: tuple[int, int]
    error: int
    tlvs: bytes = b""


def read_ask(octets: bytes, key: bytes = b"") -> Asked | None:
    """A sender's packet; None where it is none, or not signed with the key."""
    if key:
        if not _is_signed(octets, key):
            return None
        number = int.from_bytes(octets[:4], "big")
        _, seconds, fraction, error = _PLAIN.unpack_from(octets, 12)
        return Asked(number, (seconds, fraction), error, octets[SIZE_AUTHENTICATED:])
    if len(octets) < SIZE:
        return None
    number, seconds, fraction, error = _PLAIN.unpack_from(octets)
    return Asked(number, (seconds, fraction), error, octets[SIZE:])


def answer(asked: Asked, number: int, received_ns: int, ttl: int, key: bytes = b"") -> bytes:
    """A reflector's packet, as long as the one it answers. number: its own."""
    now = ntp_of(time.time_ns())
    if not key:
        return _REFLECTED.pack(
            number, *now, _UNSYNCHRONIZED, 0, *ntp_of(received_ns), asked.number, *asked.sent, asked.error, 0, ttl
        ) + tlvs_back(asked.tlvs)
    head = number.to_bytes(4, "big") + bytes(12) + Struct("!IIH6x").pack(*now, _UNSYNCHRONIZED)
    head += Struct("!II8x").pack(*ntp_of(received_ns)) + asked.number.to_bytes(4, "big") + bytes(12)
    head += Struct("!IIH6x").pack(*asked.sent, asked.error) + bytes([ttl]) + bytes(15)
    head = head.ljust(SIZE_AUTHENTICATED - _HMAC, b"\0")
    return head + _signed(head, key) + tlvs_back(asked.tlvs)


def tlvs_back(octets: bytes) -> bytes:
    """TLVs as a reflector gives them back: what it does not know is marked so, what does not fit is marked malformed
    (RFC 8972 section 4).
    """
    found, at = bytearray(octets), 0
    while at + _TLV.size <= len(found):
        flags, kind, size = _TLV.unpack_from(found, at)
        if not flags and not kind and not size:  # Plain padding.
            break
        flags &= ~(_UNRECOGNIZED | _MALFORMED) & 0xFF
        if at + _TLV.size + size > len(found):
            found[at] = flags | _MALFORMED
            break
        found[at] = flags if kind in _KNOWN else flags | _UNRECOGNIZED
        at += _TLV.size + size
    return bytes(found)


@dataclass(frozen=True)
class Answered:
    """What a reflector's packet says."""

    number: int  # of the sender
    reflected: int  # number of the reflector
    sent_ns: int
    received_ns: int
    returned_ns: int


def read_answer(octets: bytes, key: bytes = b"") -> Answered | None:
    """A reflector's packet; None where it is none."""
    if key:
        if not _is_signed(octets, key):
            return None
        pair = Struct("!II")
        return Answered(
            int.from_bytes(octets[48:52], "big"), int.from_bytes(octets[:4], "big"),
            ns_of(*pair.unpack_from(octets, 64)),
            ns_of(*pair.unpack_from(octets, 32)), ns_of(*pair.unpack_from(octets, 16)),
        )  # fmt: skip
    if len(octets) < SIZE:
        return None
    own, s, f, error, _, rs, rf, number, ss, sf, sent_error, _, _ = _REFLECTED.unpack_from(octets)
    return Answered(number, own, ns_of(ss, sf, sent_error), ns_of(rs, rf, error), ns_of(s, f, error))
