"""Addresses that are one host: a service that never asks anybody itself, and a host whose calls lie neatly inside its
requests.

A server may listen on one address and call from another one: a second address, a virtual one, a translation that no
point saw. Then calls of the other address begin just after this one's requests came and end just before they were
answered, far more often than they would by chance (the same requests, shifted in time).
"""

from math import exp, lgamma, log
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Bools, Int64s

_NEAR_SHARE, _NEAR_NS = 0.05, 300_000  # of a request's duration, and at least: how near a call's ends are to its own
_MOST_SHARE = 0.25  # of a request's duration, however short it is: what fits anywhere proves nothing
_OWN_SHARE = 0.01  # More, as a rule, and another server stands between, which was not seen.
_SHIFTS = 8  # to each side at least;
_FEW = 20  # Of fewer requests it counts how near their calls are.
_TRIED = 512  # and so many spans in all, where there are few: few tries cannot tell that two of two are no chance
_NEVER_NS = np.int64(1) << 60
_LEAST_SHARE = 0.6  # of the requests that have such a call
_LOOKED_AT = 32  # requests of an address by which the callers are found that may be its host
_LIKELY_SHARE = 0.4  # of these have a call of theirs
_REQUESTS_AT_ONCE = 2_000
_CROWD = 300  # calls near one end of a request: of so many, one fits by chance
_MANY = 1 << 32
_MOST_SPANS = 300
_UNLIKELY = 1e-3  # that as many have one by chance, of all callers that are tried
_UNLIKELY_ALIKE = 1e-2  # the same, of those that answer on the same port themselves
_PORTS = 1 << 16


class _Spans(NamedTuple):
    """Requests at one address, and the calls of one caller."""

    begin: Int64s  # when each request was there
    end: Int64s  # and was answered
    sent: Int64s  # in order
    arrived: Int64s  # in order


def _near_ns(begin: Int64s, end: Int64s) -> Int64s:
    """How near to its ends a call lies that is a request's own."""
    lasting = end - begin
    near = np.maximum(_NEAR_NS, (_NEAR_SHARE * lasting).astype(np.int64))
    return np.asarray(np.minimum(near, (_MOST_SHARE * lasting).astype(np.int64)))


def _around(begin: Int64s, end: Int64s, sent: Int64s, arrived: Int64s) -> Int64s:
    """Of each span how long after its beginning a call begins, and how long before its end one ends: the longer."""
    first, last = np.searchsorted(sent, begin), np.searchsorted(arrived, end, "right") - 1
    after = np.where(first < sent.size, sent[np.minimum(first, sent.size - 1)] - begin, _NEVER_NS)
    before = np.where(last >= 0, end - arrived[np.maximum(last, 0)], _NEVER_NS)
    return np.asarray(np.maximum(after, before))


def _by_chance(fitting: int, spans: int, shifted: int, tried: int) -> float:
    """How likely as many spans fit by chance, where so many of those that were shifted do: the upper tail of the
    beta-binomial distribution, after a uniform prior.
    """
    if spans > _MOST_SPANS:  # More of them say no more.
        fitting, spans = fitting * _MOST_SPANS // spans, _MOST_SPANS
    a, b = shifted + 1, tried - shifted + 1

    def log_beta(x: float, y: float) -> float:
        return lgamma(x) + lgamma(y) - lgamma(x + y)

    whole = log_beta(a, b) + log(spans + 1)
    return sum(
        exp(log_beta(k + a, spans - k + b) - log_beta(k + 1, spans - k + 1) - whole) for k in range(fitting, spans + 1)
    )


