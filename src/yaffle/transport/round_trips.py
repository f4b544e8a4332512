"""Round trips of one connection, to each side of the observation point, as samples over time.

Karn's rule (RFC 6298 section 3): bytes that were sent more than once give no sample.
"""

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Struct, Structs
from yaffle.kernels import int64, kernel, leaf
from yaffle.transport.host_clock import lasting_delay, late_ns
from yaffle.transport.segments import Segments

# One row a sample. t: when the acknowledgement passed; side: 0 to the client and back, 1 to the server and back; way:
# one of
# those below; i: the segment that acknowledged; bare: what that carried;
# out: what the way out took above its least, once the ledger knows it.
# Of an acknowledgement: it carried payload; none; none, and less than two full segments were acknowledged; none, but it
# closed, for which a program may have been waited for.
WITH_DATA, BARE, FEW_BARE, WITH_CLOSE = range(4)
SAMPLE = np.dtype([(name, np.int64) for name in ("t", "rtt", "side", "way", "i", "bare", "out")])
Samples = Structs  # of SAMPLE
Sample = Struct  # one of them

# How a sample was taken; from HELD on no measure of the way. HELD: by a host that held its acknowledgement back;
# ECHOED: of a
# retransmission, whose timestamp the answer echoes: what senders with timestamps measure although Karn's rule forbids
# it.
OPENING, ACKNOWLEDGED, SACKED, HELD, ECHOED = range(5)

NEAR_NS = 1_000_000_000  # How far around a moment its round trip is looked for.
_NEAR_SAMPLES = 64  # But over no more samples than this, before and after it.
_BLUR_NS = 2_000_000  # Ways that differ by less are the same.
HOLD_NS = 40_000_000  # What common stacks hold an acknowledgement back for at least.
HELD_LEAST_NS = (
    20_000_000  # Common stacks hold an acknowledgement back for 40 ms or more (RFC 1122 section 4.2.3.2: at most 500).
)


def empty_samples(capacity: int) -> Samples:
    """Room for the samples of a connection."""
    return np.empty(capacity, SAMPLE)


@leaf
def without_delay(sample: Sample, extra: Int64s) -> int:
    """A round trip less what its way back took above the least, by the clock of the host beyond; as it is where that
    were more than all of it. extra: of that side.
    """
    late = late_ns(extra, sample.i)
    return sample.rtt - late if late < sample.rtt else sample.rtt


@leaf
def most_out(samples: Samples, side: int, t: int, late: int, floor: int, extra: Int64s) -> int:
    """What the way out around time t took above its least at most, while the way back took about `late` more: answers
    took longer.

    The least but one, since one may have been under way when the path changed. extra: of that side. Very large below
    two.
    """
    low, high = 0, samples.size
    while low < high:
        middle = (low + high) >> 1
        if samples[middle].t < t:
            low = middle + 1
        else:
            high = middle
    least = most = int64(1) << 60
    for k in range(max(0, low - _NEAR_SAMPLES), min(samples.size, low + _NEAR_SAMPLES)):
        if (
            samples[k].side == side
            and samples[k].rtt >= 0
            and samples[k].way < HELD
            and abs(samples[k].t - t) <= NEAR_NS
        ):
            back = max(int64(0), extra[samples[k].i])
            if 2 * back >= late:
                out = max(int64(0), samples[k].rtt - floor - back)
                least, most = min(least, out), min(most, max(least, out))
    return most


@kernel
def release_held(g: Segments, samples: Samples, extra: Int64s2) -> None:
    """Takes samples for measures of the way again where the way back, by the clock of the host beyond, explains what
    seemed held.

    What lasts on the way back is taken for both ways, a path that became longer, unless answers came sooner than that.
    extra: int64 (2, n), one-way delay above the least of each segment, -1 unknown (host_clock.extra_delays).
    """
    floors = np.full(2, int64(1) << 60, np.int64)
    for k in range(samples.size):
        if samples[k].way < HELD and samples[k].rtt >= 0:
            floors[samples[k].side] = min(floors[samples[k].side], samples[k].rtt)
    for k in range(samples.size):
        if samples[k].way == HELD:
            side, i = samples[k].side, samples[k].i
            back = max(int64(0), extra[side, i])
            over = samples[k].rtt - floors[side] - back
            if over >= HELD_LEAST_NS and over - lasting_delay(g, extra[side], i) < HELD_LEAST_NS:
                highest = most_out(samples, side, samples[k].t - samples[k].rtt, back, floors[side], extra[side])
                over = over if over > highest + highest // 4 + _BLUR_NS else int64(0)
            if over < HELD_LEAST_NS:
                samples[k].way = ACKNOWLEDGED
