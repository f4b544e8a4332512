"""What a packet keeps on its way, as one number: through changed TTL, marking, VLAN, tunnel and address translation.

TCP keeps its sequence and acknowledgement numbers, timestamps, flags and length (ports and addresses may be
translated); of all else the first bytes of what it carries have to do. The identification of IPv4 is among it where its
host varies it.
"""

import numpy as np

from yaffle.arrays import Int64s, Uint8s, Uint64s
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import int64, kernel, uint64

_DIGESTED = 48  # Bytes of payload, of packets that are not TCP.
_TCP = 6


@kernel
def _identities(rows: Int64s, packets: Columns, number: int, buf: Uint8s, ids: Uint64s, most: int) -> None:
    """Fills `ids` for the packets of source `number` among the rows."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        head = packets.head[row]
        x = uint64(packets.protocol[row]) * uint64(0x9E3779B97F4A7C15) ^ uint64(head.payload)
        x = (x ^ uint64(head.ip_id)) * uint64(0xBF58476D1CE4E5B9)
        x ^= x >> uint64(29)
        if packets.protocol[row] == 6:
            x = (x ^ (uint64(head.seq) << uint64(32) | uint64(head.ack))) * uint64(0x94D049BB133111EB)
            x ^= x >> uint64(31)
            x = (x ^ (uint64(head.tsval) << uint64(32) | uint64(head.tsecr))) * uint64(0x9E3779B97F4A7C15)
            x ^= x >> uint64(29)
            x = (x ^ (uint64(head.flags & 63) << uint64(16) | uint64(head.window))) * uint64(
                0xBF58476D1CE4E5B9
            )  # ECN may change on the way.
        else:
            first = packets.position[row] + int64(packets.payload_at[row])
            kept = min(
                int64(head.payload),
                int64(packets.captured_bytes[row]) - int64(packets.payload_at[row]),
                most,
            )
            for at in range(first, min(first + kept, buf.size)):
                x = (x ^ uint64(buf[at])) * uint64(1099511628211)
            x ^= uint64(head.seq)
        ids[k] = x ^ (x >> uint64(32))


def identities(capture: Capture, payload: Payload, rows: Int64s) -> Uint64s:
    """One number for each of some packets, uint64 (n,). Packets whose bytes cannot be had are told by their headers."""
    packets = capture.packets
    ids = np.zeros(rows.size, np.uint64)
    none = np.zeros(0, np.uint8)
    sliced = packets.captured_bytes[rows].astype(np.int64) - packets.payload_at[rows]
    other = packets.protocol[rows] != _TCP
    most = int(
        min(_DIGESTED, max(0, sliced[other & (packets.payload_bytes[rows] > sliced)].min(initial=_DIGESTED)))
    )  # As much as every point has kept.
    for number, source in enumerate(payload.sources):
        _identities(rows, packets, number, np.asarray(source) if source is not None else none, ids, most)
    return ids
