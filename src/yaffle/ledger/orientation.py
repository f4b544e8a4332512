"""Who is the client of a conversation, and how that is known."""

import numpy as np

from yaffle.arrays import Array, Bools, Int8s, Uint16s, Uint64s
from yaffle.capture.conversations import Rows

HOW = (
    "by its SYN",
    "by the answer to its SYN",
    "by the service port",
    "by the host that many talk to",
    "by who spoke first",
)


def orient(flows: Rows) -> tuple[Bools, Int8s]:
    """For each conversation: whether `b` is the client (bool), and how that was told (index into HOW).

    Without a handshake the end that many others talk to, or the lower service port (RFC 6335: below 1024 assigned,
    49152 and above ephemeral), is the server; failing that, who spoke first is the client.
    """
    count = flows.point.size
    b_client = np.zeros(count, bool)
    how = np.full(count, 4, np.int8)
    a_port, b_port = flows.a_port.astype(np.int64), flows.b_port.astype(np.int64)

    # How many conversations share an end (address and port).
    ends = np.concatenate([_end(flows.a_hi, flows.a_lo, flows.a_port), _end(flows.b_hi, flows.b_lo, flows.b_port)])
    _, inverse, times = np.unique(ends, return_inverse=True, return_counts=True)
    shared_a, shared_b = times[inverse[:count]], times[inverse[count:]]
    popular = (np.maximum(shared_a, shared_b) >= 3) & (
        np.maximum(shared_a, shared_b) >= 2 * np.minimum(shared_a, shared_b)
    )
    b_client[popular] = shared_a[popular] > shared_b[popular]
    how[popular] = 3

    def rank(port: Array) -> Array:
        return np.where(port == 0, 3, np.where(port < 1024, 0, np.where(port < 32768, 1, 2)))

    differ = (rank(a_port) != rank(b_port)) & ~popular
    b_client[differ] = rank(a_port)[differ] < rank(b_port)[differ]
    how[differ] = 2
    tcp = flows.protocol == 6
    state = flows.state.astype(np.int64)
    for bit, value, reason in ((32, True, 1), (64, False, 1), (1, False, 0), (2, True, 0)):
        told = tcp & (state & bit != 0)
        b_client[told] = value
        how[told] = reason
    return b_client, how


def _end(high: Uint64s, low: Uint64s, port: Uint16s) -> Uint64s:
    mixed = (high ^ (low * np.uint64(0x9E3779B97F4A7C15))) * np.uint64(0xBF58476D1CE4E5B9)
    return np.asarray(mixed + port.astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F))
