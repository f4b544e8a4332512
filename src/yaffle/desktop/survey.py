"""Survey: volume and troubles of the focus over time; what the traffic is made of."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QHeaderView, QLabel, QSplitter, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QVBoxLayout, QWidget

from yaffle.desktop import theme
from yaffle.desktop.column_table import Column, ColumnTable, TableView
from yaffle.desktop.plots import Plot
from yaffle.session.investigation import Investigation
from yaffle.session.others import OtherGroup, other_groups
from yaffle.session.survey import Series, make_up, series, trouble_counts
from yaffle.transport.bursts import bursts
from yaffle.units import count, duration, moment, rate, share, size

_BINS = 400


class _ShareBar(QStyledItemDelegate):
    """A share as a bar behind its figure."""

    def __init__(self, parent: QWidget, shares: list[float]) -> None:
        super().__init__(parent)
        self.shares = shares

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        look = theme.current()
        rect = QRectF(option.rect)  # type: ignore[attr-defined]
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.fillRect(rect, QColor(look.moss_soft))
        row = int(index.model().order[index.row()])  # type: ignore[attr-defined]
        colour = QColor(look.moss)
        colour.setAlpha(110)
        painter.fillRect(QRectF(rect.left() + 2, rect.top() + 4, (rect.width() - 52) * self.shares[row] / max(self.shares), rect.height() - 8), colour)
        painter.setPen(QColor(look.ink))
        painter.drawText(rect.adjusted(0, 0, -6, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(index.data()))


class _MakeUp(QWidget):
    """One ranked list of what the traffic is made of."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.model = ColumnTable(self)
        self.table = TableView(f"Traffic by {title}")
        self.table.setModel(self.model)
        self.table.horizontalHeader().setStretchLastSection(False)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._bars = _ShareBar(self, [])
        self.table.setItemDelegateForColumn(1, self._bars)
        self._title = title
        heading = QLabel(f"by {title}")
        heading.setObjectName("heading")
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 2, 2, 2)
        column.addWidget(heading)
        column.addWidget(self.table)

    def show_parts(self, parts: list) -> None:
        """Shows another make-up."""
        self._bars.shares = [p.share for p in parts]
        self.model.show_columns(
            [
                Column(self._title, lambda r: parts[r].label, [p.label for p in parts], figures=False),
                Column("share", lambda r: share(parts[r].share), [p.share for p in parts]),
                Column("bytes", lambda r: size(parts[r].octets), [p.octets for p in parts]),
            ],
            len(parts),
        )
        self.table.setColumnWidth(1, 84)
        self.table.setColumnWidth(2, 68)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)


class _Others(QWidget):
    """What is not TCP: whether it is answered, and how fast."""

    def __init__(self) -> None:
        super().__init__()
        self.model = ColumnTable(self)
        self.table = TableView("Conversations that are not TCP")
        self.table.setModel(self.model)
        self.table.horizontalHeader().setStretchLastSection(False)
        heading = QLabel("answers outside TCP")
        heading.setObjectName("heading")
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 2, 2, 2)
        column.addWidget(heading)
        column.addWidget(self.table)

    def show_groups(self, groups: list[OtherGroup]) -> None:
        """Shows other groups."""
        self.model.show_columns(
            [
                Column("service", lambda r: groups[r].label, [g.label for g in groups], figures=False),
                Column("median", lambda r: duration(groups[r].median_ns), [g.median_ns or 0 for g in groups], meaning="time to the answer"),
                Column("95th pct.", lambda r: duration(groups[r].p95_ns), [g.p95_ns or 0 for g in groups], meaning="time to the answer"),
                Column("open", lambda r: count(groups[r].unanswered), [g.unanswered for g in groups], meaning="asked and not answered"),
            ],
            len(groups),
        )
        for section, width in ((1, 66), (2, 72), (3, 46)):
            self.table.setColumnWidth(section, width)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)