def _fitting_when_shifted(spans: _Spans, near: Int64s, step: float) -> tuple[int, int]:
    """(how many fit, of how many) where spans are shifted by steps to both sides: the fewer they are, the further."""
    begin, end, sent, arrived = spans
    most = max(_SHIFTS, _TRIED // (2 * begin.size))
    steps = np.concatenate([np.arange(-most, 0), np.arange(1, most + 1)])
    at_once = max(1, _TRIED // begin.size)
    shifted = tried = 0
    for some in np.split(steps, range(at_once, steps.size, at_once)):
        by = (some * step).astype(np.int64)[:, None]
        moved = begin + by, end + by
        inside = (moved[0] >= sent[0]) & (moved[1] <= arrived[-1])  # Elsewhere nothing was captured.
        shifted += int(((_around(*moved, sent, arrived) <= near) & inside).sum())
        tried += int(inside.sum())
    return shifted, tried


def _told(spans: _Spans, near: Int64s, step: float, unlikely: float) -> bool:
    """Whether more calls come so near to the spans' ends than would by chance, as spans tell that are shifted by steps.

    near: of each span; unlikely: what by chance is too unlikely.
    """
    fits = _around(*spans) <= near
    shifted, tried = _fitting_when_shifted(spans, near, step)
    share = float(fits.mean())
    if share < _LEAST_SHARE or share <= 2 * (shifted + 0.3) / (tried + 1):
        return False
    return _by_chance(int(fits.sum()), fits.size, shifted, tried) < unlikely


def _slack_ns(spans: _Spans, unlikely: float) -> float:
    """How near calls come to the spans' ends, the median of those they fit; infinite where few of them do, or where so
    many may by chance. unlikely: what by chance is too unlikely.
    """
    near, lasting = _near_ns(spans.begin, spans.end), float(np.median(spans.end - spans.begin))
    slack = _around(*spans)
    fits = slack <= near
    if fits.mean() < _LEAST_SHARE:
        return np.inf
    found = float(np.median(slack[fits]))
    if found > max(_NEAR_NS, _OWN_SHARE * lasting):
        return np.inf
    told = _told(spans, near, 1.37 * lasting + float(near.max()), unlikely)
    if not told and slack.size < _FEW:  # As near as these do others come by chance far more rarely.
        nearer = np.minimum(near, max(_NEAR_NS, int(2 * found)))
        told = _told(spans, nearer, 2.74 * float(nearer.max()), unlikely)
    return found if told else np.inf


def _within(moments: Int64s, begin: Int64s, end: Int64s) -> tuple[Int64s, Int64s]:
    """Which of some moments, in order, lie in each of some stretches: (stretch, place of the moment)."""
    first = np.searchsorted(moments, begin)
    count = np.searchsorted(moments, end, "right") - first
    stretch = np.repeat(np.arange(begin.size), count)
    return stretch, np.arange(stretch.size) - np.repeat(np.cumsum(count) - count - first, count)


def _inside(moments: Int64s, begin: Int64s, end: Int64s) -> Int64s:
    """Places of the moments that lie in any of some stretches, in order of time."""
    order = np.argsort(begin)
    ends = np.maximum.accumulate(end[order])
    place = np.searchsorted(begin[order], moments, "right") - 1
    inside = np.flatnonzero((place >= 0) & (moments <= ends[place]))
    return inside[np.argsort(moments[inside], kind="stable")]


def _fitting(
    request: Int64s, begin: Int64s, end: Int64s, sent: tuple[Array, Array], arrived: tuple[Array, Array]
) -> Int64s:
    """Requests with the callers that have a call near both ends of theirs, as request * _MANY + caller.

    sent, arrived: moments in order, and whose they are.
    """
    near = _near_ns(begin, end)
    found: list[Array] = []
    for (moments, whose), low, high in ((sent, begin, begin + near), (arrived, end - near, end)):
        crowded = np.searchsorted(moments, high, "right") - np.searchsorted(moments, low) > _CROWD
        stretch, place = _within(moments, low, np.where(crowded, low - 1, high))
        found.append(np.unique(request[stretch] * _MANY + whose[place]))
    return np.asarray(np.intersect1d(found[0], found[1], assume_unique=True))


def _likely(
    address: Int64s, begin: Int64s, end: Int64s, client: Int64s, sent: Int64s, arrived: Int64s
) -> dict[int, set[int]]:
    """For each address the callers that some of its requests have a call of, near both ends: others need not be asked.

    Calls of `client`. Looked at are a few requests of each address, so that no address costs more than another.
    """
    order = np.lexsort((begin, address))
    rank = np.arange(order.size) - np.searchsorted(address[order], address[order])
    count = np.bincount(address)[address[order]]
    some = order[(rank * _LOOKED_AT // count) != ((rank - 1) * _LOOKED_AT // count)]
    near = _near_ns(begin[some], end[some])
    by_sent = _inside(sent, begin[some], begin[some] + near)
    by_arrival = _inside(arrived, end[some] - near, end[some])
    fitting = [
        _fitting(
            part, begin[part], end[part], (sent[by_sent], client[by_sent]), (arrived[by_arrival], client[by_arrival])
        )
        for part in np.split(some, range(_REQUESTS_AT_ONCE, some.size, _REQUESTS_AT_ONCE))
    ]
    both = np.concatenate(fitting)
    pair, fits = np.unique(address[both // _MANY] * _MANY + both % _MANY, return_counts=True)
    asked = np.bincount(address[some])[pair // _MANY]
    likely: dict[int, set[int]] = {}
    for one in pair[fits >= _LIKELY_SHARE * asked].tolist():
        likely.setdefault(one // _MANY, set()).add(one % _MANY)
    return likely


def may_have_others(client: Int64s, server: Int64s, often: Int64s | None = None) -> Bools:
    """Whether each host answers, never asks, and there is one that asks often enough to be the same: no host asks for
    fewer than it is asked by far. often: how often each client asked its server; once without.
    """
    count = max(client.max(initial=-1), server.max(initial=-1)) + 1
    answers, asks = np.bincount(server, often, count), np.bincount(client, often, count)
    return np.asarray((answers > 0) & (asks == 0) & (answers * _LEAST_SHARE <= asks.max(initial=0)))


def other_addresses(
    client: Int64s, server: Int64s, port: Int64s, sent: Int64s, arrived: Int64s, handed: Int64s, told: Int64s
) -> dict[int, int]:
    """For services' addresses that make no calls, the address by which their host makes them, where one fits.

    Of several it is the nearest: calls further behind lie inside those of the host itself. port: of the service; a
    caller that answers on the same port itself is likelier the host, so that less must tell it.
    """
    found = {}
    calls = np.bincount(client, minlength=int(server.max(initial=-1)) + 1)
    silent = np.flatnonzero(may_have_others(client, server)[server])
    tried = int((calls > 0).sum())
    likely = _likely(server[silent], handed[silent], told[silent], client, sent, arrived) if silent.size else {}
    answers = np.unique(server * _PORTS + port) if likely else server[:0]
    for address, callers in likely.items():
        own = np.flatnonzero(server == address)
        own = own[np.argsort(handed[own], kind="stable")]  # so that looking them up goes on where it was
        slack, alike = {}, np.unique(answers[np.isin(answers % _PORTS, port[own])] // _PORTS)
        alike = alike[calls[alike] > 0]
        for caller in callers - set(client[own].tolist()):
            if calls[caller] < _LEAST_SHARE * own.size:
                continue
            made = client == caller
            slack[caller] = _slack_ns(
                _Spans(handed[own], told[own], np.sort(sent[made]), np.sort(arrived[made])),
                _UNLIKELY_ALIKE / alike.size if caller in alike else _UNLIKELY / tried,
            )
        best = min(slack, key=lambda caller: slack[caller], default=-1)
        if best >= 0 and slack[best] < np.inf:
            found[address] = best
    return found
