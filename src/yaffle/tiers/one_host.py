"""Addresses that are one host: a service that never asks anybody itself, and a host whose calls lie neatly inside its
requests.

A server may listen on one address and call from another one: a second address, a virtual one, a translation that no
point saw. Then calls of the other address begin just after this one's requests came and end just before they were
answered, far more often than they would by chance (the same requests, shifted in time).
"""

import numpy as np

from yaffle.arrays import Array

_NEAR_SHARE, _NEAR_NS = 0.05, 300_000  # of a request's duration, and at least: how near a call's ends are to its own
_SHIFTS = 8
_LEAST_SHARE = 0.6  # of the requests that have such a call
_UNLIKELY = 1e-3  # that as many have one by chance


def _enclosed(begin: Array, end: Array, near: Array, sent: Array, arrived: Array) -> float:
    """The share of spans that have a call beginning near their beginning and one ending near their end."""
    first, last = np.searchsorted(sent, begin), np.searchsorted(arrived, end, "right") - 1
    starts = (first < sent.size) & (sent[np.minimum(first, sent.size - 1)] <= begin + near)
    ends = (last >= 0) & (arrived[np.maximum(last, 0)] >= end - near)
    return float((starts & ends).mean())


def _fit(begin: Array, end: Array, sent: Array, arrived: Array) -> float:
    """How many of the spans have such calls, as a share; 0 where so many may have them by chance."""
    near = np.maximum(_NEAR_NS, (_NEAR_SHARE * (end - begin)).astype(np.int64))
    step = 1.37 * float(np.median(end - begin)) + float(near.max())
    found = _enclosed(begin, end, near, sent, arrived)
    shifted = [
        _enclosed(begin + int(k * step), end + int(k * step), near, sent, arrived)
        for k in range(-_SHIFTS, _SHIFTS + 1)
        if k
    ]
    chance = (sum(shifted) * begin.size + 0.3) / (2 * _SHIFTS * begin.size + 1)
    told = found >= _LEAST_SHARE and found > 2 * chance and chance ** (found * begin.size) < _UNLIKELY
    return found if told else 0.0


def other_addresses(client: Array, server: Array, sent: Array, arrived: Array, handed: Array, told: Array) -> dict[int, int]:
    """For services' addresses that make no calls, the address by which their host makes them, where one fits."""
    found = {}
    callers = np.unique(client)
    for address in np.setdiff1d(server, callers).tolist():
        own = server == address
        fits = {}
        for caller in np.setdiff1d(callers, client[own]).tolist():
            made = client == caller
            fits[caller] = _fit(handed[own], told[own], np.sort(sent[made]), np.sort(arrived[made]))
        best = max(fits, key=lambda caller: fits[caller], default=-1)
        if best >= 0 and fits[best] > 0:
            found[address] = best
    return found