class Survey(QWidget):
    """The second station."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._data: Series | None = None
        self._words = QLabel()
        self.volume = Plot("volume", "bit/s")
        self.troubles = Plot("troubles", None)
        self.troubles.setXLink(self.volume)
        self._curve = self.volume.plot(stepMode="center", fillLevel=0)
        self._bars = self.troubles.plot(stepMode="center", fillLevel=0)
        self.volume.read_with(self._read)
        self.troubles.read_with(self._read)
        self.lists = {name: _MakeUp(name) for name in ("application", "host", "pair")}
        lower = QSplitter(Qt.Orientation.Horizontal)
        self.others = _Others()
        left = QSplitter(Qt.Orientation.Vertical)
        left.addWidget(self.lists["application"])
        left.addWidget(self.others)
        left.setSizes([150, 110])
        for part in (left, self.lists["host"], self.lists["pair"]):
            lower.addWidget(part)
        upper = QSplitter(Qt.Orientation.Vertical)
        upper.addWidget(self.volume)
        upper.addWidget(self.troubles)
        upper.setSizes([190, 90])
        body = QSplitter(Qt.Orientation.Vertical)
        body.addWidget(upper)
        body.addWidget(lower)
        body.setSizes([280, 260])
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.addWidget(self._words)
        column.addWidget(body, 1)
        self._stale = True
        self._undo = [investigation.opened_changed.connect(self._changed), investigation.focus_changed.connect(self._changed)]
        self._changed()

    def _changed(self) -> None:
        self._stale = True
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        self.refresh()

    def refresh(self) -> None:
        """Computes what is shown, if the focus moved since."""
        if not self._stale:
            return
        self._stale = False
        evidence = self._model.evidence
        if evidence is None:
            self._words.setText("Open a capture with Ctrl+O: volume, troubles and make-up will stand here.")
            self._curve.setData([0, 1], [0])
            self._bars.setData([0, 1], [0])
            for part in self.lists.values():
                part.show_parts([])
            self.others.show_groups([])
            return
        first, last = self._model.focus.period or (evidence.first_ns, evidence.last_ns)
        mask = self._model.packets_in_focus()
        data = self._data = series(evidence, mask, first, last, _BINS)
        look = theme.current()
        seconds = (data.edges_ns - first) / 1e9
        for plot in (self.volume, self.troubles):
            plot.axis.base_ns = first
            plot.axis.picture = None
        moss, red = QColor(look.moss), QColor(look.red)
        moss.setAlpha(90)
        self._curve.setData(seconds, data.bits_per_s, pen=pg.mkPen(look.moss), brush=pg.mkBrush(moss), fillLevel=0)
        red.setAlpha(120)
        self._bars.setData(seconds, data.troubles, pen=pg.mkPen(look.red), brush=pg.mkBrush(red), fillLevel=0)
        self.volume.setXRange(float(seconds[0]), float(seconds[-1]), padding=0)
        self.volume.setYRange(0, max(1.0, float(data.bits_per_s.max())) * 1.05, padding=0)
        self.troubles.setYRange(0, max(1.0, float(data.troubles.max())) * 1.1, padding=0)
        step = duration(int(np.diff(data.edges_ns[:2])[0]))
        peaks = bursts(evidence.analysis.capture.packets, mask, first, last).peak_bps
        short = ", ".join(f"{rate(peak)} in {span}" for peak, span in zip(peaks, ("1 ms", "10 ms", "100 ms"), strict=True))
        named = ", ".join(f"{count(n)} {name}" for name, n in trouble_counts(evidence, mask) if n) or "no segment in trouble"
        self._words.setText(f"{count(int(mask.sum()))} packets, {size(float(data.octets.sum()))}, {named}; highest {short}; intervals of {step}")
        for name, part in self.lists.items():
            part.show_parts(make_up(evidence, mask, name))
        self.others.show_groups(other_groups(evidence, first, last))

    def _read(self, x: float, _y: float) -> str:
        data = self._data
        if data is None:
            return ""
        at = int(data.edges_ns[0] + x * 1e9)
        k = int(np.searchsorted(data.edges_ns, at, "right")) - 1
        if not 0 <= k < data.octets.size:
            return ""
        return f" {moment(int(data.edges_ns[k]))}  {rate(float(data.bits_per_s[k]))}  {int(data.packets[k])} packets  {int(data.troubles[k])} in trouble "
