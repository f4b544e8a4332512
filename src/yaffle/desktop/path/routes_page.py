"""Routes that were tested on purpose: which changed, each hop of one with what it adds and loses, and all over time."""

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.route_paths import MOST_RUNS, RouteCourse, RouteHop, path_words
from yaffle.units import count, date_and_moment, duration, from_ms, many, moment, share

_NOTHING = (
    'No route was tested in this period. [[probe]] with kind = "route" in the collector\'s configuration asks for one'
    " again and again; Test now asks once."
)
_STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)
_MARKS = (Mark.LINE, Mark.DASHED, Mark.DOTTED, Mark.DASHED)
_DRAWN = 8  # hops over time: those that add most, and the last


def _share(value: float) -> str:
    return share(value) if math.isfinite(value) else "–"


class RoutesPage(QWidget):
    """`moment_wanted` carries a moment to look at: of a change."""

    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: list[RouteCourse] = []
        self._shown: RouteCourse | None = None
        self._first_ns, self._last_ns = 0, 1
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.routes, self.hops, self.changes = Listing("Routes"), Listing("Hops of a route"), Listing("Ways of a route")
        self.routes.selectionModel().currentRowChanged.connect(lambda now, _before: self._select(now.row()))
        self.changes.entered.connect(self._enter)
        self.changes.setToolTip("Enter narrows the period to the minute around that change")
        self.plot = Plot("RTT to each hop", "s")
        self.plot.read_with(self._words_at)
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in ((self.plot, "over time"), (self.changes, "paths")):
            self.below.addTab(part, name)
        self.body = Panes("path routes page: body", Qt.Orientation.Vertical)
        self.body.arrange([self.routes, self.hops, self.below], [120, 170, 260])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.body, 1)
        self.show_courses(None, 0, 1)

    def show_courses(self, found: list[RouteCourse] | None, first_ns: int, last_ns: int) -> None:
        """Shows the routes of another period; None: none was ever asked for."""
        self._rows = rows = found or []
        self._first_ns, self._last_ns = first_ns, last_ns
        self.body.setVisible(bool(rows))
        changes = sum(len(one.changes) for one in rows)
        runs = sum(one.times_ns.size for one in rows)
        only = f"; of very many only the latest {count(MOST_RUNS)} runs" if runs >= MOST_RUNS else ""
        told = f"{many(len(rows), 'route')}, {many(changes, 'path change')}{only}"
        self.words.setText(told if rows else _NOTHING)
        red = theme.current().red
        self.routes.show_columns(
            [
                Column("test", lambda r: rows[r].name, [one.name for one in rows], figures=False),
                Column("from", lambda r: rows[r].source or "collector", [one.source for one in rows], figures=False),
                Column("to", lambda r: rows[r].target, [one.target for one in rows], figures=False),
                Column("by", lambda r: rows[r].over, [one.over for one in rows], figures=False),
                Column("runs", lambda r: count(rows[r].times_ns.size), [one.times_ns.size for one in rows]),
                Column("not reached", lambda r: share(rows[r].failed_share), [one.failed_share for one in rows]),
                Column("paths", lambda r: count(len(rows[r].paths)), [len(one.paths) for one in rows]),
                Column(
                    "path changes", lambda r: count(len(rows[r].changes)), [len(one.changes) for one in rows],
                    color=lambda r: red if rows[r].changes else None,
                ),
                Column("last path", lambda r: path_words(rows[r].last_path), figures=False),
            ],
            len(rows),
            ((0, 120), (1, 90), (2, 120), (3, 40), (4, 50), (5, 76), (6, 44), (7, 60)),
            wide=8,
        )  # fmt: skip
        again = next((k for k, one in enumerate(rows) if self._shown is not None and _same(one, self._shown)), 0)
        if rows:
            self.routes.selectRow(again)
        self._draw(rows[again] if rows else None)

    def _select(self, row: int) -> None:
        order = self.routes.columns.order
        if 0 <= row < order.size:
            self._draw(self._rows[int(order[row])])

    def _draw(self, one: RouteCourse | None) -> None:
        self._shown = one
        self._show_hops(one.hops if one is not None else [])
        self._show_changes(one)
        self._draw_course(one)

    def _show_hops(self, hops: list[RouteHop]) -> None:
        red = theme.current().red
        self.hops.show_columns(
            [
                Column("hop", lambda r: str(hops[r].ttl), [one.ttl for one in hops]),
                Column("address", lambda r: hops[r].address or "silent", [o.address for o in hops], figures=False),
                Column("name", lambda r: hops[r].name or "–", [one.name for one in hops], figures=False),
                Column("site", lambda r: hops[r].site or "–", [one.site for one in hops], figures=False),
                Column("runs", lambda r: count(hops[r].runs), [one.runs for one in hops]),
                Column("median", lambda r: from_ms(hops[r].median_ms), [o.median_ms for o in hops], meaning="of RTT"),
                Column("p95", lambda r: from_ms(hops[r].p95_ms), [one.p95_ms for one in hops], meaning="of RTT"),
                Column(
                    "added RTT", lambda r: from_ms(hops[r].added_ms), [one.added_ms for one in hops],
                    meaning="median over all runs: RTT less that of the last hop before it that answered",
                ),
                Column(
                    "loss", lambda r: _share(hops[r].lost_share), [one.lost_share for one in hops],
                    color=lambda r: red if hops[r].lost_share >= 0.01 else None,
                    meaning="answered neither by this hop nor by any later one; a target may limit its answers to UDP",
                ),
                Column(
                    "rate-limited", lambda r: _share(hops[r].limited_share), [one.limited_share for one in hops],
                    meaning="not answered by this hop, but by later hops: it limits its answers, nothing is lost",
                ),
            ],
            len(hops),
            ((0, 40), (1, 130), (2, 130), (3, 110), (4, 56), (5, 76), (6, 76), (7, 76), (8, 60), (9, 80)),
            wide=2,
        )  # fmt: skip

    def _show_changes(self, one: RouteCourse | None) -> None:
        changes, paths = (one.changes, one.paths) if one is not None else ([], [])
        begins = one.times_ns[one.path_of >= 0][:1].tolist() if one is not None else []
        rows = [(begins[0], 0, 0)] if begins else []
        rows += [(change.time_ns, change.after, change.ttl) for change in changes]
        ends = [*(row[0] for row in rows[1:]), int(one.times_ns[-1])] if one is not None and rows else []
        spans = [end - row[0] for end, row in zip(ends, rows, strict=True)]
        self.changes.show_columns(
            [
                Column("from", lambda r: date_and_moment(rows[r][0]), [row[0] for row in rows]),
                Column("for", lambda r: duration(spans[r]), spans),
                Column("differs from hop", lambda r: str(rows[r][2]) if rows[r][2] else "–", [row[2] for row in rows]),
                Column("path", lambda r: path_words(paths[rows[r][1]].addresses), figures=False),
            ],
            len(rows),
            ((0, 150), (1, 90), (2, 100)),
            wide=3,
        )  # fmt: skip

    def _enter(self, row: int) -> None:
        one = self._shown
        if one is not None and 0 < row <= len(one.changes):
            self.moment_wanted.emit(one.changes[row - 1].time_ns)

    def _draw_course(self, one: RouteCourse | None) -> None:
        self.plot.getPlotItem().clearPlots()
        for item in [i for i in self.plot.getPlotItem().items if isinstance(i, pg.InfiniteLine) and i.zValue() < 0]:
            self.plot.removeItem(item)
        if one is None:
            return
        look = theme.current()
        seconds, top, keys = (one.times_ns - self._first_ns) / 1e9, 0.0, []
        colors = (look.moss, look.network, look.server, look.client, look.ink, look.faint)
        drawn = [hop for hop in one.hops if hop.known_ms.size]
        if len(drawn) > _DRAWN:
            most = sorted(drawn[:-1], key=lambda hop: -hop.added_ms)[: _DRAWN - 1]
            drawn = [hop for hop in drawn if hop in most or hop is drawn[-1]]
        for k, hop in enumerate(drawn):
            known = np.isfinite(hop.trips_ms)
            pen = pg.mkPen(colors[k % len(colors)], width=1.2, style=_STYLES[k % 4])
            item = self.plot.plot(seconds[known], hop.trips_ms[known] / 1e3, pen=pen)
            item.setDownsampling(auto=True, method="peak")
            top = max(top, float(hop.known_ms.max()) / 1e3)
            keys.append(Key(f"{hop.ttl} {hop.name or hop.address}", colors[k % len(colors)], _MARKS[k % 4]))
        for change in one.changes:
            at = (change.time_ns - self._first_ns) / 1e9
            line = pg.InfiniteLine(at, angle=90, pen=pg.mkPen(look.red, width=1, style=Qt.PenStyle.DashLine))
            line.setZValue(-5)
            self.plot.addItem(line, ignoreBounds=True)
        bad = ~one.well
        if bad.any():
            height = np.full(int(bad.sum()), (top or 1e-3) * 1.03)
            pen = pg.mkPen(look.red, width=1.4)
            self.plot.plot(seconds[bad], height, pen=None, symbol="x", symbolSize=7, symbolPen=pen)
            keys.append(Key("not reached", look.red, Mark.CROSS))
        if one.changes:
            keys.append(Key("path change", look.red, Mark.DASHED))
        self.plot.set_quantity("RTT to each hop", "s")
        self.plot.set_keys(*keys)
        self.plot.show_span(self._first_ns, self._last_ns, top)

    def _words_at(self, x: float, _y: float) -> str:
        one = self._shown
        if one is None or not one.times_ns.size:
            return ""
        k = int(np.argmin(np.abs((one.times_ns - self._first_ns) / 1e9 - x)))
        parts = [f"{hop.ttl}: {from_ms(float(hop.trips_ms[k]))}" for hop in one.hops if math.isfinite(hop.trips_ms[k])]
        return f" {moment(int(one.times_ns[k]))}  {',  '.join(parts) or 'nothing answered'} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._draw_course(self._shown)


def _same(one: RouteCourse, other: RouteCourse) -> bool:
    return (one.name, one.source, one.target) == (other.name, other.source, other.target)
