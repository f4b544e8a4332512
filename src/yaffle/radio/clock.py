"""Frames' times by the clock of the radio that heard them, tied to the clock of the host that noted them.

A host notes a frame when it comes to it: late, by interrupts and buffers, now by 20 us, now by milliseconds. A radio
notes when the first bit of the frame arrived (radiotap, field TSFT, us). What is least of how late the host was is a
line below the differences (Moon, Skelly and Towsley 1999), which gives offset and drift of the radio's clock; every
frame then has the radio's time in the host's terms. Where the radio's clock leaps, another line begins; where there is
none (the least of 32 frames is far above the line), the host's times stand.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Int64s
from yaffle.quantiles import median
from yaffle.transport.envelope import line_below
from yaffle.units import count, duration

_WINDOW, _WILD = 32, 2  # frames, whose least difference is taken but for some that may be wild
_LEAP_NS, _LEAP_PER_NS = 20_000_000, 5e-4  # between windows, and per time that they span: more is a leap
_LEAST = 2 * _WINDOW
_FIT_NS = 5_000_000  # above the line: the least of a window that goes by it
_LATEST_NS = 1_000_000_000  # No host is later; what seems so has a wrong clock.
_FARTHEST_US, _US = 1 << 52, 1000


@dataclass(frozen=True)
class Tied:
    """times_ns: of each frame, the radio's where it could be tied; late_ns: how late the host noted those."""

    times_ns: Int64s
    late_ns: Int64s
    drift_ppm: float  # the most of any stretch, without sign
    untied: int  # frames with a radio's time that could not be tied
    leaps: int

    @property
    def words(self) -> list[str]:
        """What is to be said of it."""
        found = []
        if self.late_ns.size:
            found.append(
                f"{count(self.late_ns.size)} frames have their times by the radio's clock, tied to the host's, which"
                f" noted them {duration(median(self.late_ns))} late in the median, {duration(self.late_ns.max())} at"
                f" most (drift at most {self.drift_ppm:.1f} ppm); packets of connections keep the host's times"
            )
        if self.leaps:
            times = f"{count(self.leaps)} time{'s' if self.leaps > 1 else ''}"
            found.append(f"a radio's clock leapt {times} against the host's; it was tied anew")
        if self.untied:
            found.append(f"{count(self.untied)} frames keep the host's times: the radio's could not be tied to them")
        return found


def tie(clock_us: Int64s, noted_ns: Int64s, radio: Int64s) -> Tied:
    """Of frames in the order in which they were noted: the radio's time (-1 without), the host's, and which radio."""
    times = noted_ns.copy()
    late, drift, untied, leaps = [np.zeros(0, np.int64)], 0.0, 0, 0
    for number in np.unique(radio).tolist():
        own = np.flatnonzero((radio == number) & (clock_us >= 0))
        if not own.size or (clock_us[own] == clock_us[own[0]]).all():  # None, or one that stands.
            continue
        before = False
        for part in _stretches(clock_us[own], noted_ns[own]):
            which, told, slope = _line(clock_us[own[part]], noted_ns[own[part]])
            rows = own[part][which]
            times[rows] = told
            late.append(noted_ns[rows] - told)
            drift = max(drift, abs(slope) * 1e6)
            untied += which.size - rows.size
            leaps += before and rows.size > 0
            before = rows.size > 0
    return Tied(times, np.concatenate(late), drift, untied, leaps)


def _differences(clock_us: Int64s, noted_ns: Int64s) -> Int64s:
    """How far the host is ahead of the radio, in ns from the first frame; a leap of centuries stays in range."""
    ahead: Array = (noted_ns - noted_ns[0]) - (clock_us - clock_us[0]).clip(-_FARTHEST_US, _FARTHEST_US) * _US
    return ahead


def _low(values: Int64s) -> Int64s:
    """The third least of each window, which two wild frames do not touch; what is left over counts for none."""
    whole = max(1, values.size // _WINDOW)
    table = values[: whole * _WINDOW].reshape(whole, -1)
    rank = min(_WILD, table.shape[1] - 1)
    least: Array = np.partition(table, rank, axis=1)[:, rank]
    return least


def _stretches(clock_us: Int64s, noted_ns: Int64s) -> list[slice]:
    """Where one clock runs on against the other."""
    ahead = _differences(clock_us, noted_ns)
    least = _low(ahead)
    starts = np.arange(least.size) * _WINDOW
    span = np.diff(noted_ns[starts])
    cuts = [0]
    for k in np.flatnonzero(np.abs(np.diff(least)) > _LEAP_NS + _LEAP_PER_NS * np.maximum(0, span)).tolist():
        until = min(int(starts[k]) + 2 * _WINDOW, clock_us.size)
        place = int(starts[k]) + 1 + int(np.abs(np.diff(ahead[starts[k] : until])).argmax())
        if place > cuts[-1]:
            cuts.append(place)
    return [slice(a, b) for a, b in zip(cuts, [*cuts[1:], clock_us.size], strict=True)]


def _line(clock_us: Int64s, noted_ns: Int64s) -> tuple[Bools, Int64s, float]:
    """(which frames go by one line, their times in the host's terms, drift)."""
    none = np.zeros(clock_us.size, bool), np.zeros(0, np.int64), 0.0
    if clock_us.size < _LEAST:
        return none
    ahead = _differences(clock_us, noted_ns)
    least = _low(ahead)
    window = np.minimum(np.arange(clock_us.size) // _WINDOW, least.size - 1)
    above_least = ahead - least[window]
    near: Array = (above_least <= _LATEST_NS) & (above_least >= -_LEAP_NS)
    ahead, ran = ahead[near], (clock_us[near] - clock_us[0]) * _US
    middle = float(ran.max() + ran.min()) / 2
    intercept, slope = line_below(ran - middle, (ahead - ahead[0]).astype(np.float64))
    line = np.rint(intercept + slope * (ran - middle)).astype(np.int64) + ahead[0]
    above = np.full(clock_us.size, np.iinfo(np.int64).max)
    above[near] = ahead - line
    if _low(above).max() > _FIT_NS:
        return none
    return near, noted_ns[0] + ran + line, slope
