"""A minute at the ramp of Saltmarsh's first berth: its controller and two drives talk every 8 ms (EtherType 0x8892),
until a camera sends its recording through the same switch: the far drive's frames come late, some never.
"""

from pathlib import Path
from struct import pack

import numpy as np

from yaffle.capture.pcapng_writer import write_pcapng

START_NS = 1_772_779_500_000_000_000  # 2026-03-06 06:45:00
SECONDS = 60
PERIOD_NS = 8_000_000
CONTROLLER, NEAR, FAR = (bytes([2, 0x4C, 0, 0, 0, number]) for number in (1, 0x11, 0x12))
_TICK_NS = 31_250
_COPY_S = (30.0, 38.0)  # of the camera's recording
_LOST, _HELD = 0.04, 0.03
_HELD_CYCLES = (3, 6)


def make_linkspan(path: Path) -> Path:
    """Writes the capture."""
    draw = np.random.default_rng(88)
    frames: list[tuple[int, bytes]] = []
    streams = ((CONTROLLER, NEAR, 0x8001), (CONTROLLER, FAR, 0x8002), (NEAR, CONTROLLER, 0x8011),
               (FAR, CONTROLLER, 0x8012))  # fmt: skip
    for number, (sender, receiver, identifier) in enumerate(streams):
        frames += _stream(draw, sender, receiver, identifier, 400_000 * number, hurt=FAR in (sender, receiver))
    frames += _recording(draw)
    frames.sort(key=lambda one: one[0])
    write_pcapng(path, [(at, len(frame), frame) for at, frame in frames], interface="berth 1 switch")
    return path


def _stream(
    draw: np.random.Generator, sender: bytes, receiver: bytes, identifier: int, shift_ns: int, *, hurt: bool
) -> list[tuple[int, bytes]]:
    found, held_until = [], -1
    for cycle in range(SECONDS * 10**9 // PERIOD_NS):
        sent_s = cycle * PERIOD_NS / 1e9
        at = START_NS + shift_ns + cycle * PERIOD_NS + int(abs(draw.normal(0, 12_000)))
        if hurt and _COPY_S[0] <= sent_s < _COPY_S[1]:
            at += int(abs(draw.normal(0, 900_000)))
            if draw.random() < _LOST:
                continue
            if cycle >= held_until and draw.random() < _HELD:
                held_until = cycle + int(draw.integers(*_HELD_CYCLES))
            if cycle < held_until:
                at = START_NS + shift_ns + held_until * PERIOD_NS - 6_000 * (held_until - cycle)
        state = pack("!HBB", cycle * (PERIOD_NS // _TICK_NS) & 0xFFFF, 0x35, 0)
        body = pack("!H", identifier) + draw.integers(0, 256, 40, np.uint8).tobytes() + state
        found.append((at, receiver + sender + b"\x88\x92" + body))
    return found


def _recording(draw: np.random.Generator) -> list[tuple[int, bytes]]:
    """Datagrams of the camera to its recorder, all that the capture keeps of it."""
    camera, recorder = bytes([198, 51, 100, 230]), bytes([198, 51, 100, 20])
    found, at_s = [], _COPY_S[0]
    while at_s < _COPY_S[1]:
        data = bytes(64)
        udp = pack("!HHHH", 50_040, 9_040, 8 + len(data), 0) + data
        ip = pack("!BBHHHBBH", 0x45, 0, 20 + len(udp), 0, 0x4000, 64, 17, 0) + camera + recorder
        found.append((START_NS + int(at_s * 1e9), bytes([2, 0x4C, 0, 0, 0, 0x20]) + bytes([2, 0x4C, 0, 0, 0, 0x21])
                      + b"\x08\x00" + ip + udp))  # fmt: skip
        at_s += float(draw.exponential(0.004))
    return found
