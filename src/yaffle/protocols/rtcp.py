"""RTCP (RFC 3550 section 6): what senders and receivers of voice and video tell each other about their streams."""

from dataclasses import dataclass
from struct import Struct

SENDER_REPORT, RECEIVER_REPORT = 200, 201
_HEADER, _SENDER, _BLOCK = Struct("!BBHI"), Struct("!IIIII"), Struct("!IIIIII")
KINDS = range(200, 208)  # SR, RR, SDES, BYE, APP, and RFC 4585, RFC 3611


@dataclass(frozen=True)
class SenderReport:
    """What a sender tells of its stream. stamp: the middle 32 bits of its NTP time, which receivers give back as
    `last_report`.
    """

    ssrc: int
    stamp: int
    packets: int
    octets: int


@dataclass(frozen=True)
class Reception:
    """What a receiver tells of a stream. lost: since the beginning; jitter in ticks of the stream's clock; delay_ns:
    from the sender's report to this one.
    """

    ssrc: int
    lost: int
    fraction: float
    highest: int
    jitter: int
    last_report: int  # 0 where none had come yet
    delay_ns: int


def reports(data: bytes) -> tuple[list[SenderReport], list[Reception]] | None:
    """All reports of a compound packet; None where it is no RTCP.

    Lengths are checked before they are believed; what was cut off is left out.
    """
    at = 0
    sent: list[SenderReport] = []
    received: list[Reception] = []
    while at + _HEADER.size <= len(data):
        first, kind, words, ssrc = _HEADER.unpack_from(data, at)
        if first >> 6 != 2 or kind not in KINDS:
            return None if at == 0 else (sent, received)
        end = min(len(data), at + 4 * (words + 1))
        body = at + _HEADER.size
        if kind == SENDER_REPORT and body + _SENDER.size <= end:
            high, low, _stamp, packets, octets = _SENDER.unpack_from(data, body)
            sent.append(SenderReport(ssrc, (high & 0xFFFF) << 16 | low >> 16, packets, octets))
            body += _SENDER.size
        if kind in (SENDER_REPORT, RECEIVER_REPORT):
            for _ in range(first & 31):
                if body + _BLOCK.size > end:
                    break
                about, loss, highest, jitter, last, delay = _BLOCK.unpack_from(data, body)
                lost = loss & 0xFFFFFF
                received.append(
                    Reception(
                        about,
                        lost - (1 << 24) if lost >> 23 else lost,
                        (loss >> 24) / 256,
                        highest,
                        jitter,
                        last,
                        delay * 10**9 >> 16,
                    )
                )
                body += _BLOCK.size
        at += 4 * (words + 1)
    return (sent, received) if at else None
