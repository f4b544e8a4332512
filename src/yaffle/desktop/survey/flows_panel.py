"""Flow records in Survey: one exporter's volume over time, what it is made of, largest first, and a way down into each
line.
"""

from functools import partial

import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import ShareBar, Trend
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.window.live_history import PACES, USUAL
from yaffle.findings.flow_labels import DIMENSIONS, NEXT, exporter_words
from yaffle.session.flow_filter import filter_words
from yaffle.session.flow_parts import RECENT_S, FlowPart, FlowPicture, FlowSettings
from yaffle.units import count, duration, moment, rate, share, size

_DEEPEST = 5


def _kernel_columns(parts: list[FlowPart]) -> list[Column]:
    """What kernels of the senders measured; empty where none did."""
    told = [p.kernel for p in parts]
    return [
        Column(
            "retransmission rate",
            lambda r: share(own.retransmission_rate) if (own := told[r]) else "–",
            [own.retransmission_rate if own else -1.0 for own in told],
            meaning="retransmitted segments of those sent, as counted by the senders' kernels",
        ),
        Column(
            "timeouts",
            lambda r: count(own.timeouts) if (own := told[r]) else "–",
            [own.timeouts if own else -1 for own in told],
        ),
        Column(
            "RTT",
            lambda r: duration(own.round_trip_ns) if (own := told[r]) and own.round_trip_ns >= 0 else "–",
            [own.round_trip_ns if own else -1 for own in told],
            meaning="smoothed RTT of the senders' kernels, mean by packets",
        ),
        Column(
            "min RTT",
            lambda r: duration(own.floor_ns) if (own := told[r]) and own.floor_ns >= 0 else "–",
            [own.floor_ns if own else -1 for own in told],
            meaning="lowest RTT of the senders' kernels",
        ),
        Column(
            "limited by",
            lambda r: own.words if (own := told[r]) else "",
            [own.busy_ns if own else -1 for own in told],
            figures=False,
            meaning="of the time with data outstanding: network, receive window, send buffer",
        ),
    ]


def _recent_rate(bits_per_s: Array, row: int) -> str:
    return rate(float(bits_per_s[row]))


