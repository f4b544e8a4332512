"""What is normal: a measure of a group with its baseline, the band of what is usual, and what lay outside it."""

from dataclasses import replace

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.arrays import Array
from yaffle.desktop.compare.calendar_cells import DAY_NS, CalendarCells
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.survey.measure_plots import value_text
from yaffle.normal.baseline import BaselineSettings, means
from yaffle.quantiles import p95
from yaffle.session.baselines import (
    EVERYTHING,
    FLOW_VOLUME,
    WIDTHS,
    NormalPicture,
    NormalSettings,
    Subject,
    dimensions_of,
)
from yaffle.session.kept import Complaint
from yaffle.session.told_watch import watch_of_measure
from yaffle.units import date_and_moment, duration, three_digits

_MANY = 100
_NUMBER = 56  # pixels that a number takes at least
_LISTED = 280  # pixels of an open list, whatever room its box has
_CALENDAR_FROM_NS = 8 * DAY_NS
_MOST_BYTES = "busiest exporter"
_BY_WORDS = {"": EVERYTHING, "interface": "interface"}


def _times(value: float, usual: float) -> str:
    """A value as a multiple of what is usual."""
    return f"{three_digits(value / usual)} ×" if usual > 0 and value / usual < 1e4 else "–"


def known(starts: Array, *columns: Array) -> tuple[Array, ...]:
    """Rows in which no column is nan."""
    keep = ~np.isnan(np.stack(columns)).any(axis=0)
    return (starts[keep], *(column[keep] for column in columns))


