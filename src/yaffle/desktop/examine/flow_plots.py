"""Below the sequence plot, on its time axis: what limited the sender, and round trips or bytes in flight."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from yaffle.desktop.examine.sequence_plot import SequencePlot, steps
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.ledger import limits
from yaffle.session.examine import Connection, Limits
from yaffle.units import duration, rate, share, size

_SHORT = ("application", "receive window", "congestion window", "bottleneck", "loss recovery")


_SOON_MS = 60  # After the view rests for so long, its rate is said.
_CHOICES = (
    ("RTT", "RTT to client (dots), to server (triangles)"),
    ("in flight", "Bytes in flight, the estimate of what congestion control allowed (dashed), the window (straw)"),
)


class LimitStrip(Plot):
    """One row: the side that sent more, colored and hatched by what limited it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("", relative=True, parent=parent)
        self.setFixedHeight(18)
        self.getPlotItem().hideAxis("bottom")
        self.getPlotItem().getAxis("left").setStyle(showValues=False)
        self.setMouseEnabled(y=False)
        self.setYRange(0, 1, padding=0)
        self._curves = [self.plot(stepMode="center", fillLevel=0, pen=None) for _ in limits.WORDS]
        self._limits: Limits | None = None
        self._origin = 0
        self.read_with(self._words_at)

    def show_limits(self, found: Limits | None, origin_ns: int) -> None:
        """Shows another side."""
        self._limits, self._origin = found, origin_ns
        look = theme.current()
        patterns = Qt.BrushStyle
        looks = (
            (look.straw, patterns.SolidPattern),
            (look.client, patterns.Dense5Pattern),
            (look.network, patterns.Dense6Pattern),
            (look.network, patterns.SolidPattern),
            (look.red, patterns.BDiagPattern),
        )
        if found is None or not found.what.size:
            for curve in self._curves:
                curve.setData([0, 1], [0])
            return
        edges = np.concatenate([found.from_ns, found.to_ns[-1:]])
        edges = (np.maximum.accumulate(edges) - origin_ns) / 1e9
        for k, (curve, (color, pattern)) in enumerate(zip(self._curves, looks, strict=True)):
            curve.setData(edges, (found.what == k).astype(float), brush=QBrush(QColor(color), pattern), fillLevel=0)

    def _words_at(self, x: float, _y: float) -> str:
        found = self._limits
        if found is None:
            return ""
        at = self._origin + round(x * 1e9)
        k = int(np.searchsorted(found.from_ns, at, "right")) - 1
        if k < 0 or at > found.to_ns[k]:
            return ""
        return f" {limits.WORDS[found.what[k]]}, {duration(int(found.to_ns[k] - found.from_ns[k]))} "


