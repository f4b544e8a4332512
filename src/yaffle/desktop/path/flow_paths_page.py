"""Flow paths over the exporters that reported them, and when a path changed."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QScrollArea, QVBoxLayout, QWidget

from yaffle.desktop.path.flow_path_line import FlowPathLine
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.findings.flow_path import FlowHop, FlowWay
from yaffle.session.path_view import PathPicture
from yaffle.units import count, duration, moment

_NOTHING = (
    "No flow here was reported by two exporters: with flow records of several devices the path of each flow appears"
    " here, where its DSCP changes and its counts begin to fall. A history tells single flows for as long as it keeps"
    " single records: choose a shorter period."
)


class WaysPage(QWidget):
    """`moment_wanted` carries when a way changed."""

    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: PathPicture | None = None
        self._found: list[tuple[int, FlowWay, FlowHop]] = []
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setObjectName("faint")
        self.ways, self.changes = Listing("Flow paths by exporter"), Listing("Path changes")
        self.changes.setToolTip("Enter narrows the period to the change")
        self.changes.entered.connect(self._enter)
        self._body = Panes("path flow paths page: body", Qt.Orientation.Vertical)
        self.line = FlowPathLine()
        held = QScrollArea()
        held.setWidgetResizable(True)
        held.setWidget(self.line)
        self.ways.selectionModel().currentRowChanged.connect(lambda now, _before: self._draw(now.row()))
        self._body.arrange([self.ways, held, self.changes], [230, 160, 150])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self._body, 1)
        self.show_picture(None)

    def show_picture(self, picture: PathPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        ways = picture.ways if picture is not None else []
        changes = picture.changes if picture is not None else []
        self._body.setVisible(bool(ways or changes))
        self.changes.setVisible(bool(changes))
        moved = (
            f"; {count(len(changes))} of them changed in this period" if changes else "; none changed in this period"
        )
        self.words.setText(
            f"{count(len(ways))} paths over two exporters or more{moved}." if ways or changes else _NOTHING
        )
        found = self._found = [(number, way, hop) for number, way in enumerate(ways) for hop in way.hops]
        red = theme.current().red
        self.ways.show_columns(
            [
                Column("path", lambda r: str(found[r][0] + 1), [number for number, _, _ in found], figures=False),
                Column("exporter", lambda r: found[r][2].exporter, figures=False),
                Column("in", lambda r: found[r][2].ingress, figures=False),
                Column("out", lambda r: found[r][2].egress, figures=False),
                Column("flows", lambda r: count(found[r][2].flows), [hop.flows for _, _, hop in found]),
                Column("packets", lambda r: count(round(found[r][2].packets)), [hop.packets for _, _, hop in found]),
                Column(
                    "vs. previous exporter",
                    lambda r: (
                        found[r][2].words if found[r][1].ordered else f"{found[r][2].words} (nothing tells their order)"
                    ),
                    figures=False,
                    color=lambda r: red if found[r][2].lost > found[r][2].uncertainty or found[r][2].remarked else None,
                ),
            ],
            len(found),
            ((0, 44), (1, 220), (2, 100), (3, 100), (4, 60), (5, 80)),
            wide=6,
        )
        worst = next((k for k, (_, _, hop) in enumerate(found) if hop.lost > hop.uncertainty or hop.remarked), 0)
        if found:
            self.ways.selectRow(worst)
        else:
            self.line.show_hops([])
        self.changes.show_columns(
            [
                Column("changed at", lambda r: moment(changes[r].at_ns), [c.at_ns for c in changes]),
                Column(
                    "within",
                    lambda r: duration(changes[r].within_ns),
                    [c.within_ns for c in changes],
                    meaning="how exactly the moment is known",
                ),
                Column("from", lambda r: changes[r].source, [c.source for c in changes], figures=False),
                Column("to", lambda r: changes[r].target, [c.target for c in changes], figures=False),
                Column("hops removed", lambda r: ", ".join(changes[r].gone), figures=False),
                Column("hops added", lambda r: ", ".join(changes[r].come), figures=False),
                Column("before", lambda r: changes[r].before.words, figures=False),
                Column("after", lambda r: changes[r].after.words, figures=False),
            ],
            len(changes),
            ((0, 96), (1, 70), (2, 110), (3, 110), (4, 220), (5, 220), (6, 260), (7, 260)),
            wide=-1,
        )

    def _draw(self, row: int) -> None:
        if 0 <= row < self.ways.columns.order.size:
            self.line.show_hops(self._found[int(self.ways.columns.order[row])][1].hops)

    def _enter(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.changes):
            self.moment_wanted.emit(self.picture.changes[row].at_ns)
