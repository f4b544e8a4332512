"""Round trips of one connection, to each side of the observation point, as samples over time.

Karn's rule (RFC 6298 section 3): bytes that were sent more than once give no sample.
"""

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import kernel

# One row a sample. t: when the acknowledgement passed; side: 0 to the client and back, 1 to the server and back; way: one of
# those below; i: the segment that acknowledged; bare: 1 where that carried no payload, so that no program was waited for.
SAMPLE = np.dtype([(name, np.int64) for name in ("t", "rtt", "side", "way", "i", "bare")])

# How a sample was taken. HELD: acknowledged by a host that held the acknowledgement back: no measure of the way.
OPENING, ACKNOWLEDGED, SACKED, HELD = 0, 1, 2, 3

HELD_LEAST_NS = 30_000_000  # Common stacks hold an acknowledgement back for 40 ms or more (RFC 1122 section 4.2.3.2: at most 500).


def empty_samples(capacity: int) -> Array:
    """Room for the samples of a connection."""
    return np.empty(capacity, SAMPLE)


@kernel
def release_held(samples, extra):  # type: ignore[no-untyped-def]
    """Takes samples for measures of the way again where the way back, by the clock of the host beyond, explains what seemed held.

    extra: int64 (2, n), one-way delay above the least of each segment, -1 unknown (host_clock.extra_delays).
    """
    floors = np.full(2, np.int64(1) << 60, np.int64)
    for k in range(samples.size):
        if samples[k].way != HELD and samples[k].rtt >= 0:
            floors[samples[k].side] = min(floors[samples[k].side], samples[k].rtt)
    for k in range(samples.size):
        if samples[k].way == HELD:
            side = samples[k].side
            if samples[k].rtt - floors[side] - max(np.int64(0), extra[side, samples[k].i]) < HELD_LEAST_NS:
                samples[k].way = ACKNOWLEDGED
