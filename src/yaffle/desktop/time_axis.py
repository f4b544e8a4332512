"""An axis of times: as much of date and time as the span needs. Plots count in seconds from a base, so floats stay exact."""

import math

import pyqtgraph as pg

from yaffle.units import NS_PER_S, duration, moment

_STEPS = [k * 10.0**e for e in range(-6, 0) for k in (1, 2, 5)] + [1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0, 900.0, 1800.0, 3600.0, 7200.0, 21600.0]


class TimeAxis(pg.AxisItem):
    """Time of day (UTC) along the bottom; `base_ns` is where the plot's zero lies."""

    def __init__(self, *, relative: bool = False) -> None:
        super().__init__("bottom")
        self.base_ns = 0
        self._relative = relative
        self.enableAutoSIPrefix(False)

    def tickSpacing(self, minimum: float, maximum: float, size: float) -> list[tuple[float, float]]:
        if self._relative:
            return super().tickSpacing(minimum, maximum, size)  # type: ignore[no-any-return]
        wanted = (maximum - minimum) / max(2.0, size / 90)
        step = next((s for s in _STEPS if s >= wanted), 86400.0)
        offset = -(self.base_ns % 86_400_000_000_000) / NS_PER_S % step if step >= 1 else -(self.base_ns % NS_PER_S) / NS_PER_S % step
        return [(step, offset)]

    def tickValues(self, minimum: float, maximum: float, size: float) -> list[tuple[float, list[float]]]:
        if self._relative:
            return super().tickValues(minimum, maximum, size)  # type: ignore[no-any-return]
        [(step, offset)] = self.tickSpacing(minimum, maximum, size)
        first = math.ceil((minimum - offset) / step)
        return [(step, [offset + k * step for k in range(first, int((maximum - offset) // step) + 1)])]

    def tickStrings(self, values: list[float], _scale: float, spacing: float) -> list[str]:
        if self._relative:
            return [duration(round(v * NS_PER_S)) for v in values]
        digits = 0 if spacing >= 1 else 3 if spacing >= 0.001 else 6
        texts = [moment(self.base_ns + round(v * NS_PER_S), digits=digits) for v in values]
        return [text[:5] for text in texts] if spacing >= 60 else texts
