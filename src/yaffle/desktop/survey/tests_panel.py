"""Tests on purpose in Survey: how each went in the period, the worst first, and one of them over time."""

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plots import Plot
from yaffle.session.probe_courses import ProbeCourse
from yaffle.session.told_watch import watch_of_test
from yaffle.units import count, duration, from_ms, moment, rate, share


class TestsPanel(QWidget):
    """A table of tests, and below it one of them over time. `asked`: a test is wanted now, with kind and target."""

    __test__ = False
    asked = Signal(str, str)
    watch_wanted = Signal(object)  # a Watch, filled in

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: list[ProbeCourse] = []
        self._shown: ProbeCourse | None = None
        self._first_ns, self._last_ns = 0, 1
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.now = QPushButton("Test now…")
        self.now.setToolTip("Ask once, now: the selected test, or any other (Ctrl+Shift+T)")
        self.now.clicked.connect(self._ask)
        self.table = Listing("Tests")
        self.table.selectionModel().currentRowChanged.connect(lambda now, _before: self._select(now.row()))
        self.table.entered.connect(lambda _row: self._ask())
        self.table.row_offers = lambda row: [("Tell me when…", lambda: self._tell_when(row))]
        self.plot = Plot("round trip", "s")
        self.plot.read_with(self._words_at)
        body = Panes("survey tests panel: body", Qt.Orientation.Vertical)
        body.arrange([self.table, self.plot], [300, 220])
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.now)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(head)
        column.addWidget(body, 1)
        self.show_courses(None, 0, 1)

    def show_courses(self, found: list[ProbeCourse] | None, first_ns: int, last_ns: int) -> None:
        """Shows another picture of a period; None: nothing is tested."""
        self._rows = rows = found or []
        self._first_ns, self._last_ns = first_ns, last_ns
        if found is None:
            self.words.setText(
                "Nothing is tested here: yaffle collect does it with [[probe]] in its configuration; Test now asks"
                " once."
            )
        else:
            bad = sum(1 for one in rows if not one.well.all())
            self.words.setText(f"{count(len(rows))} tests, {count(bad)} of them with failures in this period")
        self.table.show_columns(
            [
                Column("test", lambda r: rows[r].name, [one.name for one in rows], figures=False),
                Column("kind", lambda r: rows[r].kind, [one.kind for one in rows], figures=False),
                Column("target", lambda r: rows[r].target, [one.target for one in rows], figures=False),
                Column("direction", lambda r: rows[r].direction, [one.direction for one in rows], figures=False),
                Column("results", lambda r: count(rows[r].sent), [one.sent for one in rows]),
                Column("failed", lambda r: share(rows[r].failed_share), [one.failed_share for one in rows]),
                Column(
                    "median",
                    lambda r: from_ms(rows[r].median_ms),
                    [one.median_ms for one in rows],
                    meaning="round trip",
                ),
                Column("p95", lambda r: from_ms(rows[r].p95_ms), [one.p95_ms for one in rows], meaning="round trip"),
                Column(
                    "MOS",
                    lambda r: f"{rows[r].worst_mos:.2f}" if math.isfinite(rows[r].worst_mos) else "–",
                    [one.worst_mos for one in rows],
                    meaning="95 of 100 results are at least this (E-model, ITU-T G.107)",
                ),
                Column(
                    "throughput",
                    lambda r: rate(rows[r].median_bps) if math.isfinite(rows[r].median_bps) else "–",
                    [one.median_bps for one in rows],
                    meaning="median of tests of speed (RFC 6349)",
                ),
                Column("last failure", lambda r: rows[r].last_why, [one.last_why for one in rows], figures=False),
            ],
            len(rows),
            ((0, 150), (1, 60), (2, 150), (3, 60), (4, 60), (5, 60), (6, 76), (7, 76), (8, 50), (9, 80)),
            wide=10,
        )
        again = next((k for k, one in enumerate(rows) if self._shown is not None and _same(one, self._shown)), 0)
        if rows:
            self.table.selectRow(again)
        self._draw(rows[again] if rows else None)

    def _select(self, row: int) -> None:
        order = self.table.columns.order
        if 0 <= row < order.size:
            self._draw(self._rows[int(order[row])])

    def _tell_when(self, row: int) -> None:
        self.watch_wanted.emit(watch_of_test(self._rows[row]))

    def _ask(self) -> None:
        one = self._shown
        self.asked.emit(one.kind if one is not None else "reach", one.target if one is not None else "")

    def _draw(self, one: ProbeCourse | None) -> None:
        self._shown = one
        self.plot.getPlotItem().clear()
        if one is None:
            return
        look = theme.current()
        seconds = (one.times_ns - self._first_ns) / 1e9
        quality = one.shows_quality
        values = one.mos if quality else one.trips_ms / 1e3
        self.plot.plot(seconds, values, pen=pg.mkPen(look.moss, width=1.2), connect="finite")
        bad = ~one.well
        top = float(np.nanmax(values)) if np.isfinite(values).any() else 1.0
        if bad.any():
            height = np.full(int(bad.sum()), top * 1.02)
            self.plot.plot(
                seconds[bad], height, pen=None, symbol="x", symbolSize=7, symbolPen=pg.mkPen(look.ink, width=1.4)
            )
        way = f", {one.direction}" if one.direction else ""
        what, unit = ("MOS", "") if quality else ("round trip", "s")
        self.plot.set_quantity(f"{what} of {one.name}{way}; crosses: failed", unit)
        self.plot.show_span(self._first_ns, self._last_ns, top)

    def _words_at(self, x: float, _y: float) -> str:
        one = self._shown
        if one is None or not one.times_ns.size:
            return ""
        k = int(np.argmin(np.abs((one.times_ns - self._first_ns) / 1e9 - x)))
        shown = f"MOS {one.mos[k]:.2f}" if one.shows_quality else from_ms(float(one.trips_ms[k]))
        at = moment(int(one.times_ns[k]))
        if one.width_ns:
            failed = int(one.asked[k] - one.went_well[k])
            return f" {at}, {duration(one.width_ns)}: median {shown}, {count(failed)} of {count(one.asked[k])} failed "
        return f" {at}  {shown if one.well[k] else 'failed'} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._draw(self._shown)


def _same(one: ProbeCourse, other: ProbeCourse) -> bool:
    return (one.name, one.direction) == (other.name, other.direction)
