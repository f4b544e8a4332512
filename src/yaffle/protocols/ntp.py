"""NTP, versions 1 to 4 (RFC 5905): a client's question and the server's answer, tied by the time the client sent it."""

from dataclasses import dataclass

_ASK, _ANSWER = 3, 4
_SIZE = 48


@dataclass(frozen=True, slots=True)
class NtpMessage:
    """What one message says."""

    answer: bool
    mark: bytes  # the client's transmit timestamp, which the answer gives back
    stratum: int
    refusal: str  # a kiss code (section 7.4); empty without


def parse(data: bytes) -> NtpMessage | None:
    """One message of a client or a server; None where it is none."""
    if len(data) < _SIZE or not 1 <= (data[0] >> 3 & 7) <= 4 or data[0] & 7 not in (_ASK, _ANSWER):
        return None
    answer = data[0] & 7 == _ANSWER
    refusal = data[12:16].decode("latin-1").strip("\0 ") if answer and data[1] == 0 else ""
    return NtpMessage(answer, data[24:32] if answer else data[40:48], data[1], refusal)
