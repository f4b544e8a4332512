"""What a packet keeps on its way, as one number: through changed TTL, marking, VLAN, tunnel and address translation.

TCP keeps its sequence and acknowledgement numbers, timestamps, flags and length (ports and addresses may be
translated); of all else the first bytes of what it carries have to do. The identification of IPv4 is among it where its
host varies it.
"""

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.kernels import kernel

_DIGESTED = 48  # Bytes of payload, of packets that are not TCP.
_TCP = 6


@kernel
def _identities(rows, packets, number, buf, ids, most):  # type: ignore[no-untyped-def]
    """Fills `ids` for the packets of source `number` among the rows."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        head = packets.head[row]
        x = np.uint64(packets.protocol[row]) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(packets.payload_bytes[row])
        x = (x ^ np.uint64(head.ip_id)) * np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(29)
        if packets.protocol[row] == 6:
            x = (x ^ (np.uint64(head.seq) << np.uint64(32) | np.uint64(head.ack))) * np.uint64(0x94D049BB133111EB)
            x ^= x >> np.uint64(31)
            x = (x ^ (np.uint64(head.tsval) << np.uint64(32) | np.uint64(head.tsecr))) * np.uint64(0x9E3779B97F4A7C15)
            x ^= x >> np.uint64(29)
            x = (x ^ (np.uint64(packets.flags[row] & 63) << np.uint64(16) | np.uint64(head.window))) * np.uint64(
                0xBF58476D1CE4E5B9
            )  # ECN may change on the way.
        else:
            first = packets.position[row] + np.int64(packets.payload_at[row])
            kept = min(
                np.int64(packets.payload_bytes[row]),
                np.int64(packets.captured_bytes[row]) - np.int64(packets.payload_at[row]),
                most,
            )
            for at in range(first, min(first + kept, buf.size)):
                x = (x ^ np.uint64(buf[at])) * np.uint64(1099511628211)
            x ^= np.uint64(head.seq)
        ids[k] = x ^ (x >> np.uint64(32))


def identities(capture: Capture, payload: Payload, rows: Array) -> Array:
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
