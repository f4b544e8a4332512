"""Flows that took another path: each change, and what lies before and after it side by side."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.hops.paths import PathChange
from yaffle.session.hops_view import HopsPicture, path_words
from yaffle.session.path_change import ChangeCourse, NodeSide
from yaffle.units import count, duration, moment

LEAST_S = 1e-7  # from which on decades are drawn


class ChangePanel(QWidget):
    """`chosen` carries a change whose two sides are wanted; `moment_wanted` a moment to look at."""

    chosen = Signal(object)
    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture: HopsPicture | None = None
        self.course: ChangeCourse | None = None
        self.changes, self.before, self.after = Listing("Changes"), Listing("Before"), Listing("After")
        self.changes.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.changes.entered.connect(self._enter)
        self.changes.setToolTip("Enter narrows the period to that change")
        self.plot = Plot("delay in nodes", "s", relative=True)
        self.plot.read_with(self._read)
        self.plot.offer_decades(LEAST_S, at_first=True)
        sides = Panes("path change panel: sides", Qt.Orientation.Horizontal)
        sides.arrange([self.before, self.plot, self.after], [280, 340, 280])
        body = Panes("path change panel: body", Qt.Orientation.Vertical)
        body.arrange([self.changes, sides], [110, 220])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(body)

    def show_picture(self, picture: HopsPicture | None) -> None:
        """Shows another picture."""
        self._picture = picture
        found = picture.changes if picture is not None else []
        self.changes.show_columns(
            [
                Column("when", lambda r: moment(found[r].time_ns), [one.time_ns for one in found]),
                Column("flow", lambda r: picture.name(found[r]) if picture else "", figures=False),
                Column("before", lambda r: self._path(found[r].before), figures=False),
                Column("after", lambda r: self._path(found[r].after), figures=False),
            ],
            len(found),
            ((0, 120), (1, 260), (2, 240)),
            wide=3,
        )
        if found:
            self.changes.selectRow(0)
        else:
            self.show_course(None)

    def _path(self, nodes: tuple[int | None, ...]) -> str:
        return path_words(nodes, self._picture.nodes if self._picture is not None else {})

    def _chosen(self, row: int) -> PathChange | None:
        found = self._picture.changes if self._picture is not None else []
        return found[row] if 0 <= row < len(found) else None

    def _choose(self, row: int) -> None:
        order = self.changes.columns.order
        one = self._chosen(int(order[row])) if 0 <= row < order.size else None
        if one is not None:
            self.chosen.emit(one)

    def _enter(self, row: int) -> None:
        if (one := self._chosen(row)) is not None:
            self.moment_wanted.emit(one.time_ns)

    def show_course(self, found: ChangeCourse | None) -> None:
        """Draws both sides of a change."""
        self.course = found
        self.plot.getPlotItem().clear()
        names = self._picture.nodes if self._picture is not None else {}
        _show_side(self.before, found.before if found else [], "node before", names)
        _show_side(self.after, found.after if found else [], "node after", names)
        if found is None or not found.arrived_ns.size:
            self.plot.set_quantity("both sides of a change stand here")
            return
        look, first = theme.current(), found.first_ns
        keys = []
        for after, color, words in ((False, look.moss, "before"), (True, look.network, "after")):
            own = (found.arrived_ns >= found.change.time_ns) == after
            x, y = (found.arrived_ns[own] - first) / 1e9, np.maximum(found.delay_ns[own] / 1e9, LEAST_S)
            self.plot.plot(x, y, pen=None, symbol="o", symbolSize=3, symbolBrush=color, symbolPen=None)
            told = duration(round(found.median_ns(after=after))) if own.any() else "none"
            keys.append(Key(f"{words}, median {told}", color, Mark.DOT))
        line = pg.InfiniteLine(
            (found.change.time_ns - first) / 1e9, 90, pen=pg.mkPen(look.ink, style=Qt.PenStyle.DotLine)
        )
        self.plot.addItem(line, ignoreBounds=True)
        self.plot.set_quantity("delay in nodes", "s")
        self.plot.set_keys(*keys)
        self.plot.axis.base_ns = first
        self.plot.axis.picture = None
        self.plot.setXRange(0, max(1e-6, (found.last_ns - first) / 1e9), padding=0)
        self.plot.show_values(float(found.delay_ns.max()) / 1e9)

    def _read(self, x: float, _y: float) -> str:
        found = self.course
        if found is None or not found.arrived_ns.size:
            return ""
        k = int(np.argmin(np.abs((found.arrived_ns - found.first_ns) / 1e9 - x)))
        return f" {moment(int(found.arrived_ns[k]), 6)}  {duration(int(found.delay_ns[k]))} in nodes "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.show_course(self.course)


def _show_side(listing: Listing, side: list[NodeSide], title: str, names: dict[int, str]) -> None:
    listing.show_columns(
        [
            Column(title, lambda r: path_words((side[r].node,), names), figures=False),
            Column("packets", lambda r: count(side[r].packets), [one.packets for one in side]),
            Column("median", lambda r: duration(_whole(side[r].median_ns)), [one.median_ns for one in side]),
            Column("p95", lambda r: duration(_whole(side[r].p95_ns)), [one.p95_ns for one in side]),
        ],
        len(side),
        ((1, 56), (2, 62), (3, 62)),
        wide=0,
    )


def _whole(value: float) -> int | None:
    return None if value != value else round(value)
