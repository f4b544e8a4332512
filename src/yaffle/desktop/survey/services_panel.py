"""Services in Survey: how each answers, ranked by what fails, and the chosen one over time."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import Trend
from yaffle.desktop.shared.column_table import Column, ColumnTable, TableView
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.expressions import one_of
from yaffle.session.services import Answering, Service, answering
from yaffle.units import count, duration, moment, share

_BINS = 200
_HURTS = 0.1  # From this share of failures on the figure is red.


class ServicesPanel(QWidget):
    """Shows services of the period; computes only how the chosen one did over time."""

    narrowed = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._services: list[Service] = []
        self._edges_ns: Array | None = None
        self._over_time: Answering | None = None
        self._wanted = ""  # an address that was asked for and was not there yet
        self.model = ColumnTable(self)
        self.table = TableView("Services and how they answer")
        self.table.setModel(self.model)
        self.table.narrowed.connect(self.narrowed)
        self._trends = Trend(self)
        self.table.setItemDelegateForColumn(10, self._trends)
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._draw())
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.plot, self.asked = Plot("response time, logarithmic", "s"), Plot("requests per interval", "requests")
        self.plot.getPlotItem().setLogMode(y=True)
        self.asked.setXLink(self.plot)
        self.asked.setToolTip("Requests, and (red) errors and requests without a response")
        for plot in (self.plot, self.asked):
            plot.read_with(self._words_at)
            plot.share_cursor([self.plot, self.asked])
        below = QWidget()
        column = QVBoxLayout(below)
        column.setContentsMargins(0, 2, 0, 0)
        column.addWidget(self.words)
        drawn = Panes("survey services panel: drawn", Qt.Orientation.Vertical)
        drawn.arrange([self.plot, self.asked], [170, 80])
        column.addWidget(drawn, 1)
        body = Panes("survey services panel: body", Qt.Orientation.Vertical)
        body.arrange([self.table, below], [240, 290])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 4, 0, 0)
        whole.addWidget(body)

    def show_services(self, found: list[Service], edges_ns: Array | None) -> None:
        """Shows other services; the one that was chosen stays so."""
        row = self.table.currentIndex().row()
        former = self._services[int(self.model.order[row])] if row >= 0 else None
        self._services = found
        self._edges_ns = (
            None if edges_ns is None else np.linspace(edges_ns[0], edges_ns[-1], _BINS + 1).astype(np.int64)
        )
        self._trends.trends = [s.trend for s in found]
        red = theme.current().red
        self.model.show_columns(
            [
                Column(
                    "service",
                    lambda r: found[r].name,
                    [s.name for s in found],
                    figures=False,
                    condition=lambda r: found[r].where,
                ),
                Column("kind", lambda r: found[r].kind, [s.kind for s in found], figures=False),
                Column("requests", lambda r: count(found[r].asked), [s.asked for s in found]),
                Column(
                    "median",
                    lambda r: duration(found[r].median_ns),
                    [s.median_ns or 0 for s in found],
                    meaning="response time; over TCP the wait of the exchange",
                ),
                Column("p95", lambda r: duration(found[r].p95_ns), [s.p95_ns or 0 for s in found]),
                Column("max", lambda r: duration(found[r].worst_ns), [s.worst_ns or 0 for s in found]),
                Column(
                    "errors",
                    lambda r: count(found[r].failures),
                    [s.failures for s in found],
                    meaning="error responses",
                ),
                Column("unanswered", lambda r: count(found[r].unanswered), [s.unanswered for s in found]),
                Column(
                    "failure rate",
                    lambda r: share(found[r].failed_share),
                    [s.failed_share for s in found],
                    color=lambda r: red if found[r].failed_share >= _HURTS else None,
                    meaning="errors and missing responses, of all requests",
                ),
                Column(
                    "clients affected",
                    lambda r: f"{count(found[r].users_affected)} of {count(found[r].users)}",
                    [s.users_affected for s in found],
                    meaning="clients with an error or no response, of all clients",
                    condition=lambda r: one_of("client", found[r].clients),
                ),
                Column("trend", lambda r: "", figures=False, meaning="requests over the period"),
            ],
            len(found),
        )
        self.table.fit.fit({10: 72}, 0)
        wanted = next((k for k, s in enumerate(found) if s.address == self._wanted), -1) if self._wanted else -1
        if wanted >= 0:
            self._wanted = ""
            self.table.selectRow(wanted)
        elif found:
            self.table.selectRow(
                next(
                    (
                        k
                        for k, s in enumerate(found)
                        if former is not None and (s.name, s.kind) == (former.name, former.kind)
                    ),
                    0,
                )
            )
        self._draw()

    def choose(self, address: str) -> None:
        """Selects the service at an address, now or once it is there."""
        self._wanted = address
        found = next((k for k, s in enumerate(self._services) if s.address == address), -1)
        if found >= 0:
            self._wanted = ""
            self.table.selectRow(self.model.place_of(found))

    def _draw(self) -> None:
        for plot in (self.plot, self.asked):
            plot.getPlotItem().clearPlots()
        row = self.table.currentIndex().row()
        if self._edges_ns is None or not 0 <= row < len(self._services):
            self._over_time = None
            self.words.setText(
                "No request to a service that Yaffle knows: DNS, DHCP, RADIUS, web, databases, files,"
                " directories, time, counters, echoes."
            )
            return
        service = self._services[int(self.model.order[row])]
        found = self._over_time = answering(service, self._edges_ns)
        look, seconds = theme.current(), (self._edges_ns - self._edges_ns[0]) / 1e9
        middles = (seconds[:-1] + seconds[1:]) / 2
        for values, color, symbol in ((found.p95_ns, look.straw, "t"), (found.median_ns, look.moss, "o")):
            held = ~np.isnan(values)
            shown = np.maximum(values[held], 1000) / 1e9
            self.plot.plot(
                middles[held], shown, pen=None, symbol=symbol, symbolSize=5, symbolBrush=color, symbolPen=None
            )
        keys = []
        for counts, color, words in ((found.asked, look.faint, "all"), (found.bad, look.red, "errors, no response")):
            fill = QColor(color)
            fill.setAlpha(150 if color == look.red else 70)
            keys.append(Key(words, color, Mark.AREA, (QBrush(fill),)))
            self.asked.plot(
                seconds,
                counts.astype(float),
                stepMode="center",
                fillLevel=0,
                brush=pg.mkBrush(fill),
                pen=pg.mkPen(None),
            )
        for plot in (self.plot, self.asked):
            plot.axis.base_ns = int(self._edges_ns[0])
            plot.axis.picture = None
        self.plot.setXRange(0, float(seconds[-1]), padding=0)
        self.asked.setYRange(0, max(1.0, float(found.asked.max())) * 1.05, padding=0)
        self.plot.getPlotItem().enableAutoRange(axis="y")
        step = duration(int(self._edges_ns[1] - self._edges_ns[0]))
        self.plot.set_keys(Key("median", look.moss, Mark.DOT), Key("p95", look.straw, Mark.TRIANGLE))
        self.asked.set_keys(*keys)
        self.words.setText(f"{service.name}, {service.kind}, in intervals of {step}")

    def _words_at(self, x: float, _y: float) -> str:
        found = self._over_time
        if found is None:
            return ""
        k = int(np.searchsorted(found.edges_ns, int(found.edges_ns[0] + x * 1e9), "right")) - 1
        if not 0 <= k < found.asked.size:
            return ""
        bad = f", {int(found.bad[k])} failed" if found.bad[k] else ""
        when = moment(int(found.edges_ns[k]))
        return (
            f" {when}  requests {int(found.asked[k])}, median {duration(found.median_ns[k])}, p95"
            f" {duration(found.p95_ns[k])}{bad} "
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.plot, self.asked):
            plot.dress()
        self._draw()
