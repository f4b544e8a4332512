"""Hosts in Survey: what their kernels counted in the period, and one of these measures over time."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import Trend
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plots import Plot
from yaffle.findings.host_readings import HostSeries
from yaffle.records.device_measures import STATES
from yaffle.units import count, duration, moment, share, three_digits

_TRENDS = 60
_TREND_COLUMN = 6
_LONG_S = 120
_BYTES = (("GB", 1e9), ("MB", 1e6), ("kB", 1e3))


def figure(value: float, unit: str) -> str:
    """A value with its unit."""
    if unit == "bytes":
        name, scale = next(((name, scale) for name, scale in _BYTES if value >= scale), ("bytes", 1.0))
        return f"{three_digits(value / scale)} {name}"
    if value == 0:
        return f"0 {unit}"
    if unit in STATES:
        return STATES[unit].get(round(value), f"{value:g}") if value == round(value) else "changed"
    if unit == "s" and value >= _LONG_S:
        return duration(int(value * 1e9))
    if unit == "%":
        return share(value / 100)
    return f"{count(round(value)) if value >= 1000 else three_digits(value)} {unit}"


class HostsPanel(QWidget):
    """A table of measures, and below it one of them over time."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._found: list[HostSeries] = []
        self._rows: list[HostSeries] = []
        self._shown: HostSeries | None = None
        self._first_ns, self._last_ns = 0, 1
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.search = QLineEdit()
        self.search.setPlaceholderText("find a measure: retrans, drops, cpu0 …")
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(280)
        self.search.setAccessibleName("find a measure of a host")
        self.search.textChanged.connect(lambda _text: self._fill())
        self.table = Listing("Measures of hosts")
        self.table.selectionModel().currentRowChanged.connect(lambda now, _before: self._select(now.row()))
        self._trends = Trend(self)
        self.table.setItemDelegateForColumn(_TREND_COLUMN, self._trends)
        self.plot = Plot("value", "")
        self.plot.read_with(self._words_at)
        body = Panes("survey hosts panel: body", Qt.Orientation.Vertical)
        body.arrange([self.table, self.plot], [300, 220])
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.search)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(head)
        column.addWidget(body, 1)
        self.show_hosts([], 0, 1)

    def show_hosts(self, found: list[HostSeries], first_ns: int, last_ns: int) -> None:
        """Shows another picture of a period."""
        self._found, self._first_ns, self._last_ns = found, first_ns, last_ns
        hosts = sorted({one.device for one in found})
        again = sorted({one.device for one in found if one.resets})
        if not found:
            self.words.setText(
                "No measures of hosts here: yaffle collect reads this machine's with a [host] in its configuration, and"
                " its history can be opened while it does."
            )
        else:
            anew = f"; {', '.join(again)} began to count anew: that step is left out" if again else ""
            self.words.setText(
                f"{', '.join(hosts)}: {count(len(found))} measures; counters are shown as rates per second{anew}"
            )
        self.search.setVisible(bool(found))
        self._fill()

    def _fill(self) -> None:
        wanted = self.search.text().lower().split()
        self._rows = rows = [
            one
            for one in self._found
            if all(part in f"{one.device} {one.object} {one.measure} {one.words}".lower() for part in wanted)
        ]
        # What moved comes first: a host counts many things that never happen.
        rows.sort(key=_order)
        self._trends.trends = [self._trend(one) for one in rows]
        self.table.show_columns(
            [
                Column("host or device", lambda r: rows[r].device, [one.device for one in rows], figures=False),
                Column("measure", lambda r: rows[r].measure, [one.measure for one in rows], figures=False),
                Column(
                    "object",
                    lambda r: rows[r].object,
                    [one.object for one in rows],
                    figures=False,
                    meaning="processor, interface, memory, sensor, IP version",
                ),
                Column("mean", lambda r: figure(rows[r].mean, rows[r].unit), [one.mean for one in rows]),
                Column("peak", lambda r: figure(rows[r].peak, rows[r].unit), [one.peak for one in rows]),
                Column("last", lambda r: figure(rows[r].last, rows[r].unit), [one.last for one in rows]),
                Column("trend", lambda r: "", figures=False, meaning="each row scaled separately"),
            ],
            len(rows),
            ((1, 190), (2, 60), (3, 130), (4, 130), (5, 130), (6, 160)),
        )
        again = next((k for k, one in enumerate(rows) if self._shown is not None and _same(one, self._shown)), 0)
        if rows:
            self.table.selectRow(again)
        self._draw(rows[again] if rows else None)

    def _trend(self, one: HostSeries) -> np.ndarray:
        """Its highest values in equal stretches of the period."""
        span = max(1, self._last_ns - self._first_ns)
        place = np.clip((one.times_ns - self._first_ns) * _TRENDS // span, 0, _TRENDS - 1)
        found = np.zeros(_TRENDS)
        np.maximum.at(found, place, one.values)
        return found

    def _select(self, row: int) -> None:
        order = self.table.columns.order
        if 0 <= row < order.size:
            self._draw(self._rows[int(order[row])])

    def _draw(self, one: HostSeries | None) -> None:
        self._shown = one
        self.plot.getPlotItem().clear()
        if one is None:
            return
        seconds = (one.times_ns - self._first_ns) / 1e9
        self.plot.plot(seconds, one.values, pen=pg.mkPen(theme.current().moss, width=1.4))
        words = f": {one.words}" if one.words else ""
        self.plot.set_quantity(f"{one.measure} of {f'{one.device} {one.object}'.strip()}{words}", one.unit)
        self.plot.axis.base_ns = self._first_ns
        self.plot.axis.picture = None
        self.plot.setXRange(0, max(1e-3, (self._last_ns - self._first_ns) / 1e9), padding=0)
        self.plot.setYRange(0, max(one.peak, 1e-6) * 1.08, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        one = self._shown
        if one is None or not one.times_ns.size:
            return ""
        k = int(np.argmin(np.abs((one.times_ns - self._first_ns) / 1e9 - x)))
        return f" {moment(int(one.times_ns[k]))}  {figure(float(one.values[k]), one.unit)} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._fill()


def _order(one: HostSeries) -> tuple[bool, str, str, float, str]:
    """What moved first, by host and measure; of shares the highest first."""
    high = one.peak if one.unit == "%" else 0.0
    return one.rises and one.peak == 0, one.device, one.measure, -high, one.object


def _same(one: HostSeries, other: HostSeries) -> bool:
    return (one.device, one.object, one.measure) == (other.device, other.object, other.measure)
