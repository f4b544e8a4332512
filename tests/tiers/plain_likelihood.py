"""How likely it is that calls belong to requests as they do, by its definition: nothing is written down beforehand.

The inner step of `likelihood` is taken as it is.
"""

from contextlib import contextmanager

import numpy as np

from yaffle.plain_kernels import run_plainly
from yaffle.tiers.likelihood import LOOK_BACK, ending, step


@contextmanager
def as_python():
    """Kernels run as plain Python."""
    run_plainly(True)
    try:
        yield
    finally:
        run_plainly(False)


def _waited_since(host, front, before, moment, answer):
    """The latest end of what a request had asked for before, or when it asked for what goes on, or was there itself."""
    since = min(host.fronts["received_ns"][front], moment)
    for c in before[-LOOK_BACK:]:
        for name in ("end_ns", "told_ns", "sent_ns") if answer else ("end_ns", "sent_ns"):
            if host.calls[name][c] <= moment:
                since = max(since, host.calls[name][c])
                break
    return since


def _sharing(host, before, c):
    """Whether the last call of the same service was on the same connection."""
    for p in before[: -LOOK_BACK - 1 : -1]:
        if host.calls["service"][p] == host.calls["service"][c]:
            return int(host.calls["connection"][p] == host.calls["connection"][c])
    return -1


def scores_of(host, habits, state, front):
    """(calls of a request in order, how likely each comes, its answer last): log."""
    owner = state.calls["owner"]
    mine = [c for c in np.flatnonzero(owner >= 0).tolist() if host.owners["front"][owner[c]] == front]
    found, kf, kp = [], int(host.fronts["kind"][front]), 0
    for number, c in enumerate(mine):
        since = _waited_since(host, front, mine[:number], host.calls["sent_ns"][c], answer=False)
        shared = _sharing(host, mine[:number], c)
        found.append(step(host, habits, state, kf, kp, c, int(owner[c]), since, shared))
        kp = int(host.calls["kind"][c]) + 1
    since = _waited_since(host, front, mine, host.fronts["answered_ns"][front], answer=True)
    return mine, [*found, ending(host, habits, front, kp, since)]