class TimesPlot(Plot):
    """Round trips to each side over time, or bytes in flight with what allowed them."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("RTT", "s", relative=True, parent=parent)
        self.to_client = pg.ScatterPlotItem(size=5, pen=None)
        self.to_server = pg.ScatterPlotItem(size=6, pen=None, symbol="t")
        for item in (self.to_client, self.to_server):
            self.addItem(item)
        self.flight, self.allowed, self.window = (self.plot(connect="finite") for _ in range(3))
        self.read_with(lambda x, y: f" {duration(round(y * 1e9))} " if self._trips else f" {size(max(0.0, y))} ")
        self._trips = True

    def show_connection(self, connection: Connection | None, side: int, trips: bool, found: Limits | None) -> None:
        """Shows another connection, side or kind of figure."""
        self._trips = trips
        look = theme.current()
        for scatter in (self.to_client, self.to_server):
            scatter.setData([], [])
        for curve in (self.flight, self.allowed, self.window):
            curve.setData([], [])
        self.set_quantity("RTT" if trips else "bytes in flight", "s" if trips else "B")
        self.set_keys(
            *(
                (Key("to client", look.client, Mark.DOT), Key("to server", look.server, Mark.TRIANGLE))
                if trips
                else (
                    Key("in flight", look.ink),
                    Key("congestion window (est.)", look.network, Mark.DASHED),
                    Key("receive window", look.straw),
                )
            )
        )
        if connection is None:
            return
        g = connection.segments
        origin = int(g["t"][0])
        if trips:
            for scatter, to, color in ((self.to_client, 0, look.client), (self.to_server, 1, look.server)):
                s = connection.samples[(connection.samples["side"] == to) & (connection.samples["way"] != 3)]
                scatter.setData((s["t"] - origin) / 1e9, s["rtt"] / 1e9, brush=pg.mkBrush(color))
        else:
            own = np.flatnonzero((g["d"] == side) & (g["n"] > 0))
            seconds = (g["t"][own] - origin) / 1e9
            self.flight.setData(*steps(seconds, g["flight"][own]), pen=pg.mkPen(look.ink))
            if found is not None and own.size:
                self.allowed.setData(
                    *steps(seconds, found.allowed_bytes[own]), pen=pg.mkPen(look.network, style=Qt.PenStyle.DashLine)
                )
                top = max(1.0, float(found.allowed_bytes[own].max()))
                room = np.where(g["room"][own] >= 0, g["room"][own] + g["flight"][own], np.nan)
                self.window.setData(*steps(seconds, np.minimum(room, 1.6 * top)), pen=pg.mkPen(look.straw))
        self.fit()


class FlowPlots(QWidget):
    """The sequence plot with the strip and the lower plot, zoomed together."""

    def __init__(self, sequence: SequencePlot, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.sequence, self.strip, self.times = sequence, LimitStrip(), TimesPlot()
        sequence.getPlotItem().getAxis("bottom").setStyle(showValues=False)
        for plot in (self.strip, self.times):
            plot.setXLink(sequence)
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self._connection: Connection | None = None
        self.kinds = QButtonGroup(self)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.words, 1)
        for k, (name, tip) in enumerate(_CHOICES):
            button = QToolButton()
            button.setText(name)
            button.setToolTip(tip)
            button.setCheckable(True)
            button.setChecked(k == 0)
            self.kinds.addButton(button, k)
            row.addWidget(button)
        self.kinds.idClicked.connect(lambda _: self._show_times())
        self._rate_soon = QTimer(self)
        self._rate_soon.setSingleShot(True)
        self._rate_soon.setInterval(_SOON_MS)
        self._rate_soon.timeout.connect(self._say_rate)
        sequence.getPlotItem().vb.sigXRangeChanged.connect(lambda *_: self._rate_soon.start())
        self.rate = QLabel()
        self.rate.setObjectName("faint")
        self.rate.setWordWrap(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        column.addWidget(sequence, 5)
        column.addWidget(self.strip)
        column.addLayout(row)
        column.addWidget(self.times, 3)
        column.addWidget(self.rate)

    def show_connection(self, connection: Connection | None) -> None:
        """Shows another connection."""
        self._connection = connection
        self.sequence.show_connection(connection)
        self._found = connection.limits(self.sequence.side) if connection is not None else None
        self.strip.show_limits(self._found, int(connection.segments["t"][0]) if connection is not None else 0)
        self.words.setText(self._shares())
        self._say_rate()
        self._show_times()

    def _show_times(self) -> None:
        self.times.show_connection(self._connection, self.sequence.side, self.kinds.checkedId() == 0, self._found)

    def _say_rate(self) -> None:
        """Throughput and goodput of what is in view."""
        connection = self._connection
        if connection is None or connection.segments.size < 2:
            self.rate.setText("")
            return
        times = connection.segments["t"]
        low, high = self.sequence.getPlotItem().vb.viewRange()[0]
        first, last = (
            max(int(times[0]), int(times[0]) + round(low * 1e9)),
            min(int(times[-1]), int(times[0]) + round(high * 1e9)),
        )
        throughput, goodput = connection.rate_bps(self.sequence.side, first, max(first + 1, last))
        self.rate.setText(
            f"in view, {duration(max(1, last - first))}: throughput {rate(throughput)}, goodput {rate(goodput)}"
        )

    def _shares(self) -> str:
        found = self._found
        if found is None or not found.what.size:
            return ""
        spans = np.bincount(found.what, (found.to_ns - found.from_ns).astype(float), len(limits.WORDS))
        total = max(1.0, float(spans.sum()))
        named = ", ".join(
            f"{_SHORT[k]} {share(spans[k] / total)}" for k in np.argsort(-spans) if spans[k] / total >= 0.005
        )
        return f"{'server' if self.sequence.side else 'client'} limited by: {named}"

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.sequence, self.strip, self.times):
            plot.dress()
        self.show_connection(self._connection)
