"""What hosts counted over a period, number by number: what is counted since the start of a host as a rise a second,
what is as it is at a moment as it was.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.history.store import History
from yaffle.records.host_measures import BY_NAME, TOTAL

INTERVALS = 400  # at most, in a period; of each, the last reading counts


@dataclass(frozen=True)
class HostSeries:
    """One number of one host over time. Values of totals stand in the middle between the readings they rose between."""

    device: str
    object: str  # processor or IP version; empty of the host itself
    measure: str
    unit: str  # of its values
    rises: bool  # counted since the host's start: values are rises a second; of seconds, the share of time in %
    times_ns: Array
    values: Array
    resets: int  # steps left out: the host began to count anew

    @property
    def words(self) -> str:
        """What it means."""
        return BY_NAME[self.measure].words if self.measure in BY_NAME else ""

    @property
    def last(self) -> float:
        """As it was last."""
        return float(self.values[-1])

    @property
    def peak(self) -> float:
        """The highest."""
        return float(self.values.max())

    @property
    def mean(self) -> float:
        """Over time."""
        return float(self.values.mean())


def host_readings(history: History | None, first_ns: int, last_ns: int) -> list[HostSeries]:
    """Every number of every host that has a value in the period, by host and name. Raises HistoryError."""
    if history is None:
        return []
    table = history.host_readings(first_ns, last_ns, max(1, (last_ns - first_ns) // INTERVALS))
    if not table.num_rows:
        return []
    keys = [table[name].to_numpy(zero_copy_only=False) for name in ("device", "object", "measure")]
    times, values = table["time_ns"].to_numpy(), table["value"].to_numpy()
    same = np.ones(table.num_rows - 1, bool)
    for key in keys:
        same &= key[1:] == key[:-1]
    found = []
    for own in np.split(np.arange(table.num_rows), np.flatnonzero(~same) + 1):
        device, name, measure = (str(key[own[0]]) for key in keys)
        unit = str(table["unit"][int(own[0])])
        rises = measure in BY_NAME and BY_NAME[measure].kind == TOTAL
        made = _rises(times[own], values[own]) if rises else (times[own], values[own], 0)
        if rises and unit == "s":
            made, unit = (made[0], 100 * made[1], made[2]), "%"
        elif rises:
            unit = f"{unit}/s"
        inside = (made[0] >= first_ns) & (made[0] <= last_ns)
        if inside.any():
            found.append(HostSeries(device, name, measure, unit, rises, made[0][inside], made[1][inside], made[2]))
    return found


def _rises(times_ns: Array, values: Array) -> tuple[Array, Array, int]:
    """Middles between readings, rises a second, and how many steps went back: there a host began to count anew."""
    spans, steps = np.diff(times_ns) / 1e9, np.diff(values)
    good = (steps >= 0) & (spans > 0)
    middles = times_ns[:-1] + np.diff(times_ns) // 2
    return middles[good], steps[good] / spans[good], int((steps < 0).sum())
