"""DNS messages (RFC 1035, 6895): question, code, truncation, addresses in the answer."""

import ipaddress
from dataclasses import dataclass
from struct import Struct

_HEADER = Struct("!HHHHHH")
CODES = {
    0: "NOERROR", 1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED", 6: "YXDOMAIN", 7: "YXRRSET",
    8: "NXRRSET", 9: "NOTAUTH", 10: "NOTZONE",
    16: "BADVERS",
}  # fmt: skip
TYPES = {
    1: "A", 2: "NS", 5: "CNAME", 6: "SOA", 12: "PTR", 13: "HINFO", 15: "MX", 16: "TXT", 28: "AAAA", 33: "SRV",
    35: "NAPTR", 39: "DNAME", 43: "DS", 46: "RRSIG",
    47: "NSEC", 48: "DNSKEY", 52: "TLSA", 64: "SVCB", 65: "HTTPS", 99: "SPF", 251: "IXFR", 252: "AXFR", 255: "ANY",
    257: "CAA",
}  # fmt: skip
_MOST_JUMPS = 32
_MOST_RECORDS = 256


@dataclass(frozen=True, slots=True)
class DnsMessage:
    """What one message says."""

    id: int
    answer: bool
    truncated: bool
    code: str
    name: str
    kind: str
    addresses: tuple[str, ...] = ()


def _name(data: bytes, at: int) -> tuple[str, int]:
    """A name and the place behind it; raises ValueError where it makes no sense."""
    labels, after, jumps = [], -1, 0
    while True:
        if at >= len(data):
            raise ValueError("a name runs over the end")
        size = data[at]
        if size >= 0xC0:
            if at + 2 > len(data) or jumps >= _MOST_JUMPS:
                raise ValueError("a name points nowhere")
            after = at + 2 if after < 0 else after
            at, jumps = (size & 0x3F) << 8 | data[at + 1], jumps + 1
            continue
        if size > 63:
            raise ValueError("a label is too long")
        at += 1
        if size == 0:
            break
        if at + size > len(data):
            raise ValueError("a label runs over the end")
        labels.append(data[at : at + size].decode("latin-1"))
        at += size
    return ".".join(labels) or ".", at if after < 0 else after


def parse(data: bytes) -> DnsMessage | None:
    """One message; None where it is none. A sliced answer still gives its question and code."""
    if len(data) < 12:
        return None
    number, flags, questions, answers, _, _ = _HEADER.unpack_from(data)
    if flags >> 11 & 15 > 5 or questions > 1 or flags & 0x40:
        return None
    name, kind, at = "", "", 12
    try:
        if questions:
            name, at = _name(data, 12)
            if at + 4 > len(data):
                return None
            kind = TYPES.get(
                int.from_bytes(data[at : at + 2], "big"), f"TYPE{int.from_bytes(data[at : at + 2], 'big')}"
            )
            at += 4
    except ValueError:
        return None
    code = flags & 15
    answer = bool(flags & 0x8000)
    addresses = tuple(_addresses(data, at, answers)) if answer else ()
    return DnsMessage(
        number, answer, bool(flags & 0x200), CODES.get(code, f"RCODE{code}"), name.lower(), kind, addresses
    )


def _behind_name(data: bytes, at: int) -> int:
    """The place behind a name, which is not read; raises ValueError where it runs over the end."""
    for _ in range(130):
        if at >= len(data):
            break
        size = data[at]
        if size >= 0xC0:
            if at + 2 > len(data):
                break
            return at + 2
        if size > 63:
            break
        at += 1 + size
        if size == 0:
            return at
    raise ValueError("a name runs over the end")


def _addresses(data: bytes, at: int, answers: int) -> list[str]:
    found: list[str] = []
    try:
        for _ in range(min(answers, _MOST_RECORDS)):
            at = _behind_name(data, at)
            if at + 10 > len(data):
                break
            kind, size = int.from_bytes(data[at : at + 2], "big"), int.from_bytes(data[at + 8 : at + 10], "big")
            body = data[at + 10 : at + 10 + size]
            if len(body) == size and (kind, size) in ((1, 4), (28, 16)):
                found.append(str(ipaddress.ip_address(body)))
            at += 10 + size
    except ValueError:
        pass  # What came before the break stands.
    return found
