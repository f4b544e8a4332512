"""What a host does for which kind of request: which calls in which order, how long it thinks between them, which of
their values agree. Learnt from the calls as they are thought to belong, and used to weigh where they belong.

The model: while a request of kind F is under way its host makes calls; the next one is of kind C after one of kind P
with probability follows[F, P, C], a time after what it waited for last that is distributed as gap[F, P, C] (nesting and
its delays as in Aguilera et al., "Performance debugging for distributed systems of black boxes", 2003; here with a
distribution for each step and all requests at once). What belongs to no request comes at a steady rate by kind.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Float64s, Float64s2, Float64s3, Float64s4, Int64s2
from yaffle.kernels import int64, pasted
from yaffle.tiers.host_calls import TOKEN_BIT, HostCalls

BINS = 56  # of gaps: below 1 µs, then two to each doubling
_FINEST_NS = 1000.0
BITS = TOKEN_BIT + 1
_FRACTION = (1 << 52) - 1  # of the bits of a float
_HALFWAY = int(np.sqrt(2.0).view(np.int64)) & _FRACTION
_SMOOTH = np.array([1.0, 2.0, 3.0, 2.0, 1.0]) / 9.0
_FEW = 4.0  # observations' worth of belief in what is coarser


class Counts(NamedTuple):
    """What was observed, float64. P counts from 1 (0: the request itself), the last C is the answer."""

    follows: Float64s3  # (F, P, C)
    gap: Float64s4  # (F, P, C, BINS)
    late: Float64s2  # (C, 2): ends before the answer begins, or not
    unowned: Float64s  # (C)
    alike: Float64s4  # (F, C, BITS, 2): of calls and their requests, without and with what each bit says
    base: Float64s4  # the same of calls and all requests that were under way
    same: Float64s2  # (C, 2): the call before it of the same service was on another connection, or on the same
    freed: Float64s2  # (C, BINS): of calls that waited for a connection: the gap since it was free
    waited: Float64s2  # (C, 2): whose connection another request used meanwhile: did not wait for it, or did
    overtook: Float64s2  # (C, 2): of two that waited for one at once: served in order, or not
    pair: Float64s  # of each pair of first values: calls whose request had the one and they the other


class Habits(NamedTuple):
    """The same as logarithms of probabilities (gaps: of densities per ns; likeness: of ratios)."""

    follows: Float64s3
    gap: Float64s4
    late: Float64s2
    unowned: Float64s
    place: Int64s2  # (F, C): the bit of values that tells most
    value: Float64s3  # (F, C, 2)
    token: Float64s3  # (F, C, 2)
    same: Float64s2  # (C, 2)
    freed: Float64s2  # (C, BINS)
    waited: Float64s2  # (C, 2)
    overtook: Float64s2  # (C, 2)
    pair: Float64s  # a pair


def no_counts(fronts: int, calls: int, pairs: int) -> Counts:
    """Nothing was observed of so many kinds."""
    return Counts(
        np.zeros((fronts, calls + 1, calls + 1)),
        np.zeros((fronts, calls + 1, calls + 1, BINS)),
        np.zeros((calls, 2)),
        np.zeros(calls),
        np.zeros((fronts, calls, BITS, 2)),
        np.zeros((fronts, calls, BITS, 2)),
        np.zeros((calls, 2)),
        np.zeros((calls, BINS)),
        np.zeros((calls, 2)),
        np.zeros((calls, 2)),
        np.zeros(pairs),
    )


@pasted
def gap_bin(gap_ns: int) -> int:
    """The bin of a gap."""
    if gap_ns <= _FINEST_NS:
        return 0
    bits = int64(np.float64(gap_ns / _FINEST_NS).view(np.int64))  # IEEE 754: the exponent says how often it doubles.
    doubled = (bits >> 52) - 1023
    return min(BINS - 1, 1 + 2 * doubled + (1 if bits & _FRACTION >= _HALFWAY else 0))


def _widths_ns() -> Array:
    edges = _FINEST_NS * 2.0 ** (np.arange(BINS) / 2.0)
    return np.asarray(np.diff(edges, prepend=0.0))


_WIDTHS_NS = _widths_ns()


def _mixed(counts: Array, coarser: Array, axes: int) -> Array:
    """Shares of counts along the last `axes` axes, leaning on coarser ones where little was observed."""
    along = tuple(range(-axes, 0))
    return np.asarray((counts + _FEW * coarser) / (counts.sum(axis=along, keepdims=True) + _FEW))


def _gaps(counts: Float64s4) -> Float64s4:
    """Densities of gaps, log per ns: by request, last call and next call; what is rare leans on what is less fine, at
    last on a spread that is even over the logarithm of time.
    """
    smooth = _smoothed(counts)
    even = np.full(BINS, 1.0 / BINS)
    by_all = _mixed(smooth.sum(axis=(0, 1, 2)), even, 1)
    by_next = _mixed(smooth.sum(axis=(0, 1)), by_all, 1)
    by_step = _mixed(smooth.sum(axis=0), by_next[np.newaxis], 1)
    return np.asarray(np.log(_mixed(smooth, by_step[np.newaxis], 1)) - np.log(_WIDTHS_NS))


def _smoothed(counts: Array) -> Array:
    return np.apply_along_axis(lambda row: np.convolve(row, _SMOOTH, "same"), -1, counts) if counts.sum() else counts


def _pair_ratios(counts: Counts, host: HostCalls, value: Float64s3) -> Float64s:
    """How much likelier a call's first value is with its request's than with any, log, a pair; 0 where the agreement
    of values (`value`, the ratios) says it already.
    """
    together, kinds = counts.pair, host.pairs["kinds"]
    telling = (np.abs(value).max(axis=-1) > 1.0).reshape(-1)
    seen = 1 + np.flatnonzero(together[1:])
    asked, made, every = (
        np.bincount(group[seen], together[seen], int(group.max(initial=-1)) + 1)
        for group in (host.pairs["front"], host.pairs["call"], kinds)
    )
    some = np.flatnonzero((asked > 0)[host.pairs["front"]])  # What was never asked says nothing.
    some = some[~telling[kinds[some]]]
    asked, kinds = asked[host.pairs["front"][some]], kinds[some]
    share = (made[host.pairs["call"][some]] + 0.1) / (every[kinds] + 1.0)
    found = np.zeros(together.size)
    found[some] = np.log((together[some] + _FEW * share) / (asked + _FEW) / share)
    return found


def _ratios(counts: Counts, bit: Int64s2) -> Float64s3:
    """(F, C, 2): how much likelier a bit is not set, or set, with the own request than with any, log."""
    own, base = (
        np.take_along_axis(c, bit[:, :, np.newaxis, np.newaxis], 2)[:, :, 0] for c in (counts.alike, counts.base)
    )
    share_base = (base + 0.02) / (base.sum(axis=-1, keepdims=True) + 0.04)
    share_own = (own + 2.0 * share_base + 0.01) / (own.sum(axis=-1, keepdims=True) + 2.02)
    return np.asarray(np.log(share_own / share_base))


def _telling_place(counts: Counts) -> Int64s2:
    """(F, C): the place of values whose agreement tells most of who made a call."""
    own, base = counts.alike[:, :, :TOKEN_BIT, :], counts.base[:, :, :TOKEN_BIT, :]
    p = (own + 0.5) / (own.sum(axis=-1, keepdims=True) + 1.0)
    q = (base + 0.5) / (base.sum(axis=-1, keepdims=True) + 1.0)
    return np.asarray((p * np.log(p / q)).sum(axis=-1).argmax(axis=-1))


def habits(counts: Counts, host: HostCalls, span_ns: float, same_by_chance: Float64s) -> Habits:
    """What the observations say. same_by_chance: (C) how likely two calls of the same service share a connection."""
    steps = counts.follows
    calls = counts.late.shape[0]
    even = np.full(calls + 1, 1.0 / (calls + 1))
    by_next = _mixed(steps.sum(axis=(0, 1)), even, 1)
    by_step = _mixed(steps.sum(axis=0), by_next, 1)
    late = (counts.late + np.array([1.0, 0.05])) / (counts.late.sum(axis=1, keepdims=True) + 1.05)
    chance = np.stack([1.0 - same_by_chance, same_by_chance], axis=1)
    same = (counts.same + 4.0 * chance) / (counts.same.sum(axis=1, keepdims=True) + 4.0)
    place = _telling_place(counts)
    value = _ratios(counts, place)
    waited = (counts.waited + np.array([2.0, 0.5])) / (counts.waited.sum(axis=1, keepdims=True) + 2.5)
    overtook = (counts.overtook + 2.0) / (counts.overtook.sum(axis=1, keepdims=True) + 4.0)
    freed = _mixed(_smoothed(counts.freed), np.full(BINS, 1.0 / BINS), 1)
    return Habits(
        np.log(_mixed(steps, by_step[np.newaxis], 1)),
        _gaps(counts.gap),
        np.log(late),
        np.log((counts.unowned + 0.3) / span_ns),
        place,
        value,
        _ratios(counts, np.full(place.shape, TOKEN_BIT)),
        np.log(same / np.maximum(chance, 1e-9)),
        np.log(freed) - np.log(_WIDTHS_NS),
        np.log(waited),
        np.log(overtook / 0.5),
        _pair_ratios(counts, host, value),
    )
