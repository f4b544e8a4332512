"""An axis of times: as much of date and time as the span needs.

Plots count in seconds from a base, so floats stay exact.
"""

import math

import pyqtgraph as pg

from yaffle.units import NS_PER_S, date_and_moment, duration, moment

_STEPS = [k * 10.0**e for e in range(-6, 0) for k in (1, 2, 5)] + [
    1.0,
    2.0,
    5.0,
    10.0,
    15.0,
    30.0,
    60.0,
    120.0,
    300.0,
    600.0,
    900.0,
    1800.0,
    3600.0,
    7200.0,
    21600.0,
]
_DAYS = [86_400.0 * k for k in (1, 2, 7, 14, 28, 91, 364)]
_MONDAY_NS = 4 * 86_400 * NS_PER_S  # 1970-01-05


def round_times(first_ns: int, last_ns: int, most: int) -> list[int]:
    """Round times between two, int64 ns, no more than `most`: whole minutes, hours or days of UTC."""
    wanted = (last_ns - first_ns) / NS_PER_S / max(1, most)
    step = next((s for s in [*_STEPS, *_DAYS] if s >= wanted), _DAYS[-1])
    step_ns = round(step * NS_PER_S)
    since = _MONDAY_NS if step >= _DAYS[2] else 0
    first = -(-(first_ns - since) // step_ns) * step_ns + since
    return list(range(first, last_ns + 1, step_ns))[: most + 1]


class TimeAxis(pg.AxisItem):
    """Time of day (UTC) along the bottom; `base_ns` is where the plot's zero lies."""

    def __init__(self, *, relative: bool = False) -> None:
        super().__init__("bottom")
        self.base_ns = 0
        self._relative = relative
        self.enableAutoSIPrefix(False)

    def tickSpacing(self, minimum: float, maximum: float, size: float) -> list[tuple[float, float]]:
        wanted = (maximum - minimum) / max(2.0, size / 90)
        step = next((s for s in [*_STEPS, *_DAYS] if s >= wanted), _DAYS[-1])
        if self._relative:
            return [(step, 0.0)]
        since = self.base_ns - _MONDAY_NS if step >= _DAYS[2] else self.base_ns % 86_400_000_000_000
        offset = -since / NS_PER_S % step if step >= 1 else -(self.base_ns % NS_PER_S) / NS_PER_S % step
        return [(step, offset)]

    def tickValues(self, minimum: float, maximum: float, size: float) -> list[tuple[float, list[float]]]:
        [(step, offset)] = self.tickSpacing(minimum, maximum, size)
        first = math.ceil((minimum - offset) / step)
        return [(step, [offset + k * step for k in range(first, int((maximum - offset) // step) + 1)])]

    def tickStrings(self, values: list[float], _scale: float, spacing: float) -> list[str]:
        if self._relative:
            return [duration(round(v * NS_PER_S)) for v in values]
        if spacing >= _DAYS[0]:
            return [date_and_moment(self.base_ns + round(v * NS_PER_S))[5:10] for v in values]
        digits = 0 if spacing >= 1 else 3 if spacing >= 0.001 else 6
        texts = [moment(self.base_ns + round(v * NS_PER_S), digits=digits) for v in values]
        return [text[:5] for text in texts] if spacing >= 60 else texts
