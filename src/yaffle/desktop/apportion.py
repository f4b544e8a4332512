"""Apportion: who waits on what, with ledger bars; and how the selected waits moved over time, beside the volume."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QHBoxLayout, QLabel, QSplitter, QTreeView, QVBoxLayout, QWidget

from yaffle.desktop import theme
from yaffle.desktop.ledger_bar import LedgerDelegate, PartyKey
from yaffle.desktop.plots import Plot
from yaffle.desktop.wait_tree import COLUMNS, WaitTree
from yaffle.ledger import causes
from yaffle.session.apportion import Group, over_time
from yaffle.session.investigation import Investigation
from yaffle.session.survey import series
from yaffle.units import count, duration, moment, rate

_BINS = 180


class _Tree(QTreeView):
    """Enter narrows the focus to a row, Ctrl+C copies what is open."""

    chosen = Signal(QModelIndex)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.chosen.emit(self.currentIndex())
        elif event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.copied())
        else:
            super().keyPressEvent(event)

    def copied(self) -> str:
        """The open rows as text, columns apart by tabs."""
        lines = ["\t".join(COLUMNS[:-1])]
        index = self.model().index(0, 0)
        while index.isValid():
            depth, up = 0, index.parent()
            while up.isValid():
                depth, up = depth + 1, up.parent()
            cells = [str(index.siblingAtColumn(c).data()) for c in range(len(COLUMNS) - 1)]
            lines.append("  " * depth + "\t".join(cells))
            index = self.indexBelow(index)
        return "\n".join(lines)


class Apportion(QWidget):
    """The third station."""

    examine_wanted = Signal(int)

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self.tree_model = WaitTree(self)
        self.tree = _Tree()
        self.tree.setModel(self.tree_model)
        self.tree.setAccessibleName("Who waits on what")
        self.tree.setUniformRowHeights(True)
        self.tree.setAlternatingRowColors(True)
        self.tree.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.tree.setFont(theme.figures_font())
        self.tree.setItemDelegateForColumn(len(COLUMNS) - 1, LedgerDelegate(self))
        self.tree.setExpandsOnDoubleClick(False)
        self.tree.doubleClicked.connect(self._chosen)
        self.tree.chosen.connect(self._chosen)
        self.tree.selectionModel().currentChanged.connect(lambda *_: self._show_time())
        for column, width in enumerate((250, 76, 48, 66, 72, 66, 60, 76, 140)):
            self.tree.setColumnWidth(column, width)
        self._words = QLabel()
        self._words.setObjectName("heading")
        self._of = QLabel()
        self._of.setObjectName("faint")
        top = QHBoxLayout()
        top.addWidget(self._words, 1)
        top.addWidget(PartyKey())
        self.waits = Plot("waiting at once")
        self.waits.setToolTip("Waiting per second, by party: how many were waiting at once. Wheel zooms, R resets.")
        self.volume = Plot("all", "bit/s")
        self.volume.setXLink(self.waits)
        self._edges = np.zeros(2, np.int64)
        self._sums = np.zeros((1, 4))
        self._rates = np.zeros(1)
        self.waits.read_with(self._read)
        self.volume.read_with(self._read)
        plots = QSplitter(Qt.Orientation.Vertical)
        plots.addWidget(self.waits)
        plots.addWidget(self.volume)
        plots.setSizes([150, 80])
        lower = QWidget()
        under = QVBoxLayout(lower)
        under.setContentsMargins(0, 0, 0, 0)
        under.addWidget(self._of)
        under.addWidget(plots, 1)
        body = QSplitter(Qt.Orientation.Vertical)
        body.addWidget(self.tree)
        body.addWidget(lower)
        body.setSizes([280, 260])
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(8, 6, 8, 6)
        column_.addLayout(top)
        column_.addWidget(body, 1)
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
        """Groups the waits in focus again, if it moved since; opens the tree where the trail leads."""
        if not self._stale:
            return
        self._stale = False
        evidence = self._model.evidence
        self.tree_model.show_waits(evidence, self._model.filtered_rows)
        if evidence is None:
            self._words.setText("Open a capture with Ctrl+O: who waits on what will stand here.")
            self._show_time()
            return
        rows = self._model.rows
        total = int(evidence.waits.wait_ns[rows].sum())
        parts = evidence.waits.parties[rows].sum(axis=0)
        named = ", ".join(f"{party} {100 * parts[i] / total:.0f} %" for i, party in enumerate(causes.PARTIES) if total and parts[i] > 0.004 * total)
        self._words.setText(
            f"{count(rows.size)} exchanges, {duration(total)} of waiting{': ' + named if named else ''}"
            if rows.size
            else "Nobody waits in this focus: widen the period or the trail."
        )
        trail = self._model.focus.trail
        index = self.tree_model.find(trail) if trail else self.tree_model.index(0, 0)
        if index.isValid():
            self.tree.expand(index)
            up = index.parent()
            while up.isValid():
                self.tree.expand(up)
                up = up.parent()
            self.tree.setCurrentIndex(index)
            self.tree.scrollTo(index, QAbstractItemView.ScrollHint.EnsureVisible)
        self._show_time()

    def selected(self) -> Group | None:
        """The group of the current row."""
        return self.tree_model.group(self.tree.currentIndex()) if self.tree.currentIndex().isValid() else None

    def _chosen(self, index: QModelIndex) -> None:
        group = self.tree_model.group(index)
        if group is None:
            return
        if group.level == 3:
            self.examine_wanted.emit(int(group.trail[3]))
        else:
            self._model.look(self._model.focus.with_trail(group.trail))

    def _show_time(self) -> None:
        evidence, group = self._model.evidence, self.selected()
        for plot in (self.waits, self.volume):
            for item in list(plot.getPlotItem().items):
                if isinstance(item, (pg.BarGraphItem, pg.PlotDataItem)):
                    plot.removeItem(item)
        if evidence is None or group is None:
            self._of.setText("")
            return
        first, last = self._model.focus.period or (evidence.first_ns, evidence.last_ns)
        self._edges, self._sums = over_time(evidence, group.rows, first, last, _BINS)
        width_s = float(self._edges[1] - self._edges[0]) / 1e9
        self._of.setText(f"Waiting on {' › '.join(group.trail[:3])}, in intervals of {duration(round(width_s * 1e9))}; below, the volume of everything in the period")
        starts = (self._edges[:-1] - first) / 1e9
        base = np.zeros(_BINS)
        look = theme.current()
        for i, party in enumerate(causes.PARTIES):
            height = self._sums[:, i] / 1e9 / width_s
            for brush in look.brushes(party) if height.any() else []:
                bars = pg.BarGraphItem(x0=starts, width=width_s * 0.92, y0=base, height=height, brush=brush, pen=pg.mkPen(None))
                self.waits.addItem(bars)
            base = base + height
        data = series(evidence, None, first, last, _BINS)
        self._rates = data.bits_per_s
        moss = QColor(look.moss)
        moss.setAlpha(90)
        self.volume.plot((data.edges_ns - first) / 1e9, data.bits_per_s, stepMode="center", fillLevel=0, brush=pg.mkBrush(moss), pen=pg.mkPen(look.moss))
        for plot in (self.waits, self.volume):
            plot.axis.base_ns = first
            plot.axis.picture = None
        self.waits.setXRange(0, (last - first) / 1e9, padding=0)
        self.waits.setYRange(0, max(0.001, float(base.max())) * 1.05, padding=0)
        self.volume.setYRange(0, max(1.0, float(self._rates.max())) * 1.05, padding=0)

    def _read(self, x: float, _y: float) -> str:
        if self._sums.shape[0] < 2:
            return ""
        k = int(np.searchsorted(self._edges, self._edges[0] + x * 1e9, "right")) - 1
        if not 0 <= k < self._sums.shape[0]:
            return ""
        parts = ", ".join(f"{party} {duration(int(self._sums[k, i]))}" for i, party in enumerate(causes.PARTIES) if self._sums[k, i])
        return f" {moment(int(self._edges[k]))}  {parts or 'nobody waits'}  volume {rate(float(self._rates[k]))} "
