"""Rows on one time axis: names to the left, bars to scale, a selected row; only what is seen is painted."""

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QMenu, QToolTip, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.picture_file import save_picture
from yaffle.units import duration

ROW, HEAD, AXIS = 20, 22, 24
_AFTER = 170  # room behind the last bar for its words
_TICKS = [k * 10**e for e in range(3, 12) for k in (1, 2, 5)]  # ns


@dataclass(frozen=True)
class LaneRow:
    """A line of the picture: a bar, or a heading."""

    top: int
    height: int
    bar: int = -1  # number of its bar; -1 for a heading
    heading: str = ""


class Lanes(QAbstractScrollArea):
    """What is drawn in a row, and the words about it, are the subclass's."""

    chosen = Signal(int)
    wanted = Signal(int)  # a bar, to be examined
    names_px = 250  # width of the labels

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: list[LaneRow] = []
        self._first_ns, self._span_ns = 0, 1
        self.selected = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.viewport().setMouseTracking(True)

    def show_rows(self, rows: Sequence[str | int], first_ns: int, span_ns: int) -> None:
        """Shows other rows, headings by their words and bars by their numbers, over a span of time."""
        self._first_ns, self._span_ns, self.selected = first_ns, max(1, span_ns), -1
        top, self._rows = AXIS, []
        for row in rows:
            height = HEAD if isinstance(row, str) else ROW
            self._rows.append(LaneRow(top, height, heading=row) if isinstance(row, str) else LaneRow(top, height, row))
            top += height
        self._fit()
        self.verticalScrollBar().setValue(0)
        self.viewport().update()

    def select(self, bar: int) -> None:
        """Selects a bar, and brings it into view."""
        row = next((r for r in self._rows if r.bar == bar), None)
        if row is None or bar < 0 or bar == self.selected:
            return
        self.selected = bar
        scroll, height = self.verticalScrollBar(), self.viewport().height()
        if row.top < scroll.value() + AXIS or row.top + row.height > scroll.value() + height:
            scroll.setValue(max(0, row.top - height // 2))
        self.viewport().update()
        self.chosen.emit(bar)

    def _fit(self) -> None:
        whole = self._rows[-1].top + ROW + 6 if self._rows else 0
        self.verticalScrollBar().setPageStep(self.viewport().height())
        self.verticalScrollBar().setSingleStep(ROW)
        self.verticalScrollBar().setRange(0, max(0, whole - self.viewport().height()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def scrollContentsBy(self, _dx: int, _dy: int) -> None:
        self.viewport().update()

    # --- painting ---
    def x_of(self, time_ns: float) -> float:
        """Where a moment stands."""
        wide = max(40.0, self.viewport().width() - self.names_px - _AFTER)
        return self.names_px + wide * min(1.0, (time_ns - self._first_ns) / self._span_ns)

    def middle_of(self, bar: int) -> float:
        """How far down the middle of a bar stands as it is scrolled."""
        row = next(r for r in self._rows if r.bar == bar)
        return row.top - self.verticalScrollBar().value() + ROW / 2

    def paintEvent(self, _event: object) -> None:
        painter, look = QPainter(self.viewport()), theme.current()
        painter.fillRect(self.viewport().rect(), QColor(look.panel))
        if not self._rows:
            return
        painter.setFont(theme.figures_font())
        above, height = self.verticalScrollBar().value(), self.viewport().height()
        self._ticks(painter, height)
        self.paint_under(painter)
        for row in self._rows:
            top = row.top - above
            if top + row.height < AXIS or top > height:
                continue
            if row.bar < 0:
                painter.setPen(QColor(look.faint))
                place = QRectF(6, top + 2, self.viewport().width() - 12, row.height - 2)
                painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, row.heading)
            else:
                if row.bar == self.selected:
                    painter.fillRect(QRectF(0, top, self.viewport().width(), ROW), QColor(look.moss_soft))
                self.paint_row(painter, row.bar, top)
        painter.setClipRect(QRectF(0, AXIS, self.viewport().width(), height - AXIS))
        self.paint_links(painter)

    def paint_row(self, painter: QPainter, bar: int, top: int) -> None:
        """Draws a bar with its name and words."""
        raise NotImplementedError

    def paint_under(self, painter: QPainter) -> None:
        """Draws what leads from one row to another and lies below their words."""

    def paint_links(self, painter: QPainter) -> None:
        """Draws what leads from one row to another, above all."""

    def paint_words(self, painter: QPainter, bar: int, top: int, at: float, words: str) -> None:
        """Writes words behind a bar, on a ground of their own."""
        look = theme.current()
        ground = QRectF(at - 3, top + 2, painter.fontMetrics().horizontalAdvance(words) + 6, ROW - 4)
        painter.fillRect(ground, QColor(look.moss_soft if bar == self.selected else look.panel))
        painter.setPen(QColor(look.ink))
        painter.drawText(QPointF(at, top + ROW - 6), words)

    def words_of(self, bar: int) -> str:
        """A bar in words."""
        raise NotImplementedError

    def _ticks(self, painter: QPainter, height: int) -> None:
        look = theme.current()
        room = max(40.0, self.viewport().width() - self.names_px - _AFTER)
        step = next((t for t in _TICKS if t * room / self._span_ns >= 80), _TICKS[-1])
        for k in range(self._span_ns // step + 1):
            x = self.x_of(self._first_ns + k * step)
            painter.setPen(QPen(QColor(look.line), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, AXIS), QPointF(x, height))
            painter.setPen(QColor(look.faint))
            words = duration(k * step) if k else "0"
            painter.drawText(QRectF(x - 40, 2, 80, AXIS - 4), Qt.AlignmentFlag.AlignCenter, words)

    # --- hand and keys ---
    def _bar_at(self, y: float) -> int:
        place = y + self.verticalScrollBar().value()
        return next((r.bar for r in self._rows if r.top <= place < r.top + r.height), -1) if y >= AXIS else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.select(self._bar_at(event.position().y()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if (bar := self._bar_at(event.position().y())) >= 0:
            self.wanted.emit(bar)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        bars = [r.bar for r in self._rows if r.bar >= 0]
        moves = {
            Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 15, Qt.Key.Key_PageUp: -15,
            Qt.Key.Key_Home: -len(bars), Qt.Key.Key_End: len(bars),
        }  # fmt: skip
        if event.key() in moves and bars:
            place = bars.index(self.selected) if self.selected in bars else 0
            self.select(bars[min(len(bars) - 1, max(0, place + moves[Qt.Key(event.key())]))])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.selected >= 0:
            self.wanted.emit(self.selected)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Save the picture…", lambda: save_picture(self.viewport()))
        menu.exec(event.globalPos())

    def viewportEvent(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._rows:
            bar = self._bar_at(event.pos().y())
            QToolTip.showText(event.globalPos(), self.words_of(bar) if bar >= 0 else "", self)
            return True
        return super().viewportEvent(event)  # type: ignore[arg-type]
