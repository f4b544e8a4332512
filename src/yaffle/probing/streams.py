"""Media as a call or a camera sends them (RTP, RFC 3550): sizes and cadence of named codecs, sent and judged."""

import random
import socket
import threading
import time
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


def send_media(own: socket.socket, name: str, seconds: float, dscp: int, ended: threading.Event) -> None:
    """Sends a stream at its cadence."""
    from yaffle.probing.waiting_socket import marked

    codec = codec_of(name)
    marked(own, dscp, ipv6=own.family == socket.AF_INET6)
    source, begun = random.getrandbits(32), time.monotonic_ns()
    for number in range(packets_of(codec, seconds)):
        frame = number // codec.packets
        due = begun + frame * codec.frame_ns + number % codec.packets * 200_000
        if (left := due - time.monotonic_ns()) > 0 and ended.wait(left / 1e9):
            return
        last = (number + 1) % codec.packets == 0
        stamp = frame * codec.frame_ns * codec.clock_hz // 10**9
        head = _RTP.pack(
            0x80, codec.payload_type | (0x80 if codec.video and last else 0), number & 0xFFFF, stamp, source
        )
        try:
            own.send(head + bytes(codec.octets))
        except OSError:  # A full queue, or nobody listens any more: the packet is lost.
            continue


def receive_media(own: socket.socket, name: str, seconds: float, ended: threading.Event) -> dict[str, Any]:
    """Takes a stream until it is over, and judges it as captured ones are."""
    from yaffle.probing.icmp_words import stamp_of

    codec = codec_of(name)
    own.setsockopt(socket.SOL_SOCKET, 35, 1)  # SO_TIMESTAMPNS
    own.settimeout(0.1)
    count = packets_of(codec, seconds)
    found: list[tuple[int, int, int]] = []
    until = time.monotonic() + seconds + _LATE_S
    while time.monotonic() < until and len(found) < 2 * count and not ended.is_set():
        try:
            data, told, _, _ = own.recvmsg(_ROOM, 256)
        except OSError:
            continue
        if len(data) >= _RTP.size and data[0] == 0x80 and data[1] & 127 == codec.payload_type:
            _, _, number, stamp, _ = _RTP.unpack_from(data)
            found.append((stamp_of(told) or time.time_ns(), number, stamp))
            if number == (count - 1) & 0xFFFF and len(found) >= count:
                break
    return judged(codec, count, found)


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
