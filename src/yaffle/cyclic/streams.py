"""Streams with a steady period (cyclic exchange of IEC 61158, sensors, multicast feeds), and how steady they are.

A cycle without a packet was missed, one with two was doubled. Jitter is how far a packet lies from the moment that its
cycle's line gives: the line goes through the medians of 64 cycles each, so that drift of clocks is none (cf. RFC 5481,
section 4.2: variation against one reference, here against the sender's clock). Silences of many cycles are told as
interruptions, their cycles not as missed.
"""

from dataclasses import dataclass, field
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s, Structs
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.cyclic import link_scan as ls
from yaffle.cyclic.counter import Carried, Counter, learnt_counter, told_counter, values
from yaffle.cyclic.members import Group, members
from yaffle.cyclic.period import number_by_counter, number_cycles
from yaffle.progress import Progress, go_on, step
from yaffle.quantiles import HIGH_PERCENT, p95

COURSE = 120  # equal stretches
_MINUTE_NS = 60_000_000_000
_LINE = 64  # cycles
_MOST_STREAMS, _EVERY = 4000, 50  # in all; between two looks at whether to go on
_LEAST_NS = 20_000  # a period; below it packets follow each other as fast as they can be sent
_INTERRUPTED, _INTERRUPTED_NS = 50, 1_000_000_000
_WATCHDOG = 3  # cycles without data, after which devices usually give up (IEC 61158-6-10, data hold factor)
_NEAR, _MOST, _RARE = 0.25, 0.5, 100
_FOR_GOOD = 9  # packets
_PPM = 1e6


# A part of a stream's time. jitter_ns: its 95th percentile, -1 without packets.
STRETCH = np.dtype(
    [("start_ns", np.int64), ("packets", np.int64), ("missed", np.int64), ("doubled", np.int64),
     ("jitter_ns", np.float64), ("longest_gap_ns", np.int64)]
)  # fmt: skip


class Stretch(NamedTuple):
    """One row of STRETCH."""

    start_ns: int
    packets: int
    missed: int
    doubled: int
    jitter_ns: float
    longest_gap_ns: int


@dataclass(frozen=True)
class Cyclic:
    """One stream at one point. Times in ns."""

    kind: str
    source: str
    destination: str
    point: int
    vlan: int
    first_ns: int
    last_ns: int
    packets: int
    period_ns: float
    drift_ppm: float  # of the period, from the first to the last quarter
    cycles: int  # between first and last packet, interruptions left out
    missed: int
    doubled: int
    unsent: int  # of those missed: that the sender left out, by its own counter; -1 without a counter
    jitter_ns: tuple[float, float, float]  # median, 95th percentile, greatest
    longest_gap_ns: int
    watchdogs: int  # gaps of three cycles or more
    interruptions: int
    interrupted_ns: int
    counter: str  # what cycles were told by, where it is a counter
    began_anew: int  # times the counter did
    ended: bool  # whether it was silent for long when the capture ended
    course: tuple[Stretch, ...]
    # By the clock, those with packets, rows of STRETCH; none of what a case gives again.
    minutes: Structs = field(default_factory=lambda: np.zeros(0, STRETCH), compare=False, repr=False)

    @property
    def is_steady(self) -> bool:
        """Whether it goes by its period at all: most packets near their moments, most cycles with one."""
        near = self.jitter_ns[0] <= _NEAR * self.period_ns and self.packets >= _MOST * self.cycles
        return near and self.interruptions * _RARE <= self.packets

    @property
    def missed_share(self) -> float:
        """Of the cycles."""
        return self.missed / max(1, self.cycles)


