"""The line below a cloud of points that lies closest to it: what is least of a delay, and how two clocks drift apart.

Moon, Skelly and Towsley, "Estimation and removal of clock skew from network delay measurements", 1999, by linear
programming.
"""

import numpy as np

from yaffle.arrays import Float64s, Int64s

_ENVELOPE = 400  # Points of the envelope that the program is given.
_MOST_DRIFT = 5e-3  # No clock drifts by more than 5000 ppm.


def lower_envelope(t: Float64s, y: Float64s) -> Int64s:
    """Places on the lower convex hull of points sorted by t."""
    hull: list[int] = []
    for k in range(t.size):
        while len(hull) >= 2:
            a, b = hull[-2], hull[-1]
            if (y[b] - y[a]) * (t[k] - t[a]) >= (y[k] - y[a]) * (t[b] - t[a]):
                hull.pop()
            else:
                break
        hull.append(k)
    return np.array(hull, np.int64)


def _thin(t: Float64s, y: Float64s) -> tuple[Float64s, Float64s]:
    """The least of each of many stretches: what a hull needs of millions of points."""
    bins = 4 * _ENVELOPE
    if t.size <= bins:
        order = np.argsort(t, kind="stable")
        return t[order], y[order]
    place = np.minimum(bins - 1, ((t - t.min()) * (bins / max(1.0, float(t.max() - t.min())))).astype(np.int64))
    order = np.lexsort((y, place))
    first = np.concatenate([[True], np.diff(place[order]) != 0])
    kept = order[first]
    return t[kept], y[kept]


def line_below(t: Float64s, y: Float64s) -> tuple[float, float]:
    """Intercept and slope of the line below all points that is closest to them in sum; t around 0."""
    from scipy.optimize import linprog

    t, y = _thin(t, y)
    hull = lower_envelope(t, y)
    scale = max(1.0, float(np.abs(t).max()))
    found = linprog(
        [-float(t.size), -float(t.sum() / scale)], A_ub=np.stack([np.ones(hull.size), t[hull] / scale], axis=1),
        b_ub=y[hull],
        bounds=[(None, None), (-_MOST_DRIFT * scale, _MOST_DRIFT * scale)], method="highs",
    )  # fmt: skip
    if found.x is None:
        return float(y.min()), 0.0
    return float(found.x[0]), float(found.x[1] / scale)
