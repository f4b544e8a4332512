"""Writes captures in the block format: one section, one interface in nanoseconds, names, packets.

Source: draft-ietf-opsawg-pcapng.
"""

import ipaddress
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from struct import Struct

_BLOCK = Struct("<II")
_ENHANCED = Struct("<IIIIIII")
_TRAILER = Struct("<I")


def block(kind: int, body: bytes) -> bytes:
    """A block of a kind around its body."""
    body += b"\0" * (-len(body) % 4)
    size = len(body) + 12
    return _BLOCK.pack(kind, size) + body + _TRAILER.pack(size)


def option(code: int, value: bytes) -> bytes:
    """An option of a block; the last one has code 0."""
    return Struct("<HH").pack(code, len(value)) + value + b"\0" * (-len(value) % 4)


def _names(names: dict[str, str]) -> bytes:
    body = b""
    for address, name in names.items():
        packed = ipaddress.ip_address(address).packed
        body += option(1 if len(packed) == 4 else 2, packed + name.encode() + b"\0")
    return block(4, body + Struct("<HH").pack(0, 0))


@dataclass(frozen=True)
class Kept:
    """A packet to be written: when it passed, its bytes on the wire, those kept, its interface, and words on it."""

    time_ns: int
    wire_bytes: int
    data: bytes
    interface: int = 0
    comment: str = ""


def write_selection(
    path: Path,
    interfaces: list[tuple[str, int, int]],
    packets: Iterable[Kept],
    *,
    names: dict[str, str] | None = None,
    comment: str = "",
) -> int:
    """Writes packets in the order given; returns how many. interfaces: name, link type, snap length.

    The file appears whole.
    """
    part = path.with_name(path.name + ".part")
    written = 0
    with part.open("wb") as out:
        section = Struct("<IHHq").pack(0x1A2B3C4D, 1, 0, -1)
        if comment:
            section += option(1, comment.encode()) + option(0, b"")
        out.write(block(0x0A0D0D0A, section))
        for name, link_type, snap_bytes in interfaces:
            face = Struct("<HHI").pack(link_type, 0, snap_bytes)
            if name:
                face += option(2, name.encode())
            out.write(block(1, face + option(9, b"\x09") + option(0, b"")))
        if names:
            out.write(_names(names))
        for packet in packets:
            pad = b"\0" * (-len(packet.data) % 4)
            options = option(1, packet.comment.encode()) + option(0, b"") if packet.comment else b""
            size = 32 + len(packet.data) + len(pad) + len(options)
            head = _ENHANCED.pack(
                6,
                size,
                packet.interface,
                packet.time_ns >> 32,
                packet.time_ns & 0xFFFFFFFF,
                len(packet.data),
                packet.wire_bytes,
            )
            out.write(head + packet.data + pad + options + _TRAILER.pack(size))
            written += 1
    part.replace(path)
    return written


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
    """Writes (time_ns, bytes on the wire, kept bytes) of one interface in the order given; returns how many."""
    return write_selection(
        path, [(interface, link_type, snap_bytes)], (Kept(*packet) for packet in packets), names=names, comment=comment
    )