def find_cyclic(
    capture: Capture, payload: Payload, time_ns: Int64s, apart: set[tuple[str, str]], progress: Progress = go_on
) -> list[Cyclic]:
    """All of them but those between some ends (voice and video), in order of when they began; of very many those with
    most packets. time_ns: of each packet. Raises Cancelled.
    """
    step(progress, 0.0, "looking for cyclic streams")
    end_ns = max((source.last_ns for source in capture.sources), default=0)
    groups = [one for one in members(capture, payload, time_ns) if (one.source, one.destination) not in apart]
    groups.sort(key=lambda one: -one.time_ns.size)
    found = []
    for number, group in enumerate(groups[:_MOST_STREAMS]):
        if number % _EVERY == 0:
            step(progress, number / len(groups), "looking for cyclic streams")
        one = _stream(group, payload, end_ns)
        if one.is_steady:
            found.append(one)
    return sorted(found, key=lambda one: (one.first_ns, one.source, one.destination))


def _stream(group: Group, payload: Payload, end_ns: int) -> Cyclic:
    carried = Carried(payload.sources, group.data, group.begin, group.end)
    counter = _counter(group, carried)
    cycles, by_counter = np.zeros((2, group.time_ns.size), np.int64)
    number_cycles(group.time_ns, group.period_ns, cycles)
    anew, left_out = 0, np.zeros(0, np.int64)
    if counter is not None:
        said = values(counter, carried)
        anew = number_by_counter(group.time_ns, group.period_ns, said, counter.step, counter.modulus, by_counter)
        if anew > group.time_ns.size // 50:
            counter, anew = None, 0
        else:
            left_out = _left_out(cycles, by_counter)
            cycles = by_counter + left_out
    return _told(group, cycles, left_out, counter, anew, end_ns)


