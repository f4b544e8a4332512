"""What hosts counted over a period, number by number: what is counted since the start of a host as a rise a second,
what is as it is at a moment as it was.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Float64s, Int64s
from yaffle.records.catalogue import OF_READINGS
from yaffle.records.measure import TOTAL

if TYPE_CHECKING:
    from yaffle.history.store import History

INTERVALS = 400  # at most, in a period


@dataclass(frozen=True)
class HostSeries:
    """One number of one host over time, interval by interval: the mean of what is as it is at a moment.

    Values of totals stand in the middle between the readings they rose between.
    """

    device: str
    object: str  # processor or IP version; empty of the host itself
    measure: str
    unit: str  # of its values
    rises: bool  # counted since the host's start: values are rises a second; of seconds, the share of time in %
    times_ns: Int64s
    values: Float64s
    peak: float  # the highest between two readings, or of them, whatever the intervals
    resets: int  # steps left out: the host began to count anew
    last: float  # as it was last: of rises, that of the last interval

    @property
    def words(self) -> str:
        """What it means."""
        return OF_READINGS[self.measure].words if self.measure in OF_READINGS else ""

    @property
    def mean(self) -> float:
        """Over time."""
        return float(self.values.mean())


def host_readings(history: "History | None", first_ns: int, last_ns: int) -> list[HostSeries]:
    """Every number of every host that has a value in the period, by host and name. Raises HistoryError."""
    if history is None:
        return []
    table = history.host_readings(first_ns, last_ns, max(1, (last_ns - first_ns) // INTERVALS))
    if not table.num_rows:
        return []
    keys = [table[name].to_numpy(zero_copy_only=False) for name in ("device", "object", "measure")]
    same = np.ones(table.num_rows - 1, bool)
    for key in keys:
        same &= key[1:] == key[:-1]
    found = []
    for own in np.split(np.arange(table.num_rows), np.flatnonzero(~same) + 1):
        device, name, measure = (str(key[own[0]]) for key in keys)
        rises = measure in OF_READINGS and OF_READINGS[measure].kind == TOTAL
        one = _series(table.slice(int(own[0]), own.size), rises, first_ns, last_ns)
        if one is not None:
            found.append(HostSeries(device, name, measure, *one))
    return found


def _series(
    told: pa.Table, rises: bool, first_ns: int, last_ns: int
) -> tuple[str, bool, Array, Array, float, int, float] | None:
    """Unit, times, values, peak, resets and the last value of one number; None without a value in the period."""
    unit, scale = str(told["unit"][0]), 1.0
    times, values = told["time_ns"].to_numpy(), told["mean"].to_numpy()
    highest = told["highest"].to_numpy()
    if rises:
        unit, scale = ("%", 100.0) if unit == "s" else (f"{unit}/s", 1.0)
        spans_ns = told["span_ns"].fill_null(0).to_numpy()
        times, values = times - spans_ns // 2, told["rise"].fill_null(0.0).to_numpy() / np.maximum(1, spans_ns) * 1e9
        highest = told["fastest"].fill_null(0.0).to_numpy()
        good = spans_ns > 0
    else:
        good = np.ones(times.size, bool)
    good &= (times >= first_ns) & (times <= last_ns)
    if not good.any():
        return None
    peak = scale * float(highest[good].max())
    last = scale * float((values if rises else told["value"].to_numpy())[good][-1])
    resets = int(np.sum(told["resets"].to_numpy())) if rises else 0
    return unit, rises, times[good], scale * values[good], peak, resets, last
