"""The points of a path as a line from the clients to the servers, with each segment's delay, loss and marking."""

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.session.path_view import PathPicture, SegmentPicture, WayPicture
from yaffle.units import count, duration, share

_ROW, _BOX = 98, 190


def way_words(way: WayPicture) -> str:
    """One direction in a line."""
    if not way.packets:
        return "no packets"
    delay = "not received" if np.isnan(way.median_ns) else f"{duration(way.median_ns)} (min {duration(way.least_ns)})"
    lost = (
        f", lost {count(way.lost)} of {count(way.packets)} ({share(way.share)})"
        if way.lost
        else f", none of {count(way.packets)} lost"
    )
    more = [
        f"{count(number)} {word}"
        for number, word in ((way.copies, "duplicated"), (way.reordered, "reordered"), (way.born, "injected"))
        if number
    ]
    return delay + lost + "".join(f", {part}" for part in more) + (f", DSCP {way.markings[0]}" if way.markings else "")


class PathLine(QWidget):
    """A row a segment; the chosen one has the mark. Up and down choose."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._segments: list[SegmentPicture] = []
        self.current = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Segments of the path")
        self.setToolTip("Click, or up and down, chooses a segment")

    def show_picture(self, picture: PathPicture | None) -> None:
        """Shows other segments."""
        self._segments = picture.segments if picture is not None else []
        self.current = min(self.current, max(0, len(self._segments) - 1))
        self.setMinimumHeight(max(1, len(self._segments)) * _ROW)
        self.setMaximumHeight(max(1, len(self._segments)) * _ROW)
        self.update()

    def choose(self, row: int) -> None:
        """Chooses a segment."""
        if 0 <= row < len(self._segments):
            self.current = row
            self.update()
            self.chosen.emit(row)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.choose(int(event.position().y()) // _ROW)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.choose(self.current + (1 if event.key() == Qt.Key.Key_Down else -1))
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, segment in enumerate(self._segments):
            top = row * _ROW
            area = QRectF(2, top + 2, self.width() - 4, _ROW - 4)
            painter.fillRect(area, QColor(look.moss_soft if row == self.current else look.panel))
            middle = top + _ROW / 2
            left, right = 10.0, self.width() - _BOX - 10.0
            for x, name, word in (
                (left, segment.near, "client side"),
                (right, segment.far, "server side"),
            ):
                box = QRectF(x, middle - 21, _BOX, 42)
                painter.setPen(QPen(QColor(look.moss), 1.4))
                painter.setBrush(QColor(look.panel))
                painter.drawRoundedRect(box, 4, 4)
                painter.setPen(QColor(look.ink))
                short = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, _BOX - 16)
                painter.drawText(
                    box.adjusted(8, 3, -8, -20), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, short
                )
                painter.setPen(QColor(look.faint))
                painter.drawText(
                    box.adjusted(8, 20, -8, -3), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, word
                )
            for k, (way, arrow) in enumerate(zip(segment.ways, ("→", "←"), strict=True)):
                y = middle - 8 if k == 0 else middle + 8
                hurt = way.lost > 0
                painter.setPen(
                    QPen(
                        QColor(look.red if hurt else look.moss),
                        2.0,
                        Qt.PenStyle.DashLine if hurt else Qt.PenStyle.SolidLine,
                    )
                )
                painter.drawLine(round(left + _BOX + 4), round(y), round(right - 4), round(y))
                painter.setPen(QColor(look.red if hurt else look.ink))
                room = QRectF(left + _BOX + 8, y - 36 if k == 0 else y + 3, right - left - _BOX - 16, 33)
                side = Qt.AlignmentFlag.AlignBottom if k == 0 else Qt.AlignmentFlag.AlignTop
                painter.drawText(
                    room,
                    Qt.AlignmentFlag.AlignHCenter | side | Qt.TextFlag.TextWordWrap,
                    f"{arrow} {way_words(way)}",
                )
        painter.end()
