"""The period of a series of packets, and which cycle each of them belongs to.

A block of intervals is steady where most of them lie near its median or near twice that (one packet is missing). A
series has a period where most blocks are steady and agree on it. Cycles are numbered by a clock that follows the
arrivals slowly (a phase-locked loop of second order), so that a drift of either clock changes nothing; what arrives
after a silence, closer together than the period, is late and not doubled: it fills the cycles that were silent.
"""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.kernels import int64, kernel

BLOCK = 32  # intervals
LEAST = 24  # packets of a series
_NEAR = 0.3  # of the period: how far an interval of a steady block may lie off
_MOST = 0.7  # of a block's intervals that lie near
_AGREE = 0.1  # of the period: how far the medians of blocks may lie apart
_PENDING = 1024  # silent cycles that late packets may still fill
_CALM = 3  # cycles in a row with one packet each, after which silent cycles stay silent
_FOLLOWS, _LEARNS = 1 / 8, 1 / 256  # shares of a deviation by which phase and period follow it


@kernel
def learn_periods(times: Int64s, starts: Int64s, out: Int64s) -> None:
    """The period of each group of times, ns, into `out`; 0 where it has none. starts: where each group begins."""
    for group in range(starts.size - 1):
        begin, end = starts[group], starts[group + 1]
        out[group] = 0
        intervals = end - begin - 1
        if intervals + 1 < LEAST:
            continue
        blocks = max(1, intervals // BLOCK)
        medians = np.zeros(blocks, np.int64)
        steady = 0
        for block in range(blocks):
            low = begin + block * BLOCK
            high = end - 1 if block == blocks - 1 else low + BLOCK
            own = times[low + 1 : high + 1] - times[low:high]
            own.sort()
            middle = own[own.size // 2]
            near = 0
            for value in own:
                off = min(abs(value - middle), abs(value - 2 * middle))
                near += off <= _NEAR * middle
            if middle > 0 and near >= _MOST * own.size:
                medians[steady] = middle
                steady += 1
        if steady == 0 or 4 * steady < blocks:
            continue
        kept = medians[:steady].copy()
        kept.sort()
        period = kept[steady // 2]
        agree = 0
        for value in kept:
            agree += abs(value - period) <= _AGREE * period
        if 2 * agree >= blocks or (agree >= 8 and 4 * agree >= blocks):
            out[group] = period


@kernel
def number_cycles(times: Int64s, period: int, cycles: Int64s) -> None:
    """The cycle of each packet into `cycles`, the first one 0, never falling: packets keep their order."""
    waiting = np.empty(_PENDING, np.int64)
    first, count, calm, last = 0, 0, 0, int64(0)
    clock, width = np.float64(0), np.float64(period)
    cycles[0] = 0
    for i in range(1, times.size):
        now = np.float64(times[i] - times[0])
        steps = int64(np.floor((now - clock) / width + 0.5))
        if steps <= 0:
            calm = 0
            if count > 0:
                cycles[i] = waiting[first]
                first = (first + 1) % _PENDING
                count -= 1
            else:
                cycles[i] = last
            continue
        for missed in range(last + max(int64(1), steps - _PENDING), last + steps):
            if count == _PENDING:
                first = (first + 1) % _PENDING
                count -= 1
            waiting[(first + count) % _PENDING] = missed
            count += 1
        calm = 0 if steps > 1 else calm + 1
        if calm >= _CALM:
            count = 0
        last += steps
        cycles[i] = last
        clock += steps * width
        off = now - clock
        limit = width / 4
        off = min(max(off, -limit), limit)
        clock += _FOLLOWS * off
        width += _LEARNS * off / steps
    cycles.sort()


@kernel
def number_by_counter(times: Int64s, period: int, counter: Int64s, step: int, modulus: int, cycles: Int64s) -> int:
    """The cycle of each packet by a counter of its own that rises by `step` a cycle, modulo `modulus`; of the numbers
    that a counter may mean the one nearest to the time since the packet before, by an eighth and eight cycles, or the
    least one where the sender left cycles out. -1: the packet has no counter. A counter that says something else began
    anew. Returns how often.
    """
    common, rest = step, modulus
    while rest:
        common, rest = rest, common % rest
    wrap, unit = modulus // common, step // common
    inverse = int64(1)  # of `unit`, modulo `wrap`
    for candidate in range(wrap):
        if candidate * unit % wrap == 1 % wrap:
            inverse = int64(candidate)
            break
    anew, before = 0, 0
    cycles[0] = 0
    for i in range(1, times.size):
        passed = (times[i] - times[before]) / period
        by_time = int64(np.floor(passed + 0.5))
        rise = (counter[i] - counter[before]) % modulus
        cycles[i] = cycles[before] + by_time
        if counter[i] < 0 or counter[before] < 0 or rise % common:
            anew += counter[i] >= 0 and counter[before] >= 0
            before = i
            continue
        least = rise // common * inverse % wrap
        steps = least + wrap * int64(np.floor((passed - least) / wrap + 0.5))
        if abs(steps - passed) <= 8 + passed / 8:
            cycles[i] = cycles[before] + steps
        elif least <= passed:
            cycles[i] = cycles[before] + least
        else:
            anew += 1
        before = i
    return anew
