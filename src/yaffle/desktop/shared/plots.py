"""Plots as this window draws them: quantity, unit and keys above, crosshair read-out, wheel zoom, reset, saved."""

from collections.abc import Callable
from math import log10

import pyqtgraph as pg
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.picture_file import save_picture
from yaffle.desktop.shared.plot_head import Key, PlotHead
from yaffle.desktop.shared.time_axis import TimeAxis
from yaffle.desktop.shared.value_axis import ValueAxis

_ABOVE = 0.12  # of what is shown, that stays free above the greatest value


class Plot(pg.PlotWidget):
    """Times along the bottom, in seconds from `base_ns`."""

    def __init__(self, quantity: str, unit: str = "", *, relative: bool = False, parent: QWidget | None = None) -> None:
        self.axis, self.values = TimeAxis(relative=relative), ValueAxis(unit)
        super().__init__(parent, axisItems={"bottom": self.axis, "left": self.values}, enableMenu=False)
        self._quantity, self._keys = quantity, tuple[Key, ...]()
        self.head = PlotHead(self)
        self.values.unit_changed.connect(self._say)
        self.setMenuEnabled(False)
        self.hideButtons()
        self._line = pg.InfiniteLine(angle=90, movable=False)
        self._words = pg.TextItem(anchor=(0, 0))
        self.addItem(self._line, ignoreBounds=True)
        self.addItem(self._words, ignoreBounds=True)
        self._line.hide()
        self._words.hide()
        self._read: Callable[[float, float], str] | None = None
        self._companions: list[Plot] = []
        self._least = self._top = 0.0
        self.scene().sigMouseMoved.connect(self._moved)
        self.setToolTip("Wheel zooms, drag moves, R resets; Ctrl+S here saves the picture")
        self.dress()
        self._say()

    def set_quantity(self, quantity: str, unit: str = "") -> None:
        """What the values are, and what they are counted in."""
        self._quantity = quantity
        self.values.set_unit(unit)
        self._say()

    def set_keys(self, *keys: Key) -> None:
        """What the marks mean; none where there is but one."""
        self._keys = keys
        self._say()

    def _say(self) -> None:
        unit = self.values.shown_unit
        self.head.say(f"{self._quantity}, {unit}" if self._quantity and unit else self._quantity or unit, self._keys)
        self._make_room()

    def _make_room(self) -> None:
        height = self.head.height_for(self.width())
        self.getPlotItem().layout.setContentsMargins(1, height + 7, 8, 1)
        self.head.setGeometry(0, 0, self.width(), height)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if hasattr(self, "head"):  # pyqtgraph resizes once before it has one.
            self._make_room()

    def dress(self) -> None:
        """Takes the colors of the theme."""
        look = theme.current()
        self.setBackground(look.panel)
        for side in ("left", "bottom"):
            axis = self.getPlotItem().getAxis(side)
            axis.setPen(look.line)
            axis.setTextPen(look.faint)
        self._line.setPen(pg.mkPen(look.moss, width=1))
        self._words.setColor(look.ink)
        self._words.fill = pg.mkBrush(look.panel)
        self.head.update()

    def read_with(self, read: Callable[[float, float], str]) -> None:
        """What the crosshair says at a place (seconds, value)."""
        self._read = read

    def share_cursor(self, others: "list[Plot]") -> None:
        """The line of the crosshair stands in these plots, too."""
        self._companions = [other for other in others if other is not self]

    def fit(self) -> None:
        """Shows everything, once: a plot that fitted itself all the time would be painted twice whenever it moves."""
        box = self.getPlotItem().vb
        box.enableAutoRange()
        box.updateAutoRange()
        box.disableAutoRange()

    def show_span(self, first_ns: int, last_ns: int, top: float) -> None:
        """Shows a period from its beginning on, and values from nil to a little above `top`."""
        self.axis.base_ns = first_ns
        self.axis.picture = None
        self.setXRange(0, max(1e-3, (last_ns - first_ns) / 1e9), padding=0)
        self.setYRange(0, max(top, 1e-6) * 1.1, padding=0)

    def offer_decades(self, least: float, *, at_first: bool = False) -> None:
        """L turns between values as they are and decades from `least` on."""
        self._least = least
        self.setToolTip("Wheel zooms, drag moves, R resets, L turns decades on and off; Ctrl+S here saves the picture")
        if at_first:
            self._turn_decades()

    def show_values(self, top: float) -> None:
        """Values from nil, or from the least of decades, to a little above `top`."""
        self._top = top
        if self.values.logMode:
            low, high = log10(self._least), log10(max(top, 10 * self._least))
            self.setYRange(low, high + _ABOVE * (high - low), padding=0)
        else:
            self.setYRange(0, max(top, 1e-9) * (1 + _ABOVE), padding=0)

    def _turn_decades(self) -> None:
        self.getPlotItem().setLogMode(y=not self.values.logMode)
        self.values.set_unit(self.values.unit)
        self.show_values(self._top)

    def follow_cursor(self, x: float | None) -> None:
        """Shows the line where another plot has it; None hides it."""
        self._line.setVisible(x is not None)
        self._words.hide()
        if x is not None:
            self._line.setPos(x)

    def _moved(self, position: QPointF) -> None:
        inside = self.getPlotItem().sceneBoundingRect().contains(position)
        point = self.getPlotItem().vb.mapSceneToView(position) if inside else None
        if point is None and not self._line.isVisible():
            return
        for other in self._companions:
            other.follow_cursor(point.x() if point is not None else None)
        text = self._read(point.x(), point.y()) if self._read and point is not None else ""
        self._line.setVisible(bool(text))
        self._words.setVisible(bool(text))
        if text and point is not None:
            self._line.setPos(point.x())
            view = self.getPlotItem().vb.viewRange()
            right = point.x() > (view[0][0] + view[0][1]) / 2
            self._words.setAnchor((1, 0) if right else (0, 0))
            self._words.setText(text)
            self._words.setPos(point.x(), view[1][1])

    def keyPressEvent(self, event: object) -> None:
        if event.key() == Qt.Key.Key_R:  # type: ignore[attr-defined]
            self.fit()
        elif event.key() == Qt.Key.Key_L and self._least > 0:  # type: ignore[attr-defined]
            self._turn_decades()
        elif event.key() == Qt.Key.Key_S and event.modifiers() & Qt.KeyboardModifier.ControlModifier:  # type: ignore[attr-defined]
            self.save()
        else:
            super().keyPressEvent(event)

    def save(self) -> None:
        """Asks where, and saves the picture."""
        save_picture(self)
