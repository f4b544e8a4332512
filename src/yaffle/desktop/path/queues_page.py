"""Queues inside the network, as nodes told of them: which stood, one over time with who filled it, paths of flows."""

from collections.abc import Callable
from functools import partial

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QInputDialog, QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.path.change_panel import LEAST_S, ChangePanel
from yaffle.desktop.path.node_line import NodeLine
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing, Offers
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.hops.queues import Congestion
from yaffle.session.hops_view import FlowAtHop, HopsPicture, QueueCourse, along_path, edge_rows
from yaffle.units import count, date_and_moment, duration, moment, share, size

COURSE, FLOWS, CHANGES, EDGES = range(4)  # what stands below the queues
_NOTHING = (
    "No node told anything of single packets here. Traces inside IPv6 packets (IOAM) and switches' reports about"
    " packets (INT, UDP port 32766) in a capture show which queue stood, who filled it, and which path packets took."
)


class QueuesPage(QWidget):
    """`chosen` carries a stretch whose course is wanted; `moment_wanted` a moment to look at; `named` a node and what
    the user calls it.
    """

    chosen = Signal(object)
    moment_wanted = Signal(object)
    named = Signal(int, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: HopsPicture | None = None
        self._course: QueueCourse | None = None
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.queues, self.flows, self.edges = (
            Listing("Queues that stood"),
            Listing("Flows by node"),
            Listing("Edges and exporters"),
        )
        self.changes = ChangePanel()
        self.queues.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.queues.entered.connect(self._enter)
        self.queues.setToolTip("Enter narrows the period to that stretch")
        for listing, node_of in ((self.queues, self._node_of_queue), (self.flows, self._node_of_flow)):
            listing.row_offers = partial(self._offers, node_of)
        self.line = NodeLine()
        self.flows.selectionModel().currentRowChanged.connect(lambda now, _before: self._draw_line(now.row()))
        flows = Panes("path queues page: flows", Qt.Orientation.Vertical)
        flows.arrange([self.flows, self.line], [190, 120])
        self.changes.moment_wanted.connect(self.moment_wanted)
        self.waited = Plot("waiting in the queue", "s", relative=True)
        self.fill = Plot("who came", "bit/s", relative=True)
        for plot in (self.waited, self.fill):
            plot.share_cursor([self.waited, self.fill])
        self.waited.read_with(self._read)
        self.waited.offer_decades(LEAST_S)
        drawn = Panes("path queues page: drawn", Qt.Orientation.Vertical)
        drawn.arrange([self.waited, self.fill], [150, 110])
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in (
            (drawn, "over time"),
            (flows, "flows"),
            (self.changes, "path changes"),
            (self.edges, "edges and exporters"),
        ):
            self.below.addTab(part, name)
        self.body = Panes("path queues page: body", Qt.Orientation.Vertical)
        self.body.arrange([self.queues, self.below], [200, 330])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.body, 1)
        self.show_picture(None)

    def show_picture(self, picture: HopsPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        self.body.setVisible(picture is not None)
        queues = picture.queues if picture is not None else []
        changes = picture.changes if picture is not None else []
        if picture is None:
            self.words.setText(_NOTHING)
        else:
            notes = "".join(f" {note[:1].upper()}{note[1:]}." for note in picture.notes)
            self.words.setText(
                f"{count(len(queues))} times a queue stood, {count(len(changes))} path changes in this period.{notes}"
            )
        self._show_queues(queues)
        self._show_flows(picture.flows if picture is not None else [])
        self.changes.show_picture(picture)
        self._show_edges(picture)
        if queues:
            self.queues.selectRow(0)
        else:
            self.show_course(None)

    def _show_queues(self, found: list[Congestion]) -> None:
        red = theme.current().red
        worst = [max((v.added_ns for v in one.victims), default=0) for one in found]
        self.queues.show_columns(
            [
                Column("node", lambda r: self._called(found[r].node), [one.node for one in found], figures=False),
                Column("egress", lambda r: _known(found[r].egress), [one.egress for one in found]),
                Column("from", lambda r: moment(found[r].first_ns), [one.first_ns for one in found]),
                Column(
                    "stood for",
                    lambda r: duration(found[r].last_ns - found[r].first_ns),
                    [one.last_ns - one.first_ns for one in found],
                ),
                Column("peak wait", lambda r: duration(found[r].peak_delay_ns), [one.peak_delay_ns for one in found]),
                Column(
                    "peak depth",
                    lambda r: size(found[r].peak_queue) if found[r].peak_queue > 0 else "–",
                    [one.peak_queue for one in found],
                ),
                Column(
                    "filled by",
                    lambda r: self._filled(found[r]),
                    figures=False,
                    meaning="flows with a tenth or more of the bytes that came, largest first",
                ),
                Column("victims", lambda r: count(len(found[r].victims)), [len(one.victims) for one in found]),
                Column(
                    "longer by",
                    lambda r: duration(worst[r]) if worst[r] else "–",
                    worst,
                    meaning="the most that another flow waited longer than it usually does there",
                ),
                Column(
                    "dropped",
                    lambda r: count(found[r].dropped),
                    [one.dropped for one in found],
                    color=lambda r: red if found[r].dropped else None,
                ),
            ],
            len(found),
            ((0, 80), (1, 48), (2, 92), (3, 62), (4, 66), (5, 66), (7, 60), (8, 62), (9, 52)),
            wide=6,
        )

    def _filled(self, one: Congestion) -> str:
        assert self.picture is not None
        return "; ".join(f"{share(own.share)} {self.picture.name(one, k)}" for k, own in enumerate(one.culprits))

    def _show_flows(self, found: list[FlowAtHop]) -> None:
        self.flows.show_columns(
            [
                Column("flow", lambda r: found[r].name, [one.name for one in found], figures=False),
                Column(
                    "node", lambda r: self._queue(found[r].hop.node, found[r].hop.egress),
                    [one.hop.node for one in found], figures=False,
                ),
                Column("packets", lambda r: count(found[r].hop.samples), [one.hop.samples for one in found]),
                Column("min", lambda r: duration(found[r].hop.least_ns), [one.hop.least_ns for one in found]),
                Column("median", lambda r: duration(round(found[r].hop.median_ns)), [o.hop.median_ns for o in found]),
                Column("p95", lambda r: duration(round(found[r].hop.p95_ns)), [one.hop.p95_ns for one in found]),
                Column("max", lambda r: duration(found[r].hop.most_ns), [one.hop.most_ns for one in found]),
                Column("path", lambda r: found[r].path, figures=False),
            ],
            len(found),
            ((0, 230), (1, 160), (2, 60), (3, 64), (4, 64), (5, 64), (6, 64)),
            wide=7,
        )  # fmt: skip

    def _show_edges(self, picture: HopsPicture | None) -> None:
        rows = edge_rows(picture) if picture is not None else []
        self.edges.show_columns(
            [
                Column("flow", lambda r: rows[r].flow, [one.flow for one in rows], figures=False),
                Column("told by", lambda r: rows[r].teller, [one.teller for one in rows], figures=False),
                Column("packets", lambda r: count(rows[r].packets), [one.packets for one in rows]),
                Column("lost", lambda r: _counted(rows[r].lost), [one.lost for one in rows]),
                Column("reordered", lambda r: _counted(rows[r].reordered), [one.reordered for one in rows]),
                Column("doubled", lambda r: _counted(rows[r].doubled), [one.doubled for one in rows]),
                Column(
                    "delay", lambda r: duration(_whole(rows[r].middle_ns)), [one.middle_ns for one in rows],
                    meaning="of edges: median above the least; of exporters: the mean that they told",
                ),
                Column("most", lambda r: duration(_whole(rows[r].most_ns)), [one.most_ns for one in rows]),
            ],
            len(rows),
            ((1, 230), (2, 64), (3, 50), (4, 70), (5, 60), (6, 70), (7, 70)),
            wide=0,
        )  # fmt: skip

    def _called(self, node: int) -> str:
        return self.picture.nodes[node].removeprefix("node ") if self.picture is not None else str(node)

    def _queue(self, node: int, egress: int) -> str:
        return self.picture.queue_name(node, egress) if self.picture is not None else ""

    def _node_of_queue(self, row: int) -> int:
        return self.picture.queues[row].node if self.picture is not None else -1

    def _node_of_flow(self, row: int) -> int:
        return self.picture.flows[row].hop.node if self.picture is not None else -1

    def _offers(self, node_of: Callable[[int], int], row: int) -> Offers:
        return [("Name of the node…", partial(self.name_node, node_of(row)))]

    def name_node(self, node: int) -> None:
        """Asks for another name of a node; an empty one is its number again."""
        if self.picture is None or node not in self.picture.nodes:
            return
        now = self.picture.nodes[node]
        name, sure = QInputDialog.getText(self, "Name of the node", f"Name for node {node}:", text=now)
        if sure:
            self.named.emit(node, name.strip())

    def _draw_line(self, row: int) -> None:
        order = self.flows.columns.order
        if self.picture is None or not 0 <= row < order.size:
            self.line.show_hops([])
            return
        own = self.picture.flows[int(order[row])].flow
        self.line.show_hops([(self.picture.nodes[hop.node], hop) for hop in along_path(own)])

    def _choose(self, row: int) -> None:
        order = self.queues.columns.order
        if self.picture is not None and 0 <= row < order.size:
            self.chosen.emit(self.picture.queues[int(order[row])])

    def _enter(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.queues):
            self.moment_wanted.emit(self.picture.queues[row].first_ns)

    def show_course(self, found: QueueCourse | None) -> None:
        """Draws one queue over time."""
        self._course = found
        for plot in (self.waited, self.fill):
            plot.getPlotItem().clear()
        if found is None:
            self.waited.set_quantity("a queue over time stands here")
            self.fill.set_quantity("")
            return
        look, first = theme.current(), found.first_ns
        seconds = (found.arrived_ns - first) / 1e9
        delay_s = np.maximum(found.delay_ns / 1e9, LEAST_S)
        self.waited.plot(seconds, delay_s, pen=None, symbol="o", symbolSize=3, symbolBrush=look.moss,
                        symbolPen=None)  # fmt: skip
        keys = [Key("a packet", look.moss, Mark.DOT)]
        top = float(found.delay_ns.max()) / 1e9 if found.delay_ns.size else 1e-6
        if found.dropped_ns.size:
            at = (found.dropped_ns - first) / 1e9
            self.waited.plot(at, np.full(at.size, top * 1.05), pen=None, symbol="x", symbolSize=7,
                            symbolPen=pg.mkPen(look.red, width=1.4))  # fmt: skip
            keys.append(Key("dropped", look.red, Mark.CROSS))
        self.waited.set_quantity(f"waited at {found.name}", "s")
        self.waited.set_keys(*keys)
        self._draw_fill(found)
        span = max(1e-6, (found.last_ns - first) / 1e9)
        for plot in (self.waited, self.fill):
            plot.axis.base_ns = first
            plot.axis.picture = None
            plot.setXRange(0, span, padding=0)
        self.waited.show_values(top)

    def _draw_fill(self, found: QueueCourse) -> None:
        """Who came, one upon the other: the culprits, then all others."""
        look = theme.current()
        width_s = np.diff(found.edges_ns) / 1e9
        x = (found.edges_ns[:-1] - found.first_ns) / 1e9
        base = np.zeros(x.size)
        keys = []
        shades = [look.moss, look.ink, look.faint, look.red]
        for k, name in enumerate(found.fillers):
            height = found.octets[k] * 8 / width_s
            if not height.any():
                continue
            color = pg.mkColor(shades[k % len(shades)] if k < len(found.fillers) - 1 else look.line)
            color.setAlpha(max(70, 210 - 45 * (k // len(shades))))
            bars = pg.BarGraphItem(x0=x, width=width_s, y0=base, height=height, brush=color, pen=None)
            self.fill.addItem(bars)
            base = base + height
            keys.append(Key(name, color.name(), Mark.SQUARE))
        self.fill.set_quantity("bytes that came", "bit/s")
        self.fill.set_keys(*keys[:5])
        self.fill.setYRange(0, max(1.0, float(base.max())) * 1.08, padding=0)

    def _read(self, x: float, _y: float) -> str:
        found = self._course
        if found is None or not found.arrived_ns.size:
            return ""
        k = int(np.argmin(np.abs((found.arrived_ns - found.first_ns) / 1e9 - x)))
        depth = f", {size(int(found.queue[k]))} before it" if found.queue[k] >= 0 else ""
        return f" {date_and_moment(int(found.arrived_ns[k]))[11:]}  waited {duration(int(found.delay_ns[k]))}{depth} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.waited, self.fill):
            plot.dress()
        self.changes.dress()
        self.show_course(self._course)


def _known(number: int) -> str:
    return str(number) if number >= 0 else "–"


def _counted(number: int) -> str:
    return count(number) if number >= 0 else "–"


def _whole(value: float) -> int | None:
    return None if value != value else round(value)
