"""Three minutes on the pier at Saltmarsh as a radio heard them: handheld scanners walk past three access points.

The first moves early and quickly, the second late and has to sign on at Quay House each time, the third stays where it
is hardly heard; a fourth has a key of last year. What the access points ask the sign-on server is a capture of its own.
"""

import math
from pathlib import Path
from struct import pack

import numpy as np

from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.packet_bytes import udp_frame

START_NS = 1_772_779_260_000_000_000  # 2026-03-06 06:41:00
SECONDS = 180
SSID = "pier"
_POINTS = ((bytes.fromhex("024a00000010"), 36, 0.0), (bytes.fromhex("024a00000020"), 44, 70.0),
           (bytes.fromhex("024a00000030"), 36, 140.0))  # fmt: skip
_GATEWAY = bytes.fromhex("024a000000fe")
_MOVES_AT_DBM = {1: -66.0, 2: -74.0, 3: -88.0}
_NOISE_DBM = -95.0
_EVERY_S = 0.25
_SIGNS_ON = 2  # the scanner that does
_SERVER = "192.0.2.18"
_ASKED_S = (0.9, 1.6)  # that the server takes: it asks a directory that is far away
_RADIOTAP, _RETRY, _PROTECTED, _TO_DS, _FROM_DS = 127, 8, 0x40, 1, 2


def scanner(number: int) -> bytes:
    """A scanner's hardware address."""
    return bytes([2, 0x4B, 0, 0, 0, number])


def _heard(signal_dbm: float, rate_500k: int, channel: int) -> bytes:
    """What the radio says before a frame: flags, rate, channel, signal, noise."""
    fields = pack("<BBHHbb", 0, rate_500k, 5000 + 5 * channel, 0x140, round(signal_dbm), round(_NOISE_DBM))
    return pack("<BBHI", 0, 0, 8 + len(fields), 0b1101110) + fields


class _Air:
    """Frames, each with the sequence number of its sender."""

    def __init__(self) -> None:
        self.frames: list[tuple[int, int, bytes]] = []
        self.uplink: list[tuple[int, int, bytes]] = []  # sign-ons, as the access points ask
        self._next: dict[bytes, int] = {}

    def send(self, at_s: float, heard: bytes, head: bytes, sender: bytes, body: bytes, again: bool = False) -> None:
        """head: frame control and the three addresses around it."""
        own = sender + (head[4:10] if head[0] & 0x80 and head[0] & 8 else b"")  # Data count for each receiver.
        number = self._next.get(own, 0) if again else (self._next.get(own, 0) + 1) % 4096
        self._next[own] = number
        frame = heard + head + pack("<H", number << 4) + body
        self.frames.append((START_NS + int(at_s * 1e9), len(frame), frame))

    def management(self, at_s: float, heard: bytes, kind: int, ends: tuple[bytes, bytes, bytes], body: bytes) -> None:
        """One management frame: receiver, sender, access point."""
        self.send(at_s, heard, bytes([kind << 4, 0, 0, 0]) + b"".join(ends), ends[1], body)


def _element(kind: int, data: bytes) -> bytes:
    return bytes([kind, len(data)]) + data


def _signal(place_m: float, at_m: float, rng: np.random.Generator) -> float:
    return -38.0 - 26.0 * math.log10(max(1.0, abs(place_m - at_m))) + float(rng.normal(0, 1.5))


def make_pier_air(path: Path, seed: int = 8) -> Path:
    """Writes the frames."""
    write_pcapng(path, sorted(_pier(seed).frames), link_type=_RADIOTAP)
    return path


def make_pier_uplink(path: Path, seed: int = 8) -> Path:
    """Writes the sign-ons of the same minutes, behind the access points."""
    write_pcapng(path, sorted(_pier(seed).uplink), interface="pier uplink")
    return path


def _pier(seed: int) -> _Air:
    rng, air = np.random.default_rng(seed), _Air()
    for second in range(SECONDS):
        for k, (bssid, channel, _) in enumerate(_POINTS):
            body = bytes(8) + pack("<HH", 100, 0x11) + _element(0, SSID.encode()) + _element(3, bytes([channel]))
            body += _element(11, pack("<HBH", 3 + k, 60 + 25 * k, 0)) + _element(61, bytes([channel, 1]) + bytes(20))
            air.management(second + 0.01 * k, _heard(-55, 12, channel), 8, (b"\xff" * 6, bssid, bssid), body)
    for number in _MOVES_AT_DBM:
        _walk(air, number, rng)
    for attempt in range(3):
        _wrong_key(air, 20.0 + 40 * attempt)
    return air


def _walk(air: _Air, number: int, rng: np.random.Generator) -> None:
    """A scanner from one end of the pier to the other and back."""
    own, at = scanner(number), 0
    _join(air, 0.5 + 0.1 * number, own, at, None)
    moved_s = 0.0
    for step in range(int((SECONDS - 2) / _EVERY_S)):
        now = 1.0 + 0.03 * number + step * _EVERY_S
        if now < moved_s:
            continue
        place = 70.0 - 70.0 * math.cos(2 * math.pi * (now + 9 * number) / SECONDS)
        signal = _signal(place, _POINTS[at][2], rng)
        best = min(range(len(_POINTS)), key=lambda k: abs(place - _POINTS[k][2]))
        if best != at and signal < _MOVES_AT_DBM[number]:
            gap = float(rng.uniform(0.05, 0.12)) * (1 if number == 1 else 4)
            asked_s = float(rng.uniform(*_ASKED_S)) if number == _SIGNS_ON else 0.0
            gap += asked_s
            _join(air, now + gap, own, best, at, asked_s)
            at, moved_s = best, now + gap + 0.02
            continue
        _talk(air, now, own, at, signal, rng)


