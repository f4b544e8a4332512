"""The first bytes that datagrams carry: what they may be."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.kernels import kernel

_UDP, _LEAST = 17, 8


@kernel
def _fill(rows, packets, number, buf, out):  # type: ignore[no-untyped-def]
    """Fills the first four bytes, big endian; what is not there is 0."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        at = packets.position[row] + np.int64(packets.payload_at[row])
        kept = min(
            np.int64(packets.payload_bytes[row]),
            np.int64(packets.captured_bytes[row]) - np.int64(packets.payload_at[row]),
        )
        word = np.uint32(0)
        for b in range(4):
            word = word << np.uint32(8)
            if b < kept and at + b < buf.size:
                word |= np.uint32(buf[at + b])
        out[k] = word


@dataclass(frozen=True)
class Beginnings:
    """UDP packets that belong to a conversation and carry _LEAST bytes or more: their rows, and their first four bytes
    as uint32.
    """

    rows: Array
    first: Array


def beginnings(capture: Capture, payload: Payload) -> Beginnings:
    """Looks once at all datagrams, for all that are told by how they begin."""
    packets = capture.packets
    rows = np.flatnonzero((packets.protocol == _UDP) & (packets.payload_bytes >= _LEAST) & (packets.flow >= 0))
    found = np.zeros(rows.size, np.uint32)
    for number, source in enumerate(payload.sources):
        if source is not None:
            _fill(rows, packets, number, source, found)
    return Beginnings(rows, found)
