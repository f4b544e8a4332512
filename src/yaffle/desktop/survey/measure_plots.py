"""Measures over time: one plot a unit, one time axis, one cursor; and how long the line was full."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QVBoxLayout, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.measures import Measure
from yaffle.session.survey import SurveyPicture
from yaffle.units import duration, moment, rate, three_digits

_STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)

_MARKS = (Mark.LINE, Mark.DASHED, Mark.DOTTED, Mark.DASHED)
_ROOM_BELOW_PX = 9  # Under a plot without times of its own, so that its lowest figure is whole.


def value_text(value: float, unit: str) -> str:
    """A value with its unit."""
    if np.isnan(value):
        return "–"
    if unit == "bit/s":
        return rate(value)
    if unit == "s":
        return duration(round(value * 1e9))
    return f"{three_digits(value)} {unit}".rstrip()


def _colors() -> list[str]:
    look = theme.current()
    return [look.moss, look.network, look.server, look.client, look.straw, look.faint]


class MeasurePlots(QWidget):
    """Keeps only what it draws."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._split = Panes("survey measure plots: split", Qt.Orientation.Vertical)
        self.plots: list[Plot] = []
        self.full = Plot("full link, ms of each second")
        self.full.setFixedHeight(66)
        self.full.getPlotItem().getAxis("bottom").setStyle(showValues=False)
        self.full.getPlotItem().getAxis("left").setTicks([[(0, "0"), (1000, "1000")]])
        self.full.setToolTip("For how many milliseconds of each second the link was at or over its rate")
        self.full.setVisible(False)
        self.full.read_with(self._full_words)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self._split, 1)
        column.addWidget(self.full)
        self._picture: SurveyPicture | None = None
        self._units: list[str] = []
        self.logarithmic = False

    def show_picture(self, picture: SurveyPicture | None) -> None:
        """Draws another picture; zoom and places are kept where the period is the same."""
        self._picture = picture
        units = list(dict.fromkeys(measure.unit for measure, _ in picture.lines)) if picture is not None else []
        if units != self._units:
            self._units = units
            self._make_plots()
        if picture is None:
            return
        first = int(picture.edges_ns[0])
        seconds = (picture.edges_ns - first) / 1e9
        for plot in (*self.plots, self.full):
            plot.axis.base_ns = first
            plot.axis.picture = None
        if self.plots:
            self.plots[0].setXRange(float(seconds[0]), float(seconds[-1]), padding=0)
        for unit, plot in zip(units, self.plots, strict=True):
            self._draw(plot, seconds, [(m, v) for m, v in picture.lines if m.unit == unit])
        self._draw_full(picture)

    def _make_plots(self) -> None:
        for plot in self.plots:
            plot.setParent(None)
            plot.deleteLater()
        self.plots = []
        for unit in self._units:
            plot = Plot("", unit)
            plot.read_with(self._words_at)
            if self.plots:
                plot.setXLink(self.plots[0])
            self._split.addWidget(plot)
            self.plots.append(plot)
        for plot in self.plots[:-1]:
            axis = plot.getPlotItem().getAxis("bottom")
            axis.setStyle(showValues=False)
            axis.setHeight(_ROOM_BELOW_PX)
        everything = [*self.plots, self.full]
        for plot in everything:
            plot.share_cursor(everything)
        self._split.setSizes([200, *[110 for _ in self.plots[1:]]])

    def _draw(self, plot: Plot, seconds: Array, lines: list[tuple[Measure, Array]]) -> None:
        plot.getPlotItem().clearPlots()
        single = len(lines) == 1
        plot.set_quantity(
            (lines[0][0].name if single else "") + (", logarithmic" if self.logarithmic else ""), lines[0][0].unit
        )
        keys = []
        plot.getPlotItem().setLogMode(y=self.logarithmic)
        base = np.zeros(seconds.size - 1)
        top = 0.0
        for k, (measure, values) in enumerate(lines):
            color = QColor(_colors()[k % 6] if measure.counted != "TCP issues" else theme.current().red)
            style = _STYLES[k % 4]
            shown = np.nan_to_num(values)
            if measure.mark == "stacked":
                shown = base + shown
                base = shown
            if self.logarithmic:
                shown = np.where(shown > 0, shown, np.nan)
            top = max(top, float(np.nanmax(shown)) if np.isfinite(shown).any() else 0.0)
            if measure.mark == "line":
                middles = (seconds[:-1] + seconds[1:]) / 2
                item = plot.plot(
                    middles,
                    np.where(np.isnan(values), np.nan, shown),
                    pen=pg.mkPen(color, width=1.2, style=style),
                    connect="finite",
                )
                item.setDownsampling(auto=True, method="peak")
                item.setClipToView(True)
            else:
                fill = QColor(color)
                fill.setAlpha(70)
                item = plot.plot(seconds, shown, stepMode="center", pen=pg.mkPen(color, width=1, style=style))
                if not self.logarithmic:
                    item.setFillLevel(0)
                    item.setBrush(pg.mkBrush(fill))
            item.setZValue(-k)
            keys.append(Key(measure.name, color.name(), _MARKS[k % 4] if measure.mark == "line" else Mark.AREA))
        plot.set_keys(*([] if single else keys))
        if not self.logarithmic:
            plot.setYRange(0, (top or 1.0) * 1.06, padding=0)
        else:
            plot.getPlotItem().enableAutoRange(axis="y")

    def _draw_full(self, picture: SurveyPicture) -> None:
        self.full.setVisible(picture.full_ms.size > 0)
        self.full.setXLink(
            self.plots[0] if picture.full_ms.size and self.plots else None
        )  # A hidden plot would pull at the others.
        self.full.getPlotItem().clearPlots()
        if picture.full_ms.size:
            look = theme.current()
            offset = (picture.bursts.first_ns - int(picture.edges_ns[0])) / 1e9
            fill = QColor(look.red)
            fill.setAlpha(120)
            self.full.plot(
                offset + np.arange(picture.full_ms.size + 1),
                picture.full_ms,
                stepMode="center",
                fillLevel=0,
                brush=pg.mkBrush(fill),
                pen=pg.mkPen(look.red),
            )
            self.full.setYRange(0, 1000, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None:
            return ""
        at = int(picture.edges_ns[0] + x * 1e9)
        k = int(np.searchsorted(picture.edges_ns, at, "right")) - 1
        if not 0 <= k < picture.edges_ns.size - 1:
            return ""
        parts = [f"{measure.name} {value_text(float(values[k]), measure.unit)}" for measure, values in picture.lines]
        return f" {moment(int(picture.edges_ns[k]))}  {',  '.join(parts)} "

    def _full_words(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None or not 0 <= int(x) < picture.full_ms.size:
            return ""
        return (
            f" {moment(picture.bursts.first_ns + int(x) * 10**9, digits=0)}  {picture.full_ms[int(x)]:.0f} ms of this"
            " second at link rate "
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (*self.plots, self.full):
            plot.dress()
        self.show_picture(self._picture)
