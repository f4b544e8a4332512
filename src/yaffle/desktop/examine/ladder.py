"""The ladder: both ends as lanes with the packets between them, in order of time: a row each with long silences
folded, or to scale.
"""

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import (
    QAbstractScrollArea,
    QHBoxLayout,
    QLabel,
    QMenu,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.dialog_parts import bound
from yaffle.desktop.shared.picture_file import save_picture
from yaffle.session.examine import SILENCE_NS, Connection
from yaffle.transport import kinds
from yaffle.units import duration, size

_ROW = 18
_FOLD = 26  # Extra height of a folded silence.
_TIME_WIDTH = 74
_FIRST_SCALE_NS = 1_000_000  # ns a pixel
_MOST_PIXELS = 1 << 30


class Ladder(QAbstractScrollArea):
    """Paints only the rows that are seen."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._connection: Connection | None = None
        self._tops = np.zeros(1, np.int64)
        self._gaps = np.zeros(0, np.int64)
        self._selected = -1
        self.ns_per_pixel = 0  # 0: a row a packet
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Ladder diagram: packets between client and server")
        self.viewport().setMouseTracking(True)

    def show_connection(self, connection: Connection | None) -> None:
        """Shows another connection."""
        self._connection = connection
        self._selected = -1
        if connection is not None:
            self._gaps = connection.since_previous()
            self._lay_out()
        else:
            self._tops = np.zeros(1, np.int64)
        self._fit()
        self.verticalScrollBar().setValue(0)
        self.viewport().update()

    def _lay_out(self) -> None:
        assert self._connection is not None
        if self.ns_per_pixel:
            times = self._connection.segments["t"]
            tops = (np.maximum.accumulate(times) - int(times[0])) // self.ns_per_pixel
            self._tops = np.append(tops, int(tops[-1]) + _ROW)
        else:
            self._tops = np.concatenate([[0], np.cumsum(np.where(self._gaps >= SILENCE_NS, _ROW + _FOLD, _ROW))])

    def set_scale(self, ns_per_pixel: int) -> None:
        """Draws time to scale, so many ns a pixel; 0: a row a packet."""
        if self._connection is not None and ns_per_pixel:  # A scroll bar counts no further.
            span = int(self._connection.segments["t"].max() - self._connection.segments["t"][0])
            ns_per_pixel = max(ns_per_pixel, span // _MOST_PIXELS + 1)
        middle = self._row_at(self.viewport().height() / 2)
        self.ns_per_pixel = ns_per_pixel
        if self._connection is None:
            return
        self._lay_out()
        self._fit()
        at = self._selected if self._selected >= 0 else middle
        if at >= 0:
            self.verticalScrollBar().setValue(max(0, int(self._tops[at]) - self.viewport().height() // 2))
        self.viewport().update()

    def zoom(self, factor: float) -> None:
        """More time a pixel (above 1), or less."""
        if self.ns_per_pixel:
            self.set_scale(max(1, round(self.ns_per_pixel * factor)))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Save the picture…", lambda: save_picture(self.viewport()))
        menu.exec(event.globalPos())

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.ns_per_pixel and event.modifiers() & Qt.KeyboardModifier.ControlModifier and event.angleDelta().y():
            self.zoom(0.8 if event.angleDelta().y() > 0 else 1.25)
        else:
            super().wheelEvent(event)

    def select(self, index: int) -> None:
        """Marks a packet and scrolls to it."""
        self._selected = index
        if 0 <= index < self._tops.size - 1:
            top, bottom = int(self._tops[index]), int(self._tops[index + 1])
            bar = self.verticalScrollBar()
            height = self.viewport().height() - 40
            if top < bar.value() + 10 or bottom > bar.value() + height - 10:
                bar.setValue(max(0, top - height // 3))
        self.viewport().update()

    def _fit(self) -> None:
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, int(self._tops[-1]) + 50 - self.viewport().height()))
        bar.setPageStep(self.viewport().height() - 60)
        bar.setSingleStep(_ROW * 2)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()
        super().resizeEvent(event)

    def scrollContentsBy(self, _dx: int, _dy: int) -> None:
        self.viewport().update()

    def _row_at(self, y: float) -> int:
        row = int(np.searchsorted(self._tops, y - 36 + self.verticalScrollBar().value(), "right")) - 1
        return row if 0 <= row < self._tops.size - 1 and y >= 36 else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = self._row_at(event.position().y())
        if row >= 0:
            self.chosen.emit(row)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        last = self._tops.size - 2
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 20, Qt.Key.Key_PageUp: -20}.get(
            Qt.Key(event.key())
        )
        if step is not None and last >= 0:
            self.chosen.emit(min(last, max(0, self._selected + step)))
        elif event.key() == Qt.Key.Key_Home and last >= 0:
            self.chosen.emit(0)
        elif event.key() == Qt.Key.Key_End and last >= 0:
            self.chosen.emit(last)
        else:
            super().keyPressEvent(event)

    def viewportEvent(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._connection is not None:
            row = self._row_at(event.pos().y())
            if row >= 0:
                QToolTip.showText(event.globalPos(), self._reason(row), self.viewport())
            return True
        return super().viewportEvent(event)  # type: ignore[arg-type]

    def _reason(self, row: int) -> str:
        assert self._connection is not None
        g = self._connection.segments[row]
        side = "client" if g["d"] == 0 else "server"
        text = f"{kinds.in_words(int(g['kind']))} from the {side}"
        if g["n"]:
            text += f", {size(int(g['n']))}"
        if self._gaps[row] >= SILENCE_NS:
            text += f"\nafter a silence of {duration(int(self._gaps[row]))}"
        return text + f"\n{size(int(g['flight']))} of the {side} in flight after it"

    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self.viewport())
        painter.fillRect(self.viewport().rect(), QColor(look.panel))
        connection = self._connection
        if connection is None:
            painter.setPen(QColor(look.faint))
            painter.drawText(
                self.viewport().rect(), Qt.AlignmentFlag.AlignCenter, "Choose a connection in Apportion\n(Enter on it)"
            )
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = _TIME_WIDTH + 16, self.viewport().width() - 16
        offset = self.verticalScrollBar().value()
        g = connection.segments
        first = max(0, int(np.searchsorted(self._tops, offset, "right")) - 1)
        last = min(g.size, int(np.searchsorted(self._tops, offset + self.viewport().height(), "right")) + 1)
        origin = int(g["t"][0])
        painter.setPen(QPen(QColor(look.line), 2))
        painter.drawLine(left, 34, left, self.viewport().height())
        painter.drawLine(right, 34, right, self.viewport().height())
        if self.ns_per_pixel:
            self._paint_to_scale(painter, self._apart(first, last), 36 - offset, left, right)
        else:
            for i in range(first, last):
                self._paint_row(painter, i, 36 + int(self._tops[i]) - offset, left, right, origin)
        painter.fillRect(QRect(0, 0, self.viewport().width(), 34), QColor(look.surface))
        painter.setPen(QColor(look.ink))
        places = connection.evidence.places
        half = (right - left) // 2
        metrics = painter.fontMetrics()
        one = metrics.elidedText(f"client {places.short(connection.client)}", Qt.TextElideMode.ElideRight, half - 6)
        two = metrics.elidedText(f"server {places.short(connection.server)}", Qt.TextElideMode.ElideRight, half - 6)
        painter.drawText(QRectF(left - 8, 2, half, 30), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, one)
        painter.drawText(
            QRectF(right - half + 8, 2, half, 30), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, two
        )
        painter.setPen(QColor(look.faint))
        painter.drawText(
            QRectF(0, 2, _TIME_WIDTH, 30), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, "since start"
        )

    def _apart(self, first: int, last: int) -> list[int]:
        """Packets of a range, one a pixel and direction: more cannot be seen."""
        assert self._connection is not None
        keys = self._tops[first:last] * 2 + self._connection.segments["d"][first:last]
        _, places = np.unique(keys, return_index=True)
        return [int(k) for k in first + np.sort(places)]

    def _paint_to_scale(self, painter: QPainter, shown: list[int], zero: int, left: int, right: int) -> None:
        """Packets at their moments; then words, only where they have room."""
        assert self._connection is not None
        look, g = theme.current(), self._connection.segments
        for i in shown:
            color, repeat = self._ink(i)
            y = zero + int(self._tops[i])
            start, end = (left, right) if g["d"][i] == 0 else (right, left)
            chosen = i == self._selected
            painter.setPen(
                QPen(
                    QColor(look.moss) if chosen else color,
                    2.4 if chosen else 1.2,
                    Qt.PenStyle.DashLine if repeat else Qt.PenStyle.SolidLine,
                )
            )
            painter.drawLine(QPointF(start, y), QPointF(end, y))
            tip = -6 if end > start else 6
            painter.setBrush(color)
            painter.drawPolygon(QPolygonF([QPointF(end, y), QPointF(end + tip, y - 3.5), QPointF(end + tip, y + 3.5)]))
        free = -1e9
        for i in sorted(
            shown, key=lambda k: (k != self._selected, k)
        ):  # The selected one is named before its neighbors.
            y = zero + int(self._tops[i])
            near = (
                self._selected in shown
                and i != self._selected
                and abs(y - zero - int(self._tops[self._selected])) < _ROW
            )
            if near or (i != self._selected and y - _ROW / 2 < free):
                continue
            painter.setPen(QColor(look.faint))
            time = QRectF(0, y - _ROW / 2, _TIME_WIDTH, _ROW)
            painter.drawText(
                time,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                duration(int(g["t"][i]) - int(g["t"][0])),
            )
            self._words(painter, i, y - _ROW / 2, left, right, self._ink(i)[0])
            if i != self._selected:
                free = y + _ROW / 2

    def _ink(self, i: int) -> tuple[QColor, bool]:
        """Color of a packet, and whether it is a repeat."""
        assert self._connection is not None
        look, g = theme.current(), self._connection.segments[i]
        base, repeat = int(g["kind"]) & kinds.KIND_MASK, kinds.is_repeat(int(g["kind"]))
        hurt = repeat or base in (kinds.RESET, kinds.WINDOW_PROBE)
        return (
            QColor(
                look.red
                if hurt
                else (
                    look.straw
                    if base in (kinds.OUT_OF_ORDER, kinds.COPY, kinds.DUPLICATE_ACK)
                    else look.ink
                    if g["n"]
                    else look.faint
                )
            ),
            repeat,
        )

    def _words(self, painter: QPainter, i: int, y: float, left: int, right: int, color: QColor) -> None:
        """What the packet is, on the middle of its line."""
        assert self._connection is not None
        look, g = theme.current(), self._connection.segments[i]
        words = kinds.WORDS[int(g["kind"]) & kinds.KIND_MASK]
        if g["n"]:
            words += f" {size(int(g['n']))}"
        width = painter.fontMetrics().horizontalAdvance(words) + 10
        box = QRectF((left + right - width) / 2, y + 1, width, _ROW - 2)
        painter.fillRect(box, QColor(look.moss_soft if i == self._selected else look.panel))
        painter.setPen(color if color.name() == look.red else QColor(look.ink if g["n"] else look.faint))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _paint_row(self, painter: QPainter, i: int, top: int, left: int, right: int, origin: int) -> None:
        look = theme.current()
        assert self._connection is not None
        g = self._connection.segments[i]
        y = top
        if self._gaps[i] >= SILENCE_NS:
            band = QRectF(left - 4, y + 3, right - left + 8, _FOLD - 6)
            soft = QColor(look.straw)
            soft.setAlpha(60)
            painter.fillRect(band, soft)
            painter.setPen(QColor(look.ink))
            painter.drawText(band, Qt.AlignmentFlag.AlignCenter, f"silence {duration(int(self._gaps[i]))}")
            y += _FOLD
        if i == self._selected:
            painter.fillRect(QRectF(0, y, self.viewport().width(), _ROW), QColor(look.moss_soft))
        painter.setPen(QColor(look.faint))
        painter.drawText(
            QRectF(0, y, _TIME_WIDTH, _ROW),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            duration(int(g["t"]) - origin),
        )
        color, repeat = self._ink(i)
        start, end = (left, right) if g["d"] == 0 else (right, left)
        middle = y + _ROW / 2
        painter.setPen(QPen(color, 1.6 if g["n"] else 1.0, Qt.PenStyle.DashLine if repeat else Qt.PenStyle.SolidLine))
        painter.drawLine(QPointF(start, middle), QPointF(end, middle))
        tip = -6 if end > start else 6
        painter.setBrush(color)
        painter.drawPolygon(
            QPolygonF([QPointF(end, middle), QPointF(end + tip, middle - 3.5), QPointF(end + tip, middle + 3.5)])
        )
        self._words(painter, i, y, left, right, color)


class LadderPanel(QWidget):
    """The ladder with the choice of how time is drawn."""

    def __init__(self, ladder: Ladder, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._ladder = ladder
        self.scale = QToolButton()
        self.scale.setText("to scale")
        self.scale.setCheckable(True)
        self.scale.setToolTip(
            "Time to scale (T), or a row a packet with silences folded; Ctrl and wheel, or + and -, stretch it"
        )
        self.scale.toggled.connect(self._toggle)
        self._closer, self._wider = QToolButton(), QToolButton()
        self._closer.setText("+")
        self._wider.setText("–")
        self._closer.setToolTip("Less time a line")
        self._wider.setToolTip("More time a line")
        self._closer.clicked.connect(lambda: self._zoom(0.5))
        self._wider.clicked.connect(lambda: self._zoom(2.0))
        self._says = QLabel()
        self._says.setObjectName("faint")
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        for part in (self.scale, self._closer, self._wider, self._says):
            row.addWidget(part)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addLayout(row)
        column.addWidget(ladder, 1)
        bound(self, "T", self.scale.toggle)
        self._say()

    def _toggle(self, on: bool) -> None:
        self._ladder.set_scale(_FIRST_SCALE_NS if on else 0)
        self._say()

    def _zoom(self, factor: float) -> None:
        self._ladder.zoom(factor)
        self._say()

    def _say(self) -> None:
        scale = self._ladder.ns_per_pixel
        for part in (self._closer, self._wider):
            part.setVisible(bool(scale))
        self._says.setText(
            f"{duration(scale * 100)} are 100 pixels" if scale else f"silences over {duration(SILENCE_NS)} folded"
        )
