"""Each host's own clock, read from its timestamps: tells a longer way from a slow host.

The timestamp is set when the packet leaves the host (RFC 7323 section 4.1), so that time of capture less timestamp is
the one-way delay from host to point plus a constant. Its rise above the least is a change on the way, not in the host.
"""

import numpy as np

from yaffle.kernels import kernel

_RATES = np.array([1000, 100, 250, 500, 10, 1_000_000])  # ticks a second seen in practice (RFC 7323: 1 ms to 1 s each)


@kernel
def tick_ns(g, side):  # type: ignore[no-untyped-def]
    """Nanoseconds a tick of this side's timestamp clock; 0 where it cannot be told."""
    first, last = -1, -1
    for i in range(g.size):
        if g[i].d == side and g[i].tsv >= 0:
            if first < 0:
                first = i
            last = i
    if first < 0 or g[last].t - g[first].t < 50_000_000:
        return 0
    span = g[last].t - g[first].t
    ticks = g[last].tsv - g[first].tsv
    if ticks <= 0:
        return 0
    rate = ticks * 1e9 / span
    best, distance = 0, 1e9
    for k in range(_RATES.size):
        off = abs(np.log(rate / _RATES[k]))
        if off < distance:
            best, distance = k, off
    if distance > 0.25:
        return 0
    return 1_000_000_000 // _RATES[best]


@kernel
def extra_delay(g, side, out):  # type: ignore[no-untyped-def]
    """Fills out[i] with the one-way delay of this side's packets above their least, ns; -1 elsewhere. Returns the tick."""
    tick = tick_ns(g, side)
    least = np.int64(1) << 62
    n = g.size
    first, last = -1, -1
    for i in range(n):
        out[i] = -1
        if tick > 0 and g[i].d == side and g[i].tsv >= 0:
            out[i] = g[i].t - g[0].t - g[i].tsv * tick + (np.int64(1) << 50)
            least = min(least, out[i])
            if first < 0:
                first = i
            last = i
    if tick == 0:
        return tick
    # The two clocks drift: over minutes, take the slope between the least delays of the first and the last quarter.
    slope = 0.0
    span = g[last].t - g[first].t
    if span > 60_000_000_000:
        low_a, low_b = np.int64(1) << 62, np.int64(1) << 62
        t_a, t_b = g[first].t, g[last].t
        for i in range(n):
            if out[i] >= 0:
                if g[i].t - g[first].t < span // 4 and out[i] < low_a:
                    low_a, t_a = out[i], g[i].t
                if g[last].t - g[i].t < span // 4 and out[i] < low_b:
                    low_b, t_b = out[i], g[i].t
        if t_b > t_a:
            slope = (low_b - low_a) / (t_b - t_a)
            if abs(slope) > 3e-4:  # No crystal drifts so far: it was the path.
                slope = 0.0
    least = np.int64(1) << 62
    for i in range(n):
        if out[i] >= 0:
            out[i] -= np.int64(slope * (g[i].t - g[first].t))
            least = min(least, out[i])
    for i in range(n):
        if out[i] >= 0:
            out[i] -= least
            if out[i] < tick + tick // 2:  # The clock is no finer than that.
                out[i] = 0
    return tick
