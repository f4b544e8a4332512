"""RADIUS packets (RFC 2865, 2866)."""

from dataclasses import dataclass

ASKS = {1: "access", 4: "accounting", 12: "status"}
ANSWERS = {2: "accept", 3: "reject", 5: "response", 11: "challenge"}


@dataclass(frozen=True, slots=True)
class RadiusMessage:
    """What one packet says."""

    id: int
    ask: str  # what is asked; empty in an answer
    answer: str  # the answer; empty in a request
    user: str
    authenticator: bytes


def parse(data: bytes) -> RadiusMessage | None:
    """One packet; None where it is none."""
    if len(data) < 20:
        return None
    code, size = data[0], int.from_bytes(data[2:4], "big")
    if not 20 <= size <= 4096 or (code not in ASKS and code not in ANSWERS):
        return None
    at, user = 20, ""
    while at + 2 <= min(len(data), size):
        kind, length = data[at], data[at + 1]
        if length < 2:
            return None
        if kind == 1:
            user = data[at + 2 : at + length].decode("utf-8", "replace")
        at += length
    return RadiusMessage(data[1], ASKS.get(code, ""), ANSWERS.get(code, ""), user, data[4:20])
