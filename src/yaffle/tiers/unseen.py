"""Servers whose own requests no point saw: a host that is never asked, but asks whenever another one owes an answer.

Then a leg between the two is missing. It is inferred from times alone: at the moments of the host's calls more requests
are under way at the other one than a little earlier or later, by far more than chance would have it, and hardly a call
comes when none is. What such a host waits for is part of what the other one's requests waited for; what it takes itself
stays with the other one, because nothing tells the two apart.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Float64s, Float64s2, Int64s, Int64s2
from yaffle.kernels import int64, kernel

_LEAST_CALLS = 30
_LEAST_RATE = 0.2  # of a front's requests: so many calls a host that works for it makes
_MOST_FRONTS, _MOST_HOSTS = 32, 16  # that are compared with each other, those with most exchanges
_MOST_CALLS = 1500  # of a host that are looked at
_INSIDE = 0.6  # of the calls at least; some belong to no request
_SHIFTS = (-4, -3, -2, -1, 1, 2, 3, 4)  # times 1.37 durations of a request
_SIGMAS, _SIGMAS_TOGETHER = 3.0, 6.0  # the excess of one server's requests, and of all, in standard errors of chance


@kernel
def _gained(begin: Int64s, end: Int64s, moments: Int64s, steps: Int64s, out: Float64s) -> None:
    """How many more requests are under way at each of some moments than so many `steps` later, on average; all three
    are in order.
    """
    out[:] = 0.0
    for shift in range(-1, steps.size):
        step, weight = (steps[shift], -1.0 / steps.size) if shift >= 0 else (int64(0), 1.0)
        began = ended = 0
        for k in range(moments.size):
            while began < begin.size and begin[began] <= moments[k] + step:
                began += 1
            while ended < end.size and end[ended] < moments[k] + step:
                ended += 1
            out[k] += weight * (began - ended)


@kernel
def _gained_by_each(
    begin: Int64s, end: Int64s, bounds: Int64s, which: Int64s, moments: Int64s, steps: Int64s2, out: Float64s2
) -> None:
    """`_gained` of several servers, those numbered in `which`; bounds: where the requests of each begin."""
    for row in range(which.size):
        low, high = bounds[which[row]], bounds[which[row] + 1]
        _gained(begin[low:high], end[low:high], moments, steps[which[row]], out[row])


class UnseenLeg(NamedTuple):
    """A server behind other ones, the calls between whom were not seen."""

    host: int  # it
    fronts: tuple[int, ...]  # those that it must work for
    calls: int  # of it
    inside: float  # share of them while one of these owed an answer


class UnseenServer(NamedTuple):
    """The same by addresses."""

    address: str
    fronts: tuple[str, ...]
    calls: int
    inside: float

    @property
    def words(self) -> str:
        """What is missing, and what would settle it."""
        fronts = " and ".join(self.fronts[:3]) + (" and others" if len(self.fronts) > 3 else "")
        owe = "owes" if len(self.fronts) == 1 else "owe"
        return (
            f"nobody is seen asking {self.address}, yet {100 * self.inside:.0f} % of its {self.calls:,} requests come"
            f" while {fronts} {owe} an answer: it must work for {'it' if len(self.fronts) == 1 else 'them'}, and the"
            f" calls between are missing from what was captured. What it takes itself counts as time of {fronts}; a"
            f" capture at {self.address} would tell"
        )


class _Spans(NamedTuple):
    """Requests of several servers, one after another: when they came and were answered, each in order."""

    begin: Int64s
    end: Int64s
    bounds: Int64s  # where those of each begin, and where the last ones end
    steps: Int64s2  # (servers, shifts): by which moments are shifted that are compared

    @classmethod
    def of(cls, handed: Int64s, told: Int64s, each: list[Int64s]) -> "_Spans":
        """each: the rows of each server."""
        shifts = np.array(_SHIFTS)
        usual = [1.37 * float(np.median(told[rows] - handed[rows])) for rows in each]
        return cls(
            np.concatenate([np.sort(handed[rows]) for rows in each]),
            np.concatenate([np.sort(told[rows]) for rows in each]),
            np.cumsum([0, *(rows.size for rows in each)]),
            np.array([(shifts * max(1.0, one)).astype(np.int64) for one in usual]),
        )

    def under_way(self, moment: Int64s) -> Int64s:
        """How many of the only server there are at each moment."""
        return np.asarray(np.searchsorted(self.begin, moment, "right") - np.searchsorted(self.end, moment, "left"))

    def excess(self, which: Int64s, moment: Int64s) -> Float64s:
        """How many more of some servers are under way at moments, in order, than a little earlier or later, in standard
        errors.
        """
        gained = np.empty((which.size, moment.size))
        _gained_by_each(self.begin, self.end, self.bounds, which, moment, self.steps, gained)
        return np.asarray(gained.mean(axis=1) / (gained.std(axis=1) / np.sqrt(moment.size) + 1e-9))

    def hold(self, sent: Int64s, arrived: Int64s) -> float:
        """The share of calls at whose beginning and end one of the only server is under way."""
        return float(((self.under_way(sent) > 0) & (self.under_way(arrived) > 0)).mean())


def _busiest(often: Array, most: int) -> list[int]:
    """Of hosts, that did something so often, those that did it most."""
    return [int(host) for host in np.argsort(-often, kind="stable")[:most] if often[host]]


def candidates(client: Int64s, server: Int64s, often: Int64s | None = None) -> dict[int, list[int]]:
    """Hosts that are never asked, but ask often enough to work for others, each with those, by how often all of them
    ask and are asked alone. often: how often each client asked its server; once without.
    """
    count = max(client.max(initial=-1), server.max(initial=-1)) + 1
    answers, asks = np.bincount(server, often, count), np.bincount(client, often, count)
    fronts, found = _busiest(answers, _MOST_FRONTS), {}
    for host in _busiest(np.where(answers, 0, asks), _MOST_HOSTS):
        frequent = [front for front in fronts if asks[host] >= max(_LEAST_CALLS, _LEAST_RATE * answers[front])]
        asked = set(server[client == host].tolist()) if frequent else set()
        if able := [front for front in frequent if front not in asked]:
            found[host] = able
    return found


def unseen_legs(
    client: Int64s, server: Int64s, sent: Int64s, arrived: Int64s, handed: Int64s, told: Int64s
) -> list[UnseenLeg]:
    """Hosts that must work for others that are seen, each with these. Columns of hops, as of `Hops`; handed and told:
    when a request reached its server and when its answer began.
    """
    able_by_host = candidates(client, server)
    if not able_by_host:
        return []
    numbers = np.array(sorted({front for able in able_by_host.values() for front in able}))
    spans = _Spans.of(handed, told, [np.flatnonzero(server == front) for front in numbers])
    found = []
    for host, able in able_by_host.items():
        mine = np.flatnonzero(client == host)
        some = mine[:: max(1, mine.size // _MOST_CALLS)]
        some = some[np.argsort(sent[some], kind="stable")]
        excess = spans.excess(np.searchsorted(numbers, able), sent[some])
        fronts = tuple(front for front, more in zip(able, excess.tolist(), strict=True) if more > _SIGMAS)
        if not fronts:
            continue
        together = _Spans.of(handed, told, [np.flatnonzero(np.isin(server, fronts))])
        inside = together.hold(sent[some], arrived[some])
        if inside >= _INSIDE and together.excess(np.zeros(1, np.int64), sent[some])[0] > _SIGMAS_TOGETHER:
            found.append(UnseenLeg(host, fronts, int(mine.size), inside))
    return found
