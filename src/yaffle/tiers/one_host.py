"""Addresses that are one host: a service that never asks anybody itself, and a host whose calls lie neatly inside its
requests.

A server may listen on one address and call from another one: a second address, a virtual one, a translation that no
point saw. Then calls of the other address begin just after this one's requests came and end just before they were
answered, far more often than they would by chance (the same requests, shifted in time).
"""

import numpy as np

from yaffle.arrays import Array

_NEAR_SHARE, _NEAR_NS = 0.05, 300_000  # of a request's duration, and at least: how near a call's ends are to its own
_OWN_SHARE = 0.01  # More, as a rule, and another server stands between, which was not seen.
_SHIFTS = 8
_NEVER_NS = np.int64(1) << 60
_LEAST_SHARE = 0.6  # of the requests that have such a call
_UNLIKELY = 1e-3  # that as many have one by chance


def _around(begin: Array, end: Array, sent: Array, arrived: Array) -> Array:
    """Of each span how long after its beginning a call begins, and how long before its end one ends: the longer."""
    first, last = np.searchsorted(sent, begin), np.searchsorted(arrived, end, "right") - 1
    after = np.where(first < sent.size, sent[np.minimum(first, sent.size - 1)] - begin, _NEVER_NS)
    before = np.where(last >= 0, end - arrived[np.maximum(last, 0)], _NEVER_NS)
    return np.asarray(np.maximum(after, before))


def _slack_ns(begin: Array, end: Array, sent: Array, arrived: Array) -> float:
    """How near calls come to the spans' ends, the median of those they fit; infinite where few of them do, or where so
    many may by chance.
    """
    near = np.maximum(_NEAR_NS, (_NEAR_SHARE * (end - begin)).astype(np.int64))
    step = 1.37 * float(np.median(end - begin)) + float(near.max())
    slack = _around(begin, end, sent, arrived)
    fits = slack <= near
    if fits.mean() < _LEAST_SHARE:
        return np.inf
    shifted = [
        (_around(begin + int(k * step), end + int(k * step), sent, arrived) <= near).sum()
        for k in range(-_SHIFTS, _SHIFTS + 1)
        if k
    ]
    chance = (sum(shifted) + 0.3) / (2 * _SHIFTS * begin.size + 1)
    told = fits.mean() > 2 * chance and chance ** fits.sum() < _UNLIKELY
    found = float(np.median(slack[fits])) if told else np.inf
    return found if found <= max(_NEAR_NS, _OWN_SHARE * float(np.median(end - begin))) else np.inf


def other_addresses(
    client: Array, server: Array, sent: Array, arrived: Array, handed: Array, told: Array
) -> dict[int, int]:
    """For services' addresses that make no calls, the address by which their host makes them, where one fits.

    Of several it is the nearest: calls further behind lie inside those of the host itself.
    """
    found = {}
    callers = np.unique(client)
    for address in np.setdiff1d(server, callers).tolist():
        own = np.flatnonzero(server == address)
        own = own[np.argsort(handed[own], kind="stable")]  # so that looking them up goes on where it was
        slack = {}
        for caller in np.setdiff1d(callers, client[own]).tolist():
            made = client == caller
            slack[caller] = _slack_ns(handed[own], told[own], np.sort(sent[made]), np.sort(arrived[made]))
        best = min(slack, key=lambda caller: slack[caller], default=-1)
        if best >= 0 and slack[best] < np.inf:
            found[address] = best
    return found