class FlowsPanel(QWidget):
    """Asks for another picture by `wanted`; what is shown comes from outside."""

    wanted = Signal()
    paced = Signal(int)  # how often a history is looked at again, s; 0: held still

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: FlowPicture | None = None
        self.inside: tuple[tuple[str, str], ...] = ()
        self.live = False
        self.by, self.exporter = QComboBox(), QComboBox()
        self.by.addItems(DIMENSIONS)
        self.by.setToolTip("What volume is grouped by")
        self.exporter.setToolTip("Exporters along one path each count the same traffic")
        self.exporter.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.by.activated.connect(lambda _: self.wanted.emit())
        self.exporter.activated.connect(self._other_exporter)
        self.pace = QComboBox()
        for name, seconds in PACES.items():
            self.pace.addItem(name, seconds)
        self.pace.setCurrentText(USUAL)
        self.pace.setToolTip("How often the history is refreshed; paused: nothing moves")
        self.pace.activated.connect(lambda _: self.paced.emit(int(self.pace.currentData())))
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self._where = QLabel()
        self._where.setObjectName("faint")
        self._back = QToolButton()
        self._back.setText("back")
        self._back.setToolTip("Up one level (Backspace)")
        self._back.clicked.connect(self.back)
        self.plot = Plot("volume of flow records", "bit/s")
        self.plot.read_with(self._words_at)
        self.table = Listing("Flow records by dimension")
        self.model = self.table.columns
        self.table.setToolTip("Enter drills down, Backspace goes back")
        self.table.entered.connect(self.down)
        self.table.left.connect(self.back)
        self._bars, self._trends = ShareBar(self), Trend(self)
        self.table.setItemDelegateForColumn(1, self._bars)
        self.table.setItemDelegateForColumn(5, self._trends)
        row = QHBoxLayout()
        for part in (QLabel("exporter"), self.exporter, QLabel("by"), self.by):
            row.addWidget(part)
        row.addWidget(self.pace)
        row.addStretch(1)
        row.addWidget(self._where)
        row.addWidget(self._back)
        body = Panes("survey flows panel: body", Qt.Orientation.Vertical)
        body.arrange([self.plot, self.table], [170, 330])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(body, 1)
        self.show_picture(None)

    @property
    def settings(self) -> FlowSettings:
        """What the user chose to see."""
        number = self.exporter.currentData()
        return FlowSettings(self.by.currentText(), -1 if number is None else int(number), self.inside)

    def forget(self) -> None:
        """Another case: its exporters are others."""
        self.exporter.clear()
        self.inside = ()
        self.by.setCurrentIndex(0)

    def look_into(self, exporter: int, inside: tuple[tuple[str, str], ...], by: str) -> None:
        """Shows another part of the records."""
        self.exporter.setCurrentIndex(self.exporter.findData(exporter))
        self.inside = inside
        self.by.setCurrentText(by)
        self.wanted.emit()

    def _other_exporter(self) -> None:
        self.inside = ()
        self.wanted.emit()

    def down(self, row: int) -> None:
        """Into a line: what it is made of, by the next dimension."""
        picture = self.picture
        if picture is None or row >= len(picture.parts) or len(self.inside) >= _DEEPEST:
            return
        by = picture.settings.by
        taken = {done for done, _ in self.inside} | {by}
        self.inside = (*self.inside, (by, picture.parts[row].label))
        self.by.setCurrentText(
            NEXT[by]
            if NEXT[by] not in taken
            else next(d for d in ("pair", "conversation", *DIMENSIONS) if d not in taken)
        )
        self.wanted.emit()

    def back(self) -> None:
        """Out of the last line entered."""
        if self.inside:
            self.by.setCurrentText(self.inside[-1][0])
            self.inside = self.inside[:-1]
            self.wanted.emit()

    def show_picture(self, picture: FlowPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        self.plot.getPlotItem().clearPlots()
        self._where.setText(
            "within " + " › ".join(label for _, label in self.inside) if self.inside else "Enter drills down"
        )
        self._back.setVisible(bool(self.inside))
        self.pace.setVisible(self.live)
        self._where.setVisible(picture is not None and picture.exporter >= 0)
        if picture is None or picture.exporter < 0:
            self.words.setText(
                "No flow records here: open a capture, a capture of export traffic (NetFlow v5 or v9, IPFIX, sFlow v5),"
                " a file of IPFIX messages, or the folder of a history that yaffle listen writes."
            )
            self.model.show_columns([], 0)
            return
        self.exporter.clear()
        for number, e in picture.exporters:
            self.exporter.addItem(exporter_words(e), number)
        self.exporter.setCurrentIndex(self.exporter.findData(picture.exporter))
        chosen = dict(picture.exporters)[picture.exporter]
        step = duration(int(picture.edges_ns[1] - picture.edges_ns[0]))
        level = f", kept as {picture.words}" if picture.words else ""
        self.words.setText(
            f"{count(picture.records)} records, {size(picture.octets)} in the period{level}, each spread evenly over"
            f" its span; intervals of {step}. Whole history: {chosen.sentence}{filter_words(picture.settings.filter)}"
        )
        self._fill(picture)
        look = theme.current()
        fill = QColor(look.moss)
        fill.setAlpha(70)
        seconds = (picture.edges_ns - picture.edges_ns[0]) / 1e9
        self.plot.plot(
            seconds,
            picture.bits_per_s,
            stepMode="center",
            fillLevel=0,
            brush=pg.mkBrush(fill),
            pen=pg.mkPen(look.moss, width=1),
        )
        self.plot.axis.base_ns = int(picture.edges_ns[0])
        self.plot.axis.picture = None
        self.plot.setXRange(0, float(seconds[-1]), padding=0)
        self.plot.setYRange(0, max(1.0, float(picture.bits_per_s.max())) * 1.05, padding=0)

    def _fill(self, picture: FlowPicture) -> None:
        parts = picture.parts
        self._bars.values, self._trends.trends = [p.octets for p in parts], [p.trend for p in parts]
        columns = [
            Column(picture.settings.by, lambda r: parts[r].label, [p.label for p in parts], figures=False),
            Column("share", lambda r: share(parts[r].share), [p.share for p in parts]),
            Column("bytes", lambda r: size(parts[r].octets), [p.octets for p in parts]),
            Column("packets", lambda r: count(round(parts[r].packets)), [p.packets for p in parts]),
            Column("records", lambda r: count(parts[r].records), [p.records for p in parts]),
            Column("trend", lambda r: "", figures=False, meaning="over the period, each row scaled separately"),
        ]
        if any(p.kernel for p in parts):
            columns += _kernel_columns(parts)
        if self.live:
            recent = picture.recent_bps
            for k, seconds in enumerate(RECENT_S):
                words = f"{seconds} s" if seconds < 60 else f"{seconds // 60} min"
                columns.append(
                    Column(
                        f"last {words}",
                        partial(_recent_rate, recent[:, k]),
                        recent[:, k],
                        meaning=f"mean of the last {words} of the period",
                    )
                )
        if any(p.measured for p in parts):
            columns.append(
                Column(
                    "measured by the exporter",
                    lambda r: parts[r].measured,
                    figures=False,
                    meaning="elements beside the counts: of enterprises as ENTERPRISE/NUMBER",
                )
            )
        self.table.show_columns(columns, len(parts), ((1, 120), (2, 80), (3, 104), (4, 76), (5, 110)))

    def _words_at(self, x: float, _y: float) -> str:
        picture = self.picture
        if picture is None:
            return ""
        k = int(x * 1e9 / max(1, int(picture.edges_ns[1] - picture.edges_ns[0])))
        return (
            f" {moment(int(picture.edges_ns[k]))}  {rate(float(picture.bits_per_s[k]))} "
            if 0 <= k < picture.bits_per_s.size
            else ""
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.show_picture(self.picture)