class NormalPanel(QWidget):
    """Asks for another picture by `wanted`; `entered` carries the period of an anomaly."""

    wanted = Signal()
    entered = Signal(object)
    watch_wanted = Signal(object)  # a Watch, filled in, or None where none can be

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: NormalPicture | None = None
        self._complaints: tuple[Complaint, ...] = ()
        self.measure, self.by, self.label, self.width_box = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.exporter = QComboBox()
        self.exporter.setToolTip("Exporters along one path each count the same traffic")
        self.exporter.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.exporter.setMinimumContentsLength(14)
        self.exporter.activated.connect(lambda _: self._other_dimension())
        for listed, characters in ((self.measure, 13), (self.by, 8), (self.label, 9)):
            listed.setMinimumContentsLength(characters)
            listed.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            listed.view().setMinimumWidth(_LISTED)
        for name in WIDTHS:
            self.width_box.addItem(name)
        self.width_box.setCurrentText("15 min")
        self.hours = QCheckBox("by hour of the week")
        self.hours.setChecked(True)
        self.hours.setToolTip("Each hour of the week (UTC) learns for itself, once it came often enough")
        self.band, self.limit, self.weight = QDoubleSpinBox(), QDoubleSpinBox(), QDoubleSpinBox()
        defaults = BaselineSettings()
        for box, low, high, digits, value, tip in (
            (self.band, 0.5, 20.0, 1, defaults.band, "Beyond this many deviations a value is an anomaly"),
            (
                self.limit,
                0.5,
                20.0,
                1,
                defaults.limit,
                "A new value counts with at most this deviation",
            ),
            (self.weight, 0.005, 1.0, 3, defaults.weight, "Weight of a new value in the moving average"),
        ):
            box.setMinimumWidth(_NUMBER)
            box.setRange(low, high)
            box.setDecimals(digits)
            box.setSingleStep(0.5 if digits == 1 else 0.01)
            box.setValue(value)
            box.setToolTip(tip)
            box.setKeyboardTracking(False)
            box.valueChanged.connect(lambda _: self.wanted.emit())
        choices = (self.label, self.width_box)
        self.measure.activated.connect(lambda _: self._other_measure())
        self.by.activated.connect(lambda _: self._other_dimension())
        for choice in choices:
            choice.activated.connect(lambda _: self.wanted.emit())
        self.hours.toggled.connect(lambda _: self.wanted.emit())
        row, second = QHBoxLayout(), QHBoxLayout()
        self.tell = QToolButton()
        self.tell.setText("Tell me when…")
        self.tell.setToolTip("A watch of this measure, filled in")
        self.tell.clicked.connect(self._tell_when)
        for part in (self.measure, QLabel("of"), self.by, self.label, QLabel("in"), self.width_box, self.tell):
            row.addWidget(part, 1 if part is self.label else 0)
        row.addStretch(1)
        for widget in (
            self.hours,
            QLabel("band"),
            self.band,
            QLabel("outlier limit"),
            self.limit,
            QLabel("smoothing factor"),
            self.weight,
        ):
            second.addWidget(widget)
        self.as_curve = QToolButton()
        self.as_curve.setText("curve")
        self.as_curve.setCheckable(True)
        self.as_curve.setToolTip("Draw a curve with its baseline instead of a calendar of days (K)")
        self.as_curve.setShortcut("K")
        self.as_curve.toggled.connect(lambda _: self._suit())
        second.addWidget(self.as_curve)
        second.addStretch(1)
        self._whose = QLabel("exporter")
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        third = QHBoxLayout()
        third.addWidget(self.words, 1)
        third.addWidget(self._whose)
        third.addWidget(self.exporter)
        self.plot = Plot("measured")
        self.plot.getPlotItem().vb.setMouseMode(pg.ViewBox.RectMode)
        self.plot.setToolTip("Drag narrows, wheel zooms, R resets; Ctrl+S here saves the picture")
        self.plot.read_with(self._words_at)
        self.table = Listing("Anomalies, largest first")
        self.model = self.table.columns
        self.table.setToolTip("Enter looks at that time")
        self.table.entered.connect(self._enter)
        body = Panes("compare baseline panel: body", Qt.Orientation.Vertical)
        self.calendar = CalendarCells()
        self.calendar.day_chosen.connect(self._show_day)
        self.drawn = QStackedWidget()
        for drawn in (self.calendar, self.plot):
            self.drawn.addWidget(drawn)
        body.arrange([self.drawn, self.table], [320, 190])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addLayout(second)
        column.addLayout(third)
        column.addWidget(body, 1)

    def offer(self, measures: list[str], exporters: list[str]) -> None:
        """Another case: what there is to measure, and who exported flow records."""
        self.exporter.clear()
        self.exporter.addItem(_MOST_BYTES, -1)
        for number, words in enumerate(exporters):
            self.exporter.addItem(words, number)
        former = self.measure.currentText()
        self.measure.clear()
        self.measure.addItems(measures)
        self.measure.setCurrentText(former if former in measures else measures[0])
        self._offer_dimensions()
        self.label.clear()

    def choose(self, measure: str, by: str, label: str, exporter: int = -1) -> None:
        """Looks at a measure of a group."""
        self.exporter.setCurrentIndex(max(0, self.exporter.findData(exporter)))
        self.measure.setCurrentText(measure)
        self._offer_dimensions()
        self.by.setCurrentIndex(max(0, self.by.findData(by)))
        self.label.clear()
        self.label.addItem(label)
        self.wanted.emit()

    def _other_measure(self) -> None:
        self._offer_dimensions()
        self.label.clear()
        self.wanted.emit()

    def _other_dimension(self) -> None:
        self.label.clear()
        self.wanted.emit()

    def _offer_dimensions(self) -> None:
        former = self.by.currentData()
        self.by.clear()
        for name in dimensions_of(self.measure.currentText()):
            self.by.addItem(_BY_WORDS.get(name, name), name)
        self.by.setCurrentIndex(max(0, self.by.findData(former)))
        for part in (self._whose, self.exporter):
            part.setVisible(self.measure.currentText() == FLOW_VOLUME)

    @property
    def settings(self) -> NormalSettings:
        """What the user chose to see."""
        by = self.by.currentData() or ""
        exporter = self.exporter.currentData()
        subject = Subject(
            self.measure.currentText(),
            by,
            self.label.currentText() if by else "",
            -1 if exporter is None else int(exporter),
        )
        learn = BaselineSettings(
            weight=self.weight.value(), profile=self.hours.isChecked(), limit=self.limit.value(), band=self.band.value()
        )
        return NormalSettings(subject, WIDTHS[self.width_box.currentText()], learn)

    def show_picture(self, picture: NormalPicture | None, complaints: tuple[Complaint, ...] = ()) -> None:
        """Shows another picture."""
        self.picture, self._complaints = picture, complaints
        item = self.plot.getPlotItem()
        item.clear()
        if picture is None:
            self.words.setText("Open a capture or a history: the baseline is learnt from the whole period.")
            self.model.show_columns([], 0)
            self.calendar.show_picture(None)
            return
        subject = picture.settings.subject
        self.label.clear()
        self.label.addItems(picture.groups)
        self.label.setCurrentText(subject.label)
        self.label.setVisible(bool(picture.groups))
        self.words.setText(f"{subject.words}: {picture.words}.")
        self._draw(picture)
        self.calendar.show_picture(picture)
        self._suit()
        self._fill(picture)

    def _draw(self, picture: NormalPicture) -> None:
        look, base = theme.current(), int(picture.starts_ns[0])
        item, unit = self.plot.getPlotItem(), picture.settings.subject.unit
        self.plot.set_quantity(picture.settings.subject.words, unit)
        self.plot.set_keys(
            Key("measured", look.ink),
            Key("baseline with its band", look.moss, Mark.DASHED),
            Key("anomaly", look.red, Mark.DIAMOND),
            *([Key("complaint", look.straw)] if self._complaints else []),
        )
        middles = (picture.starts_ns - base + picture.settings.width_ns / 2) / 1e9
        found = picture.baseline
        x, low, high = known(middles, found.low, found.high)
        band = QColor(look.moss)
        band.setAlpha(60)
        edges = [
            pg.PlotDataItem(x, side, pen=pg.mkPen(look.line, width=1))
            for side in (np.maximum(low, min(0.0, float(np.nanmin(picture.values, initial=0.0)))), high)
        ]
        for edge in edges:
            item.addItem(edge)
        fill = pg.FillBetweenItem(edges[0], edges[1], brush=pg.mkBrush(band))
        item.addItem(fill)
        x, expected = known(middles, found.expected)
        self.plot.plot(x, expected, pen=pg.mkPen(look.moss, width=1.2, style=Qt.PenStyle.DashLine))
        x, values = known(middles, picture.values)
        self.plot.plot(x, values, pen=pg.mkPen(look.ink, width=1))
        out = found.side != 0
        self.plot.plot(
            middles[out],
            picture.values[out],
            pen=None,
            symbol="d",
            symbolSize=8,
            symbolBrush=pg.mkBrush(look.red),
            symbolPen=pg.mkPen(look.red),
        )
        for complaint in self._complaints:
            item.addItem(
                pg.InfiniteLine((complaint.first_ns - base) / 1e9, angle=90, pen=pg.mkPen(look.straw, width=1.5))
            )
        self.plot.axis.base_ns = base
        self.plot.axis.picture = None
        self.plot.setXRange(0, float(middles[-1]), padding=0.01)
        top = float(np.nanmax(picture.values)) if (~np.isnan(picture.values)).any() else 1.0
        self.plot.setYRange(0, max(top, 1e-9) * 1.12, padding=0)

    def _suit(self) -> None:
        """Weeks are a calendar unless a curve is wanted; shorter times are a curve."""
        starts = self.picture.starts_ns if self.picture is not None else np.empty(0, np.int64)
        weeks = starts.size > 1 and int(starts[-1] - starts[0]) >= _CALENDAR_FROM_NS
        self.as_curve.setVisible(bool(weeks))
        calendar = bool(weeks) and not self.as_curve.isChecked() and self._in_calendar()
        self.drawn.setCurrentWidget(self.calendar if calendar else self.plot)

    def _tell_when(self) -> None:
        if self.picture is not None:
            known = self.picture.values[~np.isnan(self.picture.values)]
            self.watch_wanted.emit(watch_of_measure(self.picture.settings.subject, p95(known)))

    def _in_calendar(self) -> bool:
        return self.picture is not None and self.picture.settings.width_ns * 4 <= DAY_NS

    def _show_day(self, span: tuple[int, int]) -> None:
        """One day as a curve."""
        if self.picture is None:
            return
        self.as_curve.setChecked(True)
        base = int(self.picture.starts_ns[0])
        self.plot.setXRange((span[0] - base) / 1e9, (span[1] - base) / 1e9, padding=0)

    def _fill(self, picture: NormalPicture) -> None:
        runs, unit = picture.anomalies, picture.settings.subject.unit

        begins, ends = (np.array([getattr(run, edge) for run in runs], np.int64) for edge in ("first", "stop"))
        measured, expected = (means(column, begins, ends) for column in (picture.values, picture.baseline.expected))
        self.table.show_columns(
            [
                Column(
                    "from",
                    lambda r: date_and_moment(picture.period(runs[r])[0]),
                    [run.first for run in runs],
                    figures=False,
                ),
                Column(
                    "for",
                    lambda r: duration(picture.period(runs[r])[1] - picture.period(runs[r])[0]),
                    [run.stop - run.first for run in runs],
                ),
                Column(
                    "side",
                    lambda r: "above" if runs[r].side > 0 else "below",
                    [run.side for run in runs],
                    figures=False,
                ),
                Column(
                    "measured",
                    lambda r: value_text(float(measured[r]), unit),
                    measured,
                    meaning="mean of these intervals",
                ),
                Column(
                    "baseline",
                    lambda r: value_text(float(expected[r]), unit),
                    expected,
                ),
                Column(
                    "deviation (σ)",
                    lambda r: three_digits(runs[r].size) if runs[r].size < _MANY else f"> {_MANY}",
                    [run.size for run in runs],
                    meaning="the greatest distance from the baseline, in standard deviations",
                ),
                Column(
                    "of baseline",
                    lambda r: _times(float(measured[r]), float(expected[r])),
                    measured / np.maximum(1e-12, expected),
                    meaning="the mean of these intervals as a multiple of the baseline",
                ),
            ],
            len(runs),
            ((1, 90), (2, 80), (3, 110), (4, 110), (5, 130)),
        )

    def _enter(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.anomalies):
            self.entered.emit(self.picture.period(self.picture.anomalies[row]))

    def _words_at(self, x: float, _y: float) -> str:
        picture = self.picture
        if picture is None:
            return ""
        k = int(x * 1e9 // picture.settings.width_ns)
        if not 0 <= k < picture.values.size:
            return ""
        unit, found = picture.settings.subject.unit, picture.baseline
        usual = (
            f", usual {value_text(float(found.low[k]), unit)} to {value_text(float(found.high[k]), unit)}"
            if found.judged[k]
            else ", still learning"
        )
        return f" {date_and_moment(int(picture.starts_ns[k]))}  {value_text(float(picture.values[k]), unit)}{usual} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.calendar.update()
        if self.picture is not None:
            self.show_picture(replace(self.picture), self._complaints)
