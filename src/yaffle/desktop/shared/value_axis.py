"""The axis of values: times and rates in the unit that suits what is in view, counts as they are."""

from math import ceil, floor

import pyqtgraph as pg
from PySide6.QtCore import Signal

from yaffle.units import axis_unit, three_digits

WIDTH = 62  # pixels, the same for all plots, so that those above each other share a left edge

_LABEL_PX = 12  # height that a label takes


class ValueAxis(pg.AxisItem):
    """Ticks without a unit: `shown_unit` names it, for the line above the plot."""

    unit_changed = Signal()
    unit, shown_unit, _factor = "", "", 1.0  # pyqtgraph sets a range before its own construction is over.

    def __init__(self, unit: str = "") -> None:
        super().__init__("left")
        self.enableAutoSIPrefix(False)
        self.setWidth(WIDTH)
        self.unit = unit
        self.shown_unit, self._factor = axis_unit(1.0, unit)

    def set_unit(self, unit: str) -> None:
        """What the values are: bit/s, s, B or a name that is counted; empty for a bare number."""
        self.unit = unit
        self._suit()

    def setRange(self, minimum: float, maximum: float) -> None:
        super().setRange(minimum, maximum)
        self._suit()

    def _suit(self) -> None:
        """Chooses the unit by the greatest value in view."""
        if self.logMode:
            shown, factor = self.unit, 1.0
        else:
            shown, factor = axis_unit(max(abs(edge) for edge in self.range), self.unit)
        if (shown, factor) != (self.shown_unit, self._factor):
            self.shown_unit, self._factor = shown, factor
            self.picture = None
            self.unit_changed.emit()

    def tickValues(self, minimum: float, maximum: float, size: float) -> list[tuple[float, list[float]]]:
        """Round numbers of the shown unit, not of the unit that is drawn in."""
        if self.logMode:
            decades = list(range(ceil(minimum), floor(maximum) + 1))
            every = ceil(len(decades) * _LABEL_PX / max(size, 1.0))
            if every > 1:  # Not each has room for its label.
                return [(float(every), [float(decade) for decade in reversed(decades[::-every])])]
            return super().tickValues(minimum, maximum, size)  # type: ignore[no-any-return]
        levels = super().tickValues(minimum / self._factor, maximum / self._factor, size)
        found: list[tuple[float, list[float]]] = []
        for spacing, values in levels:
            room = max(2, int(size // _LABEL_PX) - sum(len(own) for _, own in found))
            every = max(1, -(-len(values) // room))
            if found and every > 1:  # Finer ticks, for which there is no room.
                break
            found.append((spacing * every * self._factor, [value * self._factor for value in values[::every]]))
        return found

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self.logMode:
            return self.logTickStrings(values, scale, spacing)
        step = spacing / self._factor
        digits = 0 if step >= 1 else 1 if step >= 0.1 else 2 if step >= 0.01 else 3
        return [f"{value / self._factor:,.{digits}f}" for value in values]

    def logTickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Each with its own unit, since decades need several."""
        found = []
        for exponent in values:
            shown, factor = axis_unit(10.0**exponent, self.unit)
            found.append(f"{three_digits(10.0**exponent / factor).removesuffix('.00').removesuffix('.0')} {shown}")
        return [text.strip() for text in found]
