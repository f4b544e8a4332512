"""Media as a call or a camera sends them (RTP, RFC 3550): sizes and cadence of named codecs, sent and judged."""

import random
import socket
import threading
import time
from collections import Counter
from dataclasses import dataclass
from struct import Struct
from typing import Any

import numpy as np

from yaffle.errors import YaffleError
from yaffle.media.streams import fill_jitter, heard
from yaffle.media.voice_quality import estimate

_RTP = Struct("!BBHII")
_LATE_S = 1.5
_ROOM = 2048
_RECVTOS, _TOS, _RECVTCLASS, _TCLASS = 13, 1, 66, 67
MOST_STREAMS = 100


@dataclass(frozen=True)
class Codec:
    """What one sends: every frame so many packets of so many octets. video: no opinion score is told."""

    payload_type: int
    clock_hz: int
    frame_ns: int
    packets: int
    octets: int
    video: bool = False


CODECS = {
    "g711": Codec(0, 8000, 20_000_000, 1, 160),
    "g729": Codec(18, 8000, 20_000_000, 1, 20),
    "opus": Codec(111, 48_000, 20_000_000, 1, 80),
    "h264": Codec(96, 90_000, 33_333_333, 7, 1190, video=True),  # 2 Mbit/s
    "conference": Codec(97, 90_000, 33_333_333, 14, 1190, video=True),  # 4 Mbit/s
    "camera": Codec(98, 90_000, 66_666_667, 9, 1190, video=True),  # 1.3 Mbit/s
}


def codec_of(name: str) -> Codec:
    """A codec by its name. Raises YaffleError."""
    if name not in CODECS:
        raise YaffleError(f"--codec {name}: one of {', '.join(CODECS)}")
    return CODECS[name]


def packets_of(codec: Codec, seconds: float) -> int:
    """How many packets a stream of that length has."""
    return max(1, round(seconds * 1e9 / codec.frame_ns)) * codec.packets


def send_media(own: socket.socket, name: str, seconds: float, dscp: int, ended: threading.Event, many: int = 1) -> None:
    """Sends so many streams at their cadence, one a little behind the other."""
    from yaffle.probing.waiting_socket import marked

    codec = codec_of(name)
    marked(own, dscp, ipv6=own.family == socket.AF_INET6)
    first_source, begun, body = random.getrandbits(31), time.monotonic_ns(), bytes(codec.octets)
    for number in range(packets_of(codec, seconds)):
        frame = number // codec.packets
        last = (number + 1) % codec.packets == 0
        stamp = frame * codec.frame_ns * codec.clock_hz // 10**9
        kind = codec.payload_type | (0x80 if codec.video and last else 0)
        for stream in range(many):
            due = begun + frame * codec.frame_ns + number % codec.packets * 200_000 + stream * codec.frame_ns // many
            if (left := due - time.monotonic_ns()) > 0 and ended.wait(left / 1e9):
                return
            try:
                own.send(_RTP.pack(0x80, kind, number & 0xFFFF, stamp, first_source + stream) + body)
            except OSError:  # A full queue, or nobody listens any more: the packet is lost.
                continue


def receive_media(
    own: socket.socket, name: str, seconds: float, ended: threading.Event, many: int = 1
) -> dict[str, Any]:
    """Takes so many streams until they are over, and judges them as captured ones are."""
    from yaffle.probing.icmp_words import stamp_of

    codec = codec_of(name)
    own.setsockopt(socket.SOL_SOCKET, 35, 1)  # SO_TIMESTAMPNS
    ipv6 = own.family == socket.AF_INET6
    own.setsockopt(*((socket.IPPROTO_IPV6, _RECVTCLASS) if ipv6 else (socket.IPPROTO_IP, _RECVTOS)), 1)
    own.settimeout(0.1)
    count = packets_of(codec, seconds)
    found: dict[int, list[tuple[int, int, int]]] = {}
    marks: Counter[int] = Counter()
    taken, until = 0, time.monotonic() + seconds + _LATE_S
    while time.monotonic() < until and taken < 2 * count * many and not ended.is_set():
        try:
            data, told, _, _ = own.recvmsg(_ROOM, 256)
        except OSError:
            continue
        if len(data) >= _RTP.size and data[0] == 0x80 and data[1] & 127 == codec.payload_type:
            _, _, number, stamp, source = _RTP.unpack_from(data)
            if source not in found and len(found) >= many:
                continue
            found.setdefault(source, []).append((stamp_of(told) or time.time_ns(), number, stamp))
            marks[_marking(told)] += 1
            taken += 1
            if number == (count - 1) & 0xFFFF and taken >= count * many:
                break
    judgements = [judged(codec, count, found[source]) for source in sorted(found)]
    judgements += [judged(codec, count, [])] * (many - len(found))
    return together(judgements) | {"arrived_dscp": {str(mark): packets for mark, packets in marks.most_common()}}


def _marking(told: list[tuple[int, int, bytes]]) -> int:
    """The DSCP that a datagram came with (RFC 2474)."""
    for level, kind, value in told:
        if (level, kind) in ((socket.IPPROTO_IP, _TOS), (socket.IPPROTO_IPV6, _TCLASS)):
            return value[0] >> 2
    return 0


def together(several: list[dict[str, Any]]) -> dict[str, Any]:
    """Judgements of streams that ran at once: counts summed, jitter over all of them, and the worst opinion."""
    if len(several) == 1:
        return several[0]
    packets, lost = sum(one["packets"] for one in several), sum(one["lost"] for one in several)
    jitters = [one["jitter_ms"] for one in several if one["jitter_ms"] is not None]
    opinions = [one["mos"] for one in several if one["mos"] is not None]
    jitter = {"min": min(one["min"] for one in jitters), "mean": sum(one["mean"] for one in jitters) / len(jitters),
              "max": max(one["max"] for one in jitters)} if jitters else None  # fmt: skip
    return {
        "packets": packets, "lost": lost, "loss_percent": 100 * lost / packets, "jitter_ms": jitter,
        "mos": min(opinions) if opinions else None, "streams": len(several),
        "worst_loss_percent": max(one["loss_percent"] for one in several),
    }  # fmt: skip


def judged(codec: Codec, count: int, found: list[tuple[int, int, int]]) -> dict[str, Any]:
    """What a stream of so many packets was like where these (arrival in ns, number, timestamp) came: loss of those
    sent, jitter by RFC 3550, opinion score of voice by the E-model.
    """
    if not found:
        none = {"jitter_ms": None, "mos": None}
        return {"packets": count, "lost": count, "loss_percent": 100.0, **none}
    arrived, number, stamp = (np.array(column, np.int64) for column in zip(*found, strict=True))
    unique = np.unique(number).size
    jitter_ns = np.zeros(arrived.size)
    fill_jitter(arrived, stamp, codec.clock_hz, jitter_ns)
    told = {"min": float(jitter_ns[1:].min(initial=jitter_ns[-1])) / 1e6, "mean": float(jitter_ns.mean()) / 1e6,
            "max": float(jitter_ns.max()) / 1e6}  # fmt: skip
    late, _, _, burst, *_ = heard(arrived, number, stamp, codec.clock_hz)
    lost = max(0, count - unique)
    opinion = None if codec.video else estimate(codec.payload_type, min(1.0, (lost + late) / count), burst, None)
    return {
        "packets": count, "lost": lost, "loss_percent": 100 * lost / count, "jitter_ms": told,
        "mos": round(opinion.mos, 2) if opinion is not None else None,
    }  # fmt: skip
