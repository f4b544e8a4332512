"""Flow records in Survey: one exporter's volume over time, and what it is made of, largest first."""

import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QLabel, QSplitter, QVBoxLayout, QWidget

from yaffle.desktop import theme
from yaffle.desktop.bars import ShareBar, Trend
from yaffle.desktop.column_table import Column, ColumnTable, TableView
from yaffle.desktop.plots import Plot
from yaffle.records.flow_table import PROTOCOLS
from yaffle.session.flow_parts import DIMENSIONS, FlowPicture
from yaffle.units import count, duration, moment, rate, share, size


class FlowsPanel(QWidget):
    """Asks for another picture by `wanted`; what is shown comes from outside."""

    wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture: FlowPicture | None = None
        self.by, self.exporter = QComboBox(), QComboBox()
        self.by.addItems(DIMENSIONS)
        self.by.setToolTip("What volume is added up by")
        self.exporter.setToolTip("Whose records: exporters along one path count the same traffic each for itself")
        self.exporter.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        for box in (self.by, self.exporter):
            box.activated.connect(lambda _: self.wanted.emit())
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.plot = Plot("", "bit/s")
        self.plot.read_with(self._words_at)
        self.model = ColumnTable(self)
        self.table = TableView("What the flow records are made of")
        self.table.setModel(self.model)
        self.table.horizontalHeader().setStretchLastSection(False)
        self._bars, self._trends = ShareBar(self), Trend(self)
        self.table.setItemDelegateForColumn(1, self._bars)
        self.table.setItemDelegateForColumn(5, self._trends)
        row = QHBoxLayout()
        for part in (QLabel("exporter"), self.exporter, QLabel("by"), self.by):
            row.addWidget(part)
        row.addStretch(1)
        body = QSplitter(Qt.Orientation.Vertical)
        body.addWidget(self.plot)
        body.addWidget(self.table)
        body.setSizes([170, 330])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(body, 1)
        self.show_picture(None)

    @property
    def chosen(self) -> tuple[str, int]:
        """Dimension, and number of the exporter (-1: whichever told most)."""
        number = self.exporter.currentData()
        return self.by.currentText(), -1 if number is None else int(number)

    def show_picture(self, picture: FlowPicture | None) -> None:
        """Shows another picture."""
        self._picture = picture
        self.plot.getPlotItem().clearPlots()
        self.exporter.clear()
        if picture is None or picture.exporter < 0:
            self.words.setText("No flow records here: open a capture of export traffic (NetFlow v5 or v9, IPFIX, sFlow v5), or a file of IPFIX messages.")
            self.model.show_columns([], 0)
            return
        for number, e in picture.exporters:
            self.exporter.addItem(f"{e.address}, domain {e.domain}, {PROTOCOLS[e.protocol]}", number)
        self.exporter.setCurrentIndex(self.exporter.findData(picture.exporter))
        chosen = dict(picture.exporters)[picture.exporter]
        step = duration(int(picture.edges_ns[1] - picture.edges_ns[0]))
        self.words.setText(f"{count(picture.records)} records, {size(picture.octets)} in the period, each spread evenly over its span; intervals of {step}. {chosen.sentence}")
        parts = picture.parts
        self._bars.values, self._trends.trends = [p.octets for p in parts], [p.trend for p in parts]
        self.model.show_columns(
            [
                Column(picture.by, lambda r: parts[r].label, [p.label for p in parts], figures=False),
                Column("share", lambda r: share(parts[r].share), [p.share for p in parts]),
                Column("bytes", lambda r: size(parts[r].octets), [p.octets for p in parts]),
                Column("packets", lambda r: count(round(parts[r].packets)), [p.packets for p in parts]),
                Column("records", lambda r: count(parts[r].records), [p.records for p in parts]),
                Column("trend", lambda r: "", figures=False, meaning="over the period, each line to its own height"),
            ],
            len(parts),
        )
        for section, width in ((1, 120), (2, 80), (3, 80), (4, 70), (5, 110)):
            self.table.setColumnWidth(section, width)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        look = theme.current()
        fill = QColor(look.moss)
        fill.setAlpha(70)
        seconds = (picture.edges_ns - picture.edges_ns[0]) / 1e9
        self.plot.plot(seconds, picture.bits_per_s, stepMode="center", fillLevel=0, brush=pg.mkBrush(fill), pen=pg.mkPen(look.moss, width=1))
        self.plot.axis.base_ns = int(picture.edges_ns[0])
        self.plot.axis.picture = None
        self.plot.setXRange(0, float(seconds[-1]), padding=0)
        self.plot.setYRange(0, max(1.0, float(picture.bits_per_s.max())) * 1.05, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None:
            return ""
        k = int(x * 1e9 / max(1, int(picture.edges_ns[1] - picture.edges_ns[0])))
        return f" {moment(int(picture.edges_ns[k]))}  {rate(float(picture.bits_per_s[k]))} " if 0 <= k < picture.bits_per_s.size else ""

    def dress(self) -> None:
        """Takes the colours of the theme."""
        self.plot.dress()
        self.show_picture(self._picture)
