"""Writes captures in the block format: one section, one interface in nanoseconds, names, packets.

Source: draft-ietf-opsawg-pcapng.
"""

import ipaddress
from collections.abc import Iterable
from pathlib import Path
from struct import Struct

_BLOCK = Struct("<II")
_ENHANCED = Struct("<IIIIIII")
_TRAILER = Struct("<I")


def _block(kind: int, body: bytes) -> bytes:
    body += b"\0" * (-len(body) % 4)
    size = len(body) + 12
    return _BLOCK.pack(kind, size) + body + _TRAILER.pack(size)


def _option(code: int, value: bytes) -> bytes:
    return Struct("<HH").pack(code, len(value)) + value + b"\0" * (-len(value) % 4)


def _names(names: dict[str, str]) -> bytes:
    body = b""
    for address, name in names.items():
        packed = ipaddress.ip_address(address).packed
        body += _option(1 if len(packed) == 4 else 2, packed + name.encode() + b"\0")
    return _block(4, body + Struct("<HH").pack(0, 0))


def write_pcapng(
    path: Path,
    packets: Iterable[tuple[int, int, bytes]],
    *,
    interface: str = "",
    link_type: int = 1,
    snap_bytes: int = 0,
    names: dict[str, str] | None = None,
    comment: str = "",
) -> int:
    """Writes (time_ns, bytes on the wire, kept bytes) in the order given; returns how many. The file appears whole."""
    part = path.with_name(path.name + ".part")
    written = 0
    with part.open("wb") as out:
        section = Struct("<IHHq").pack(0x1A2B3C4D, 1, 0, -1)
        if comment:
            section += _option(1, comment.encode()) + _option(0, b"")
        out.write(_block(0x0A0D0D0A, section))
        face = Struct("<HHI").pack(link_type, 0, snap_bytes)
        if interface:
            face += _option(2, interface.encode())
        out.write(_block(1, face + _option(9, b"\x09") + _option(0, b"")))
        if names:
            out.write(_names(names))
        for time_ns, wire, kept in packets:
            pad = -len(kept) % 4
            size = 32 + len(kept) + pad
            out.write(_ENHANCED.pack(6, size, 0, time_ns >> 32, time_ns & 0xFFFFFFFF, len(kept), wire) + kept + b"\0" * pad + _TRAILER.pack(size))
            written += 1
    part.replace(path)
    return written
