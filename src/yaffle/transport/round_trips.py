"""Round trips of one connection, to each side of the observation point, as samples over time.

Karn's rule (RFC 6298 section 3): bytes that were sent more than once give no sample.
"""

import numpy as np

from yaffle.arrays import Array

# One row a sample. side: 0 to the client and back, 1 to the server and back. way: one of those below.
SAMPLE = np.dtype([("t", np.int64), ("rtt", np.int64), ("side", np.int64), ("way", np.int64)])

# How a sample was taken. HELD: acknowledged by a host that held the acknowledgement back: no measure of the way.
OPENING, ACKNOWLEDGED, SACKED, HELD = 0, 1, 2, 3


def empty_samples(capacity: int) -> Array:
    """Room for the samples of a connection."""
    return np.empty(capacity, SAMPLE)
