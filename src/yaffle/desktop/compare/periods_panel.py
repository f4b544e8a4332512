"""Two periods side by side on one axis, how much they differ and how sure that is, and who changed and who did not."""

from html import escape

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.compare.baseline_panel import known
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import ShareBar
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.survey.measure_plots import value_text
from yaffle.session.baselines import FLOW_VOLUME, IN, OUT, WIDTHS
from yaffle.session.comparing import Compared, Period
from yaffle.session.period_words import EXAMPLES, PeriodError, period_ns, period_text
from yaffle.units import share, three_digits, zone

_SAME = "the same group"


class PeriodsPanel(QWidget):
    """Asks for another picture by `wanted`; periods are typed, or taken from the strip."""

    wanted = Signal()
    taken = Signal(int)  # the period in focus is wanted as: 0 before, 1 after

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: Compared | None = None
        self._span: Period = (0, 1)
        self.typed = (QLineEdit(), QLineEdit())
        row = QHBoxLayout()
        for k, (line, name) in enumerate(zip(self.typed, ("before", "after"), strict=True)):
            line.setPlaceholderText("for example 2026-03-03 08:00 to 09:00")
            line.setToolTip(
                f"A period as you would say it: {EXAMPLES}. Several with ; between them are runs, a value each"
            )
            line.setAccessibleName(f"Period {name}")
            line.returnPressed.connect(self.wanted.emit)
            button = QPushButton("Use selection")
            button.setToolTip(f"Takes the selected period as “{name}”")
            button.clicked.connect(lambda _=False, k=k: self.taken.emit(k))
            row.addWidget(QLabel(name))
            row.addWidget(line, 1)
            row.addWidget(button)
        self.width_box = QComboBox()
        for name in WIDTHS:
            self.width_box.addItem(name)
        self.width_box.setCurrentText("5 min")
        self.width_box.activated.connect(lambda _: self.wanted.emit())
        self.trim = QCheckBox("trim extremes")
        self.trim.setToolTip("As with repeated runs: the lowest and the highest of each side do not count")
        self.trim.toggled.connect(lambda _: self.wanted.emit())
        self.other = QComboBox()
        self.other.setToolTip("Compares with another group instead; the period after may then be left empty: the same")
        self.other.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.other.setMinimumContentsLength(16)
        self.other.activated.connect(lambda _: self.wanted.emit())
        self.offer([])
        second = QHBoxLayout()
        for widget in (QLabel("in intervals of"), self.width_box, QLabel("compare with"), self.other, self.trim):
            second.addWidget(widget)
        second.addStretch(1)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.plot = Plot("measured", relative=True)
        self.plot.read_with(self._words_at)
        self.table = Listing("What changed and what did not")
        self.model = self.table.columns
        self._bars = ShareBar(self)
        self.table.setItemDelegateForColumn(2, self._bars)
        body = Panes("compare periods panel: body", Qt.Orientation.Vertical)
        body.arrange([self.plot, self.table], [230, 280])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addLayout(second)
        column.addWidget(self.words)
        column.addWidget(body, 1)

    def span(self, first_ns: int, last_ns: int) -> None:
        """What the evidence covers, within which periods are understood."""
        self._span = (first_ns, last_ns)

    def offer(self, groups: list[str]) -> None:
        """Which groups there are to compare with."""
        former = self.other.currentText()
        self.other.clear()
        self.other.addItems([_SAME, *groups])
        self.other.setCurrentText(former if former in groups else _SAME)

    @property
    def other_group(self) -> str:
        """The group of the second side; empty: the same."""
        return "" if self.other.currentText() == _SAME else self.other.currentText()

    @property
    def periods(self) -> tuple[tuple[Period, ...], tuple[Period, ...]] | None:
        """Periods, or runs, of both sides; None where one is missing or not understood, which is said."""
        found: list[tuple[Period, ...]] = []
        for line, name in zip(self.typed, ("before", "after"), strict=True):
            words = [part for part in line.text().split(";") if part.strip()]
            if not words and found and self.other_group:
                return found[0], found[0]
            if not words:
                self.words.setText(
                    f"Two periods are compared: type the one {name}, or select it in the strip above and take it over."
                )
                return None
            try:
                found.append(tuple(period_ns(part, *self._span, zone()) or self._span for part in words))
            except PeriodError as error:
                self.words.setText(f"{name}: {error}")
                return None
        return found[0], found[1]

    def show_picture(self, picture: Compared | None) -> None:
        """Shows another picture."""
        self.picture = picture
        item = self.plot.getPlotItem()
        item.clear()
        if picture is None:
            self.model.show_columns([], 0)
            return
        sides, unit = picture.comparison, picture.settings.subject.unit
        text = f"{picture.settings.subject.words}: {sides.certainty}."
        if all(sides.counts):
            way = "more" if sides.difference > 0 else "less"
            text = (
                f"<b>{escape(picture.settings.subject.words)}</b>: median {value_text(sides.medians[0], unit)} before,"
                f" {value_text(sides.medians[1], unit)} after; typically {value_text(abs(sides.difference), unit)}"
                f" {way}, {escape(sides.certainty)}; one {'run' if picture.settings.runs else 'interval'} after exceeds"
                f" one before in {share(sides.exceeds)} of all pairs."
            )
        self.words.setText(text)
        look = theme.current()
        self.plot.set_quantity(picture.settings.subject.words, unit)
        self.plot.set_keys(Key("before", look.faint, Mark.DASHED), Key("after", look.moss))
        top = 1e-9
        for values, color, line in (
            (picture.before, look.faint, Qt.PenStyle.DashLine),
            (picture.after, look.moss, Qt.PenStyle.SolidLine),
        ):
            x, y = known((np.arange(values.size) + 0.5) * self._step_ns / 1e9, values)
            self.plot.plot(
                x,
                y,
                pen=pg.mkPen(color, width=1.6, style=line),
                symbol="o" if y.size < 60 else None,
                symbolSize=4,
                symbolBrush=color,
                symbolPen=color,
            )
            top = max(top, float(y.max(initial=0.0)))
        self.plot.axis.base_ns = 0
        self.plot.setXRange(0, max(picture.before.size, picture.after.size) * self._step_ns / 1e9, padding=0.01)
        self.plot.setYRange(0, top * 1.1, padding=0)
        self._fill(picture)

    def _fill(self, picture: Compared) -> None:
        groups = picture.extent
        volume = picture.settings.subject.measure in (FLOW_VOLUME, IN, OUT)
        unit = "bit/s" if volume else "s"
        red = theme.current().red
        self._bars.values = [abs(g.separates) for g in groups]

        def text(value: float) -> str:
            return "–" if np.isnan(value) else value_text(value, unit)

        meaning = (
            "its part of all that grew or shrank"
            if volume
            else (
                "how well it tells what changed from what did not: 100 % where all of it lies in here, and nothing else"
            )
        )
        self.table.show_columns(
            [
                Column("group", lambda r: groups[r].label, [g.label for g in groups], figures=False),
                Column("type", lambda r: groups[r].dimension, [g.dimension for g in groups], figures=False),
                Column(
                    "share of the change" if volume else "selectivity",
                    lambda r: share(groups[r].separates),
                    [abs(g.separates) for g in groups],
                    meaning=meaning,
                ),
                Column(
                    "change",
                    lambda r: groups[r].words,
                    [g.words for g in groups],
                    figures=False,
                    color=lambda r: red if groups[r].words == "worse" else None,
                ),
                Column(
                    "before",
                    lambda r: text(groups[r].amounts[0]),
                    [g.amounts[0] for g in groups],
                    meaning=picture.counted,
                ),
                Column(
                    "after",
                    lambda r: text(groups[r].amounts[1]),
                    [g.amounts[1] for g in groups],
                    meaning=picture.counted,
                ),
                Column(
                    "significance",
                    lambda r: groups[r].comparison.certainty,
                    [g.comparison.chance for g in groups],
                    figures=False,
                    meaning="whether intervals differ, by a rank test",
                ),
            ],
            len(groups),
            ((1, 90), (2, 130), (3, 90), (4, 84), (5, 84), (6, 150)),
        )

    def _words_at(self, x: float, _y: float) -> str:
        picture = self.picture
        if picture is None:
            return ""
        k, unit = int(x * 1e9 // self._step_ns), picture.settings.subject.unit
        parts = [
            f"{name} {value_text(float(side[k]), unit)}"
            for side, name in ((picture.before, "before"), (picture.after, "after"))
            if 0 <= k < side.size
        ]
        return (
            f" {f'run {k + 1}' if picture.settings.runs else f'{three_digits(x / 60)} min in'}: {', '.join(parts)} "
            if parts
            else ""
        )

    @property
    def _step_ns(self) -> int:
        """Distance between two values on the axis; runs stand a minute apart, whatever they took."""
        settings = self.picture.settings if self.picture is not None else None
        return settings.width_ns if settings is not None and not settings.runs else 60 * 10**9

    def set_period(self, side: int, period: Period) -> None:
        """Takes a period over."""
        self.typed[side].setText(period_text(*period, zone()))
        self.wanted.emit()

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.show_picture(self.picture)