def _talk(air: _Air, now: float, own: bytes, at: int, signal: float, rng: np.random.Generator) -> None:
    """A question and its answer, sent again by the radio the more often the worse it is heard."""
    bssid, channel, _ = _POINTS[at]
    again = min(0.6, max(0.02, (-62.0 - signal) / 30.0))
    rate = 108 if signal > -65 else 48 if signal > -75 else 12
    for up in (True, False):
        ends = bssid + own + _GATEWAY if up else own + bssid + _GATEWAY
        heard = _heard(signal if up else -55.0, rate, channel)
        for turn in range(4):
            flags = (_TO_DS if up else _FROM_DS) | _PROTECTED | (_RETRY if turn else 0)
            air.send(now + 0.004 * (not up) + 0.0006 * turn, heard, b"\x88" + bytes([flags]) + b"\0\0" + ends,
                     own if up else bssid, b"\0\0" + bytes(90), again=turn > 0)  # fmt: skip
            if rng.random() > again:
                break


def _join(air: _Air, now: float, own: bytes, to: int, came_from: int | None, asked_s: float = 0.0) -> None:
    """Authentication, association or reassociation, what a sign-on server is asked meanwhile, and the keys."""
    keys, now = now, now - asked_s
    bssid, channel, _ = _POINTS[to]
    heard = _heard(-60, 12, channel)
    up, down = (bssid, own, bssid), (own, bssid, bssid)
    air.management(now - 0.020, heard, 11, up, pack("<HHH", 0, 1, 0))
    air.management(now - 0.018, heard, 11, down, pack("<HHH", 0, 2, 0))
    former = b"" if came_from is None else _POINTS[came_from][0]
    air.management(now - 0.012, heard, 0 if came_from is None else 2, up,
                   pack("<HH", 0x11, 10) + former + _element(0, SSID.encode()))  # fmt: skip
    air.management(now - 0.008, heard, 1 if came_from is None else 3, down, pack("<HHH", 0x11, 0, 1))
    for k in range(4):
        _key(air, keys - 0.006 + 0.001 * k, own, to, up=k % 2 == 1)
    if asked_s:
        _key(air, now - 0.007, own, to, up=True)
        _sign_on(air, (now - 0.006, keys - 0.007), own, to)


def _sign_on(air: _Air, span_s: tuple[float, float], own: bytes, at: int) -> None:
    """A question with its challenge at once, and one more with its answer at the end (RADIUS)."""
    point, number, proof = f"198.51.100.{170 + at}", len(air.uplink) & 0xFF, bytes(16)
    user, calling = f"scanner-{own[5]}".encode(), own.hex("-").upper().encode()
    asks = b"".join(bytes([kind, 2 + len(text)]) + text for kind, text in ((1, user), (31, calling)))
    begin, end = span_s
    for k, (at_s, code) in enumerate(((begin, 1), (begin + 0.011, 11), (begin + 0.018, 1), (end, 2))):
        told, one = (asks if code == 1 else b""), (number + k // 2) & 0xFF
        body = pack("!BBH", code, one, 20 + len(told)) + pack("!Q", int(at_s * 1e6)) + proof[:8] + told
        ends = (point, 49_152 + at, _SERVER, 1812) if code == 1 else (_SERVER, 1812, point, 49_152 + at)
        size, frame = udp_frame(*ends, body, len(air.uplink), 64, 0, 65_535)
        air.uplink.append((START_NS + int(at_s * 1e9), size, frame))


def _key(air: _Air, now: float, own: bytes, at: int, *, up: bool) -> None:
    bssid, channel, _ = _POINTS[at]
    ends = bssid + own + bssid if up else own + bssid + bssid
    body = b"\0\0\xaa\xaa\3\0\0\0\x88\x8e\2\3\0\x5f" + bytes(95)
    air.send(now, _heard(-60, 12, channel), b"\x88" + bytes([_TO_DS if up else _FROM_DS]) + b"\0\0" + ends,
             own if up else bssid, body)  # fmt: skip


def _wrong_key(air: _Air, now: float) -> None:
    """A scanner whose key is of last year: let in, asked for the key again and again, sent away."""
    own = scanner(4)
    bssid, channel, _ = _POINTS[1]
    heard = _heard(-64, 12, channel)
    air.management(now, heard, 11, (bssid, own, bssid), pack("<HHH", 0, 1, 0))
    air.management(now + 0.002, heard, 11, (own, bssid, bssid), pack("<HHH", 0, 2, 0))
    air.management(now + 0.006, heard, 0, (bssid, own, bssid), pack("<HH", 0x11, 10) + _element(0, SSID.encode()))
    air.management(now + 0.009, heard, 1, (own, bssid, bssid), pack("<HHH", 0x11, 0, 1))
    for k in range(4):
        _key(air, now + 0.02 + 0.9 * k, own, 1, up=False)
        _key(air, now + 0.03 + 0.9 * k, own, 1, up=True)
    air.management(now + 4.0, heard, 12, (own, bssid, bssid), pack("<H", 15))