def _left_out(by_time: Int64s, by_counter: Int64s) -> Int64s:
    """How many cycles the sender had left out before each packet: time went on, its counter did not, for good. What
    comes back was delay: a queue that filled and drained.
    """
    apart = np.pad(by_time - by_counter, _FOR_GOOD // 2, mode="edge")
    more = np.median(np.lib.stride_tricks.sliding_window_view(apart, _FOR_GOOD), axis=1).astype(np.int64)
    return np.maximum(0, np.minimum.accumulate(more[::-1])[::-1])


def _counter(group: Group, carried: Carried) -> Counter | None:
    if group.ethertype == ls.REAL_TIME:
        return told_counter(group.identifier, carried)
    return learnt_counter(carried) if group.ethertype != ls.UNREAD else None


def _told(group: Group, cycles: Int64s, left_out: Int64s, counter: Counter | None, anew: int, end_ns: int) -> Cyclic:
    times = group.time_ns
    in_order = np.argsort(cycles, kind="stable")
    cycles, at = cycles[in_order], times[in_order]
    gaps, rises = np.diff(times), np.diff(cycles)
    long = max(_INTERRUPTED * group.period_ns, _INTERRUPTED_NS)
    broken = rises * group.period_ns > long
    period, off = _line(at, cycles, group.period_ns, broken)
    missed = np.where(broken, 0, np.maximum(0, rises - 1))
    unsent = -1
    if counter is not None:
        unsent = int(np.where(broken, 0, np.diff(left_out[in_order])).sum())
    told = _Steps(times, at, np.where(gaps > long, 0, gaps), missed, rises == 0, off)
    edges = np.linspace(int(times[0]), int(times[-1]) + 1, COURSE + 1).astype(np.int64)
    course = tuple(Stretch(*row) for row in told.between(edges[:-1]).tolist())
    minutes = told.between(np.unique(times // _MINUTE_NS) * _MINUTE_NS)
    counted = int(cycles[-1] - cycles[0] + 1 - (rises[broken] - 1).sum())
    return Cyclic(
        group.kind, group.source, group.destination, group.point, group.vlan, int(times[0]), int(times[-1]),
        int(times.size), period, _drift(at, cycles, period), counted,
        int(missed.sum()), int((rises == 0).sum()), unsent, (float(np.median(off)), p95(off), float(off.max())),
        int(gaps.max(initial=0)), int((gaps[gaps <= long] >= _WATCHDOG * period).sum()), int(broken.sum()),
        int(np.diff(at)[broken].sum()), counter.words if counter is not None else "", anew,
        end_ns - int(times[-1]) > max(20 * period, _INTERRUPTED_NS),
        course, minutes,
    )  # fmt: skip


def _line(at: Int64s, cycles: Int64s, period: float, broken: Bools) -> tuple[float, Float64s]:
    """(the mean period, how far each packet lies from the line); after an interruption the line begins anew."""
    bounds = [0, *(np.flatnonzero(broken) + 1).tolist(), at.size]
    off, slopes = np.zeros(at.size), []
    for begin, end in pairwise(bounds):
        own = cycles[begin:end] - cycles[begin]
        slope, off[begin:end] = _straight(own, (at[begin:end] - int(at[begin])) - own * period)
        slopes.append((end - begin, slope))
    return period + max(slopes)[1], off


def _straight(cycles: Int64s, shift: Int64s) -> tuple[float, Float64s]:
    """(slope of what times are later than whole periods, how far each lies from the line)."""
    edges = np.linspace(0, cycles.size, max(1, cycles.size // _LINE) + 1).astype(np.int64)
    x = np.array([cycles[a:b].mean() for a, b in pairwise(edges.tolist())])
    y = np.array([np.median(shift[a:b]) for a, b in pairwise(edges.tolist())])
    if x.size == 1:
        slope = _slope(cycles.astype(np.float64), shift)
        line = np.median(shift - slope * cycles) + slope * cycles
        return slope, np.abs(shift - line)
    line = np.interp(cycles, x, y)
    for outside, a, b in ((cycles < x[0], 0, 1), (cycles > x[-1], -2, -1)):
        steep = (y[b] - y[a]) / max(1e-9, x[b] - x[a])
        line[outside] = y[a] + steep * (cycles[outside] - x[a])
    return _slope(x, y), np.abs(shift - line)


def _slope(x: Float64s, y: Array) -> float:
    """Of the line through the medians of the first and the last third."""
    third = max(1, x.size // 3)
    run = float(np.median(x[-third:]) - np.median(x[:third]))
    return float(np.median(y[-third:]) - np.median(y[:third])) / run if run else 0.0


def _drift(at: Int64s, cycles: Int64s, period: float) -> float:
    """How much longer a cycle is in the last quarter than in the first, in millionths."""
    quarter = at.size // 4
    if quarter < _LINE:
        return 0.0
    numbers, shift = cycles.astype(np.float64), (at - int(at[0])) - cycles * period
    first, last = (_slope(numbers[part], shift[part]) for part in (slice(0, quarter), slice(at.size - quarter, None)))
    return (last - first) / period * _PPM


@dataclass(frozen=True)
class _Steps:
    """What is told from packet to packet. times: of arrival; at: the same in order of cycles; waits: gaps between
    arrivals, of interruptions none; missed, twice: between each two of `at`; off: how far each of `at` lies off.
    """

    times: Int64s
    at: Int64s
    waits: Int64s
    missed: Int64s
    twice: Bools
    off: Float64s

    def between(self, starts: Int64s) -> Structs:
        """Rows of STRETCH that begin at these moments. What is told of a step counts where it ends."""
        found = np.zeros(starts.size, STRETCH)
        place, came = (
            np.maximum(0, np.searchsorted(starts, moments, "right") - 1) for moments in (self.at, self.times[1:])
        )
        found["start_ns"], found["packets"] = starts, np.bincount(place, minlength=starts.size)
        found["missed"] = np.bincount(place[1:], self.missed, starts.size)
        found["doubled"] = np.bincount(place[1:], self.twice, starts.size)
        np.maximum.at(found["longest_gap_ns"], came, self.waits)
        order = np.lexsort((self.off, place))
        ends = np.cumsum(found["packets"])
        # The nearest rank (`quantiles`) within each.
        rank = np.maximum(0, -(-HIGH_PERCENT * found["packets"] // 100) - 1)
        last = np.minimum(ends - found["packets"] + rank, order.size - 1)
        found["jitter_ns"] = np.where(found["packets"] > 0, self.off[order[last]], -1.0)
        return found
