"""Sequence number over time: data, acknowledgements, the receiver's window, retransmissions; click a mark, get the
packet.
"""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.plot_head import OF_SYMBOL, Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.examine import Connection
from yaffle.transport import kinds
from yaffle.units import duration, size

# Kinds with a mark of their own: (words, kinds, symbol, what of the theme).
_MARKED = (
    (
        "RTO retransmission",
        (kinds.REPEAT_TIMEOUT, kinds.REPEAT_AFTER, kinds.REPEAT_OPEN, kinds.REPEAT_CLOSE),
        "t",
        "red",
    ),
    ("fast retransmission", (kinds.REPEAT_FAST,), "d", "red"),
    ("tail loss probe", (kinds.REPEAT_TAIL,), "s", "red"),
    ("out-of-order", (kinds.OUT_OF_ORDER,), "o", "straw"),
    ("network duplicate", (kinds.COPY,), "x", "straw"),
    ("window probe", (kinds.WINDOW_PROBE, kinds.KEEP_ALIVE), "+", "client"),
)


class SequencePlot(Plot):
    """Shows the side that sent more."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("sequence number", "B", relative=True, parent=parent)
        self._connection: Connection | None = None
        self.side = 1
        self._x = np.empty(0)
        self._data_rows = np.empty(0, np.int64)
        self._parts = {
            "window": self.plot(connect="finite"),
            "acked": self.plot(connect="finite"),
            "data": self.plot(connect="pairs"),
            "sacked": self.plot(connect="pairs"),
            **{name: self.plot(connect="pairs") for name, *_ in _MARKED},
        }
        self._mark = pg.ScatterPlotItem(size=11)
        self.addItem(self._mark)
        self.scene().sigMouseClicked.connect(self._clicked)
        self.read_with(self._words_at)

    def show_connection(self, connection: Connection | None) -> None:
        """Shows another connection."""
        self._connection = connection
        self.set_keys()
        self._mark.setData([], [])
        if connection is None:
            for part in self._parts.values():
                part.setData([], [])
            return
        g = connection.segments
        sent = [int(g["n"][g["d"] == side].sum()) for side in (0, 1)]
        self.side = int(sent[1] >= sent[0])
        side = "server" if self.side else "client"
        other = "client" if self.side else "server"
        seconds = (g["t"] - g["t"][0]) / 1e9
        base = int(g["s"][g["d"] == self.side].min()) if (g["d"] == self.side).any() else 0
        own = (g["d"] == self.side) & (g["n"] > 0)
        base_kind = g["kind"] & kinds.KIND_MASK
        marked = np.isin(base_kind, [k for _, group, *_ in _MARKED for k in group])
        self._data_rows = np.flatnonzero(own)
        self._x = seconds[self._data_rows]
        look = theme.current()

        def pairs(rows: Array) -> tuple[Array, Array]:
            return np.repeat(seconds[rows], 2), np.column_stack([g["s"][rows] - base, g["e"][rows] - base]).ravel()

        self._parts["data"].setData(*pairs(np.flatnonzero(own & ~marked)), pen=pg.mkPen(look.ink, width=1))
        shown = [Key("data", look.ink)]
        for name, group, symbol, color in _MARKED:
            rows = np.flatnonzero(own & np.isin(base_kind, group))
            paint = getattr(look, color)
            self._parts[name].setData(
                *pairs(rows),
                pen=pg.mkPen(paint, width=1),
                symbol=symbol,
                symbolSize=7,
                symbolBrush=paint,
                symbolPen=None,
            )
            if rows.size:
                shown.append(Key(name, paint, OF_SYMBOL[symbol]))
        t, left, right = connection.sack_blocks(self.side)
        ends = np.column_stack([left - base, right - base]).ravel()
        self._parts["sacked"].setData(
            np.repeat((t - g["t"][0]) / 1e9, 2), ends, pen=pg.mkPen(look.network, width=1, style=Qt.PenStyle.DotLine)
        )
        if t.size:
            shown.append(Key(f"SACKed by {other}", look.network, Mark.DOTTED))
        acks = np.flatnonzero((g["d"] != self.side) & (g["a"] >= 0) & ((g["flags"] & 6) == 0))
        x, y = steps(seconds[acks], np.maximum.accumulate(g["a"][acks]) - base if acks.size else np.empty(0))
        self._parts["acked"].setData(x, y, pen=pg.mkPen(look.network, width=1))
        x, y = steps(seconds[acks], (g["a"][acks] + g["w"][acks]) - base if acks.size else np.empty(0))
        top = float((g["e"][own].max() - base) if own.any() else 1)
        self._parts["window"].setData(
            x, np.minimum(y, top * 1.6) if y.size else y, pen=pg.mkPen(look.server, width=1, style=Qt.PenStyle.DashLine)
        )
        shown += [
            Key(f"ACKed by {other}", look.network),
            Key(f"receive window of {other}", look.server, Mark.DASHED),
        ]
        self.set_quantity(f"sequence from {side}", "B")
        self.set_keys(*shown)
        self.fit()

    def select(self, index: int) -> None:
        """Marks a packet."""
        connection = self._connection
        if connection is None or not 0 <= index < connection.segments.size:
            self._mark.setData([], [])
            return
        g = connection.segments
        own = g["d"] == self.side
        base = int(g["s"][own].min()) if own.any() else 0
        row = g[index]
        y = int(row["e"]) - base if row["d"] == self.side else int(row["a"]) - base
        self._mark.setData(
            [(int(row["t"]) - int(g["t"][0])) / 1e9],
            [y],
            brush=pg.mkBrush(None),
            pen=pg.mkPen(theme.current().moss, width=2),
            symbol="o",
        )

    def _nearest(self, x: float, y: float) -> int:
        connection = self._connection
        if connection is None or not self._data_rows.size:
            return -1
        view = self.getPlotItem().vb.viewRange()
        wide, high = max(1e-12, view[0][1] - view[0][0]), max(1e-12, view[1][1] - view[1][0])
        low, top = np.searchsorted(self._x, [x - wide / 40, x + wide / 40])
        rows = self._data_rows[low:top]
        if not rows.size:
            return -1
        g = connection.segments
        base = int(g["s"][g["d"] == self.side].min())
        distance = np.abs(self._x[low:top] - x) / wide + np.abs((g["s"][rows] + g["e"][rows]) / 2 - base - y) / high
        return int(rows[np.argmin(distance)])

    def _clicked(self, event: object) -> None:
        point = self.getPlotItem().vb.mapSceneToView(event.scenePos())  # type: ignore[attr-defined]
        row = self._nearest(point.x(), point.y())
        if row >= 0:
            self.chosen.emit(row)

    def _words_at(self, x: float, y: float) -> str:
        row = self._nearest(x, y)
        if row < 0 or self._connection is None:
            return ""
        g = self._connection.segments[row]
        return (
            f" {duration(int(g['t']) - int(self._connection.segments['t'][0]))}  {kinds.in_words(int(g['kind']))}"
            f" {size(int(g['n']))}, {size(int(g['flight']))} in flight "
        )


def steps(x: Array, y: Array) -> tuple[Array, Array]:
    """Points of a staircase."""
    return (np.repeat(x, 2)[1:], np.repeat(y, 2)[:-1]) if x.size else (x, y)
