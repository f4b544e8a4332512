"""Interfaces in Survey: how full each was, worst first, and one of them over time against its speed."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import Trend
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.findings.interfaces import OVER, Interfaces, InterfaceUse
from yaffle.units import count, duration, moment, rate, share


class InterfacesPanel(QWidget):
    """`followed` carries an interface whose flows are wanted."""

    followed = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._found = Interfaces([], 0)
        self._shown: InterfaceUse | None = None
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.table = Listing("Interfaces, highest utilization first")
        self.model = self.table.columns
        self.table.setToolTip("Enter shows its traffic, where its device exported flow records")
        self.table.entered.connect(self._enter)
        self.table.selectionModel().currentRowChanged.connect(lambda now, _before: self._select(now.row()))
        self._trends = Trend(self)
        self.table.setItemDelegateForColumn(8, self._trends)
        self.plot = Plot("rate", "bit/s")
        self.plot.read_with(self._words_at)
        body = Panes("survey interfaces panel: body", Qt.Orientation.Vertical)
        body.arrange([self.table, self.plot], [300, 220])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(body, 1)
        self.show_interfaces(self._found, 0, 1)

    def show_interfaces(self, found: Interfaces, first_ns: int, last_ns: int) -> None:
        """Shows another picture of a period."""
        former = self._shown
        self._found, self._first_ns, self._last_ns = found, first_ns, last_ns
        rows = found.rows
        if not rows:
            self.words.setText(
                "No counters of interfaces here: open sFlow, a history, or a table (CSV or Parquet) with the columns"
                " device, interface, time, in_octets, out_octets, speed_bps."
            )
        else:
            full = sum(1 for one in rows if one.over_ns)
            anew = f"; {count(found.resets)} steps left out: a device began to count anew" if found.resets else ""
            coarse = (
                f"; of so long a period one reading every {duration(found.width_ns)} is looked at: shorter peaks are"
                " lower than they were"
                if found.width_ns
                else ""
            )
            self.words.setText(
                f"{count(len(rows))} interfaces, {count(full)} above {share(OVER)} utilization at times{anew}{coarse}"
            )
        self._trends.trends = [one.trend for one in rows]
        red = theme.current().red
        self.table.show_columns(
            [
                Column(
                    "interface",
                    lambda r: f"{rows[r].device} {rows[r].name}",
                    [f"{one.device} {one.name}" for one in rows],
                    figures=False,
                ),
                Column(
                    "speed",
                    lambda r: rate(rows[r].speed_bps) if rows[r].speed_bps > 0 else "not told",
                    [one.speed_bps for one in rows],
                ),
                Column(
                    "mean in",
                    lambda r: rate(rows[r].mean_bps[0]),
                    [one.mean_bps[0] for one in rows],
                    meaning="mean of the period",
                ),
                Column(
                    "mean out",
                    lambda r: rate(rows[r].mean_bps[1]),
                    [one.mean_bps[1] for one in rows],
                    meaning="mean of the period",
                ),
                Column(
                    "peak utilization",
                    lambda r: (
                        f"{rows[r].direction} {share(rows[r].utilization)}"
                        if rows[r].speed_bps > 0
                        else rate(max(rows[r].peak_bps))
                    ),
                    [np.nan_to_num(one.utilization, nan=-1.0) for one in rows],
                    color=lambda r: red if rows[r].over_ns else None,
                    meaning="highest between two readings",
                ),
                Column(
                    f"above {share(OVER)}",
                    lambda r: duration(rows[r].over_ns),
                    [one.over_ns for one in rows],
                    meaning=f"time with utilization above {share(OVER)}, inbound or outbound",
                ),
                Column("errors", lambda r: count(rows[r].errors), [one.errors for one in rows]),
                Column("discards", lambda r: count(rows[r].discards), [one.discards for one in rows]),
                Column(
                    "trend", lambda r: "", figures=False, meaning="of the busier direction, each row scaled separately"
                ),
            ],
            len(rows),
            ((1, 90), (2, 90), (3, 90), (4, 84), (5, 76), (6, 60), (7, 66), (8, 110)),
        )
        again = next(
            (
                k
                for k, one in enumerate(rows)
                if former is not None and (one.device, one.number) == (former.device, former.number)
            ),
            0,
        )
        if rows:
            self.table.selectRow(again)
        self._draw(rows[again] if rows else None)

    def _select(self, row: int) -> None:
        if 0 <= row < self.model.order.size:
            self._draw(self._found.rows[int(self.model.order[row])])

    def _draw(self, one: InterfaceUse | None) -> None:
        self._shown = one
        item = self.plot.getPlotItem()
        item.clear()
        if one is None:
            return
        look = theme.current()
        seconds = (one.middles_ns - self._first_ns) / 1e9
        for values, color, line in (
            (one.bps[0], look.moss, Qt.PenStyle.SolidLine),
            (one.bps[1], look.ink, Qt.PenStyle.DotLine),
        ):
            self.plot.plot(seconds, values, pen=pg.mkPen(color, width=1.4, style=line))
        keys = [Key("inbound", look.moss), Key("outbound", look.ink, Mark.DOTTED)]
        if one.speed_bps > 0:
            item.addItem(pg.InfiniteLine(one.speed_bps, angle=0, pen=pg.mkPen(look.red, width=1)))
            keys.append(Key(f"speed {rate(one.speed_bps)}", look.red))
        self.plot.set_quantity(f"rate of {one.device} {one.name}", "bit/s")
        self.plot.set_keys(*keys)
        self.plot.axis.base_ns = self._first_ns
        self.plot.axis.picture = None
        self.plot.setXRange(0, max(1e-3, (self._last_ns - self._first_ns) / 1e9), padding=0)
        self.plot.setYRange(0, max(float(one.speed_bps), float(max(one.peak_bps)), 1.0) * 1.08, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        one = self._shown
        if one is None or not one.middles_ns.size:
            return ""
        k = int(np.argmin(np.abs((one.middles_ns - self._first_ns) / 1e9 - x)))
        return f" {moment(int(one.middles_ns[k]))}  in {rate(float(one.bps[0][k]))}, out {rate(float(one.bps[1][k]))} "

    def _enter(self, row: int) -> None:
        if row < len(self._found.rows):
            self.followed.emit(self._found.rows[row])

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.show_interfaces(self._found, self._first_ns, self._last_ns)
