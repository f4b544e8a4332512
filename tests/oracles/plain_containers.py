"""Slow plain twins of the two container readers: the records of a file as (time_ns, captured bytes, bytes on the
wire), up to the break.
"""

from fractions import Fraction
from struct import unpack, unpack_from

_LARGEST = 1 << 24
_LAST_NS = 9_223_372_036 * 10**9 - 1  # nanoseconds since 1970 in 63 bits end here


def plain_pcap(data):
    """Records of a classic capture."""
    if len(data) < 24:
        return None
    order = {
        b"\xa1\xb2\xc3\xd4": ">",
        b"\xa1\xb2\x3c\x4d": ">",
        b"\xd4\xc3\xb2\xa1": "<",
        b"\x4d\x3c\xb2\xa1": "<",
    }.get(data[:4])
    if order is None:
        return None
    unit = 1 if b"\x3c" in data[:4] else 1000
    at, found = 24, []
    while at + 16 <= len(data):
        seconds, part, size, wire = unpack_from(order + "IIII", data, at)
        if size > _LARGEST or at + 16 + size > len(data):
            break
        found.append((seconds * 10**9 + part * unit, data[at + 16 : at + 16 + size], max(size, wire)))
        at += 16 + size
    return found


def plain_pcapng(data):
    """Packets of a capture in blocks."""
    if data[:4] != b"\x0a\x0d\x0d\x0a" or len(data) < 12:
        return None
    at, order, faces, found, latest = 0, ">", [], [], 0
    while at + 12 <= len(data):
        if data[at : at + 4] == b"\x0a\x0d\x0d\x0a":
            order = {b"\x1a\x2b\x3c\x4d": ">", b"\x4d\x3c\x2b\x1a": "<"}.get(data[at + 8 : at + 12])
            if order is None or at + 16 > len(data):
                break
        kind, length = unpack_from(order + "II", data, at)
        if length < 12 or length % 4 or length > 1 << 28 or at + length > len(data):
            break
        block, at = data[at + 8 : at + length - 4], at + length
        if kind == 0x0A0D0D0A:
            faces = []
        elif kind == 1 and len(block) >= 8:
            faces.append(_face(block, order))
        elif kind in (2, 6):
            packet = _packet(block, order, kind, faces)
            if packet is None:
                break
            latest = packet[0] if packet[0] <= _LAST_NS else latest
            found.append((latest, *packet[1:]))
        elif kind == 3:
            if len(block) < 4 or not faces:
                break
            wire = unpack_from(order + "I", block)[0]
            size = min(wire, len(block) - 4, faces[0][2] or wire)
            if size > _LARGEST:
                break
            found.append((latest, block[4 : 4 + size], wire))
    return found


def _face(block, order):
    """(units a second, offset in s, snap length)."""
    units, offset, at = 10**6, 0, 8
    while at + 4 <= len(block):
        code, size = unpack_from(order + "HH", block, at)
        value = block[at + 4 : at + 4 + size]
        if code == 0 or len(value) < size:
            break
        if code == 9 and value:
            units = 2 ** min(value[0] & 127, 62) if value[0] & 128 else 10 ** min(value[0], 18)
        if code == 14 and size == 8 and abs(unpack(order + "q", value)[0]) < 2**33:
            offset = unpack(order + "q", value)[0]
        at += 4 + (size + 3) // 4 * 4
    return units, offset, unpack_from(order + "I", block, 4)[0]


def _packet(block, order, kind, faces):
    if len(block) < 20:
        return None
    link = unpack_from(order + ("I" if kind == 6 else "H"), block)[0]
    high, low, size, wire = unpack_from(order + "IIII", block, 4)
    if size > len(block) - 20 or size > _LARGEST or link >= len(faces):
        return None
    units, offset, _ = faces[link]
    return int(Fraction(high << 32 | low, units) * 10**9 // 1) + offset * 10**9, block[20 : 20 + size], max(size, wire)
