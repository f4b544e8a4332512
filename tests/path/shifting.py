"""A capture under another clock: every time shifted and stretched."""

from pathlib import Path
from struct import Struct

_NANO = b"\x4d\x3c\xb2\xa1"


def shifted(source: bytes, target: Path, offset_ns: int, drift: float) -> Path:
    """Writes a nanosecond pcap (little endian) again, its times offset_ns later and running faster by drift (1e-6: 1
    ppm).
    """
    assert source[:4] == _NANO
    record = Struct("<IIII")
    out, at, base = bytearray(source[:24]), 24, None
    while at + 16 <= len(source):
        seconds, rest, kept, wire = record.unpack_from(source, at)
        time_ns = seconds * 10**9 + rest
        base = time_ns if base is None else base
        time_ns += offset_ns + round((time_ns - base) * drift)
        out += record.pack(time_ns // 10**9, time_ns % 10**9, kept, wire) + source[at + 16 : at + 16 + kept]
        at += 16 + kept
    target.write_bytes(bytes(out))
    return target
