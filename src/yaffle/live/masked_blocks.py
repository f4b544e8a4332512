"""Blocks of packets with their addresses masked and without payload, before anything is written."""

from struct import Struct

from yaffle.capture.masking import Masker

_HEAD = Struct("<IIIIIII")
_FLAGS = Struct("<IIII")  # option with the direction, its value, end of options, length of the block
_FIXED, _AROUND = 28, 16


def masked(blocks: memoryview, masker: Masker, link_types: list[int]) -> bytes:
    """Blocks as `packet_blocks.convert` makes them, masked; a packet of which no header is known keeps its lengths."""
    found, at = bytearray(), 0
    while at < len(blocks):
        kind, size, number, high, low, kept, wire = _HEAD.unpack_from(blocks, at)
        data = masker.packet(bytes(blocks[at + _FIXED : at + _FIXED + kept]), link_types[number])
        padded = (len(data) + 3) & ~3
        whole = _FIXED + padded + _AROUND
        found += _HEAD.pack(kind, whole, number, high, low, len(data), wire)
        found += data + bytes(padded - len(data))
        option, flags, end, _ = _FLAGS.unpack_from(blocks, at + size - _AROUND)
        found += _FLAGS.pack(option, flags, end, whole)
        at += size
    return bytes(found)
