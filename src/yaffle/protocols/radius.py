"""RADIUS packets (RFC 2865, 2866)."""

import re
from dataclasses import dataclass

ASKS = {1: "access", 4: "accounting", 12: "status"}
ANSWERS = {2: "accept", 3: "reject", 5: "response", 11: "challenge"}
_CALLING_STATION = 31
_HARDWARE = re.compile(rb"[0-9a-f]{12}")


@dataclass(frozen=True, slots=True)
class RadiusMessage:
    """What one packet says."""

    id: int
    ask: str  # what is asked; empty in an answer
    answer: str  # the answer; empty in a request
    user: str
    authenticator: bytes
    station: str = ""  # hardware address of who signs on (Calling-Station-Id); empty where it is not told


def parse(data: bytes) -> RadiusMessage | None:
    """One packet; None where it is none."""
    if len(data) < 20:
        return None
    code, size = data[0], int.from_bytes(data[2:4], "big")
    if not 20 <= size <= 4096 or (code not in ASKS and code not in ANSWERS):
        return None
    at, user, station = 20, "", ""
    while at + 2 <= min(len(data), size):
        kind, length = data[at], data[at + 1]
        if length < 2:
            return None
        if kind == 1:
            user = data[at + 2 : at + length].decode("utf-8", "replace")
        elif kind == _CALLING_STATION:
            station = _hardware(data[at + 2 : at + length])
        at += length
    return RadiusMessage(data[1], ASKS.get(code, ""), ANSWERS.get(code, ""), user, data[4:20], station)


def _hardware(told: bytes) -> str:
    """A hardware address, however it is written (RFC 3580, 3.21: 00-10-A4-23-19-C0); empty where it is none."""
    digits = re.sub(rb"[-:.]", b"", told).lower()
    return bytes.fromhex(digits.decode()).hex(":") if _HARDWARE.fullmatch(digits) else ""
