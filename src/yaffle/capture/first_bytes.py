"""The first bytes that datagrams carry: what they may be."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s, Uint8s, Uint32s
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import int64, kernel, uint32

_LEAST = 8


@kernel
def _fill(rows: Int64s, packets: Columns, number: int, buf: Uint8s, out: Uint32s) -> None:
    """Fills the first four bytes, big endian; what is not there is 0."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        at = packets.position[row] + int64(packets.payload_at[row])
        kept = min(
            int64(packets.head[row].payload),
            int64(packets.captured_bytes[row]) - int64(packets.payload_at[row]),
        )
        word = uint32(0)
        for b in range(4):
            word = word << uint32(8)
            if b < kept and at + b < buf.size:
                word |= uint32(buf[at + b])
        out[k] = word


@dataclass(frozen=True)
class Beginnings:
    """UDP packets that belong to a conversation and carry _LEAST bytes or more: their rows, and their first four bytes
    as uint32.
    """

    rows: Int64s
    first: Uint32s


def beginnings(capture: Capture, payload: Payload) -> Beginnings:
    """Looks once at all datagrams, for all that are told by how they begin."""
    packets = capture.packets
    rows = packets.datagrams(_LEAST)
    found = np.zeros(rows.size, np.uint32)
    for number, source in enumerate(payload.sources):
        if source is not None:
            _fill(rows, packets, number, source, found)
    return Beginnings(rows, found)
