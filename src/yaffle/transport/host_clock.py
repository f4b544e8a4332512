"""Each host's own clock, read from its timestamps: tells a longer way from a slow host.

The timestamp is set when the packet leaves the host (RFC 7323 section 4.1), so that time of capture less timestamp is
the one-way delay from host to point plus a constant. Its rise above the least is a change on the way, not in the host.

A host that spreads its data over time (the Linux kernel does so with BBR, or with a fair queue) stamps what it sends
with the time up to which it has spread; an acknowledgement without data leaves at once, but with that time: ahead.
"""

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.packets import FIN, SYN
from yaffle.kernels import int64, kernel, leaf
from yaffle.transport.segments import Segments

_NEAR_NS = 1_000_000_000  # How far around a packet its neighbors tell what lasts;
_NEAR_PACKETS = 2048  # but no further than this, however dense they are.
_MOST_LATE_NS = 1_000_000_000  # More is a clock that was set, not a way.
_SPREAD_NS = 100_000_000  # So long after data of its own a host may stamp an acknowledgement ahead;
_AHEAD_NS = 2_000_000  # by no less than this, else nothing hangs on it.
_RATES = np.array([1000, 100, 250, 500, 10, 1_000_000])  # ticks a second seen in practice (RFC 7323: 1 ms to 1 s each)


@kernel
def tick_ns(span_ns: int, ticks: int) -> int:
    """Nanoseconds a tick of a timestamp clock that made so many in a span; 0 where it cannot be told."""
    if span_ns < 50_000_000 or ticks <= 0:
        return int64(0)
    rate = ticks * 1e9 / span_ns
    best, distance = 0, 1e9
    for k in range(_RATES.size):
        off = abs(np.log(rate / _RATES[k]))
        if off < distance:
            best, distance = k, off
    return int64(0) if distance > 0.25 else 1_000_000_000 // _RATES[best]


@kernel
def _drift(g: Segments, out: Int64s, first: int, last: int) -> float:
    """Slope of the least delays between the first and the last quarter of a side's packets: how its clock drifts."""
    span = g[last].t - g[first].t
    low_a, low_b = int64(1) << 62, int64(1) << 62
    t_a, t_b = g[first].t, g[last].t
    for i in range(g.size):
        if out[i] >= 0:
            if g[i].t - g[first].t < span // 4 and out[i] < low_a:
                low_a, t_a = out[i], g[i].t
            if g[last].t - g[i].t < span // 4 and out[i] < low_b:
                low_b, t_b = out[i], g[i].t
    slope = (low_b - low_a) / (t_b - t_a) if t_b > t_a else 0.0
    return 0.0 if abs(slope) > 3e-4 else slope  # No crystal drifts so far: it was the path.


@leaf
def _without_ahead(g: Segments, out: Int64s2, d: int, least: int, low: int) -> int:
    """The least delay of a side: `low`, that of acknowledgements soon after data of its own, unless these were stamped
    ahead; then they tell nothing (-1). least: of its other packets.
    """
    if low > least - _AHEAD_NS or least == int64(1) << 62:
        return min(low, least)
    found = least
    for i in range(g.size):
        if g[i].d == d and out[d, i] >= 0:
            if out[d, i] <= least - _AHEAD_NS:
                out[d, i] = -1
            else:
                found = min(found, out[d, i])
    return found


@leaf
def _stamped_ends(g: Segments, d: int) -> tuple[int, int]:
    """(first, last) segment of a side that bears a timestamp; -1 without any."""
    first, last = int64(0), int64(g.size - 1)
    while first < g.size and (g[first].d != d or g[first].tsv < 0):
        first += 1
    if first == g.size:
        return int64(-1), int64(-1)
    while g[last].d != d or g[last].tsv < 0:
        last -= 1
    return first, last


@kernel
def extra_delays(g: Segments, out: Int64s2) -> tuple[int, int]:
    """Fills out[side, i] with the one-way delay of that side's packet i above its least, ns; -1 where it is not its
    packet or unknown. Returns the tick of each side's clock, which is how exact that is; 0 unknown.
    """
    n = g.size
    first, last, tick = np.full(2, -1, np.int64), np.full(2, -1, np.int64), np.zeros(2, np.int64)
    for d in range(2):
        first[d], last[d] = _stamped_ends(g, d)
        if first[d] >= 0:
            tick[d] = tick_ns(g[last[d]].t - g[first[d]].t, g[last[d]].tsv - g[first[d]].tsv)
    least, low, data_at = np.full(2, int64(1) << 62), np.full(2, int64(1) << 62), np.full(2, -(int64(1) << 62))
    for i in range(n):
        d = g[i].d
        out[1 - d, i] = -1
        out[d, i] = -1
        bare = g[i].n == 0 and g[i].flags & (SYN | FIN) == 0
        if tick[d] > 0 and g[i].tsv >= 0:
            out[d, i] = g[i].t - g[0].t - g[i].tsv * tick[d] + (int64(1) << 50)
            if bare and g[i].t - data_at[d] < _SPREAD_NS:
                low[d] = min(low[d], out[d, i])
            else:
                least[d] = min(least[d], out[d, i])
        if not bare and g[i].flags & SYN == 0:
            data_at[d] = g[i].t
    for d in range(2):
        least[d] = _without_ahead(g, out, d, least[d], low[d])
        # The two clocks drift: over minutes that shows.
        if tick[d] > 0 and g[last[d]].t - g[first[d]].t > 60_000_000_000:
            slope = _drift(g, out[d], first[d], last[d])
            least[d] = int64(1) << 62
            for i in range(n):
                if out[d, i] >= 0:
                    out[d, i] -= int64(slope * (g[i].t - g[first[d]].t))
                    least[d] = min(least[d], out[d, i])
    for d in range(2):
        for i in range(n):
            if out[d, i] >= 0:
                above = out[d, i] - least[d]
                out[d, i] = above if above >= tick[d] + tick[d] // 2 else 0  # The clock is no finer than that.
    return tick[0], tick[1]


@leaf
def late_ns(extra: Int64s, i: int) -> int:
    """How much longer than the least way segment i of a side took to the point; 0 where that is unknown (i: -1, too).

    extra: of that side, from extra_delays.
    """
    return min(max(int64(0), extra[i]), _MOST_LATE_NS) if i >= 0 else int64(0)


@leaf
def on_the_least_way(g: Segments, extra: Int64s, i: int) -> int:
    """When segment i came to the point had it taken the least way: its sender's time plus what is the same for all."""
    return g[i].t - late_ns(extra, i)


@leaf
def lasting_delay(g: Segments, extra: Int64s, i: int) -> int:
    """What all packets of segment i's side before it, or all after it, took above their least for a second; 0 where
    unknown.

    A change of the path lasts, a queue passes. extra: of that side, from extra_delays.
    """
    if i < 0 or extra[i] <= 0:
        return int64(0)
    before = after = extra[i]
    d = g[i].d
    k = i - 1
    while k >= max(0, i - _NEAR_PACKETS) and g[i].t - g[k].t < _NEAR_NS and before > 0:
        if g[k].d == d and extra[k] >= 0:
            before = min(before, extra[k])
        k -= 1
    k = i + 1
    seen = 0
    while k < min(g.size, i + _NEAR_PACKETS) and g[k].t - g[i].t < _NEAR_NS and after > 0:
        if g[k].d == d and extra[k] >= 0:
            after = min(after, extra[k])
            seen += 1
        k += 1
    return after if after > before and seen >= 2 else before
