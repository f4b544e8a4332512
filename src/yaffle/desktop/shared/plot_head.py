"""The line above a plot: its quantity with the unit, and what each mark in it means. Nothing lies over a curve."""

from dataclasses import dataclass
from enum import Enum, auto

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme

_ROW, _SAMPLE, _GAP = 17, 16, 12  # pixels


class Mark(Enum):
    """How a key's sample is drawn."""

    LINE = auto()
    DASHED = auto()
    DOTTED = auto()
    AREA = auto()
    DOT = auto()
    TRIANGLE = auto()
    DIAMOND = auto()
    SQUARE = auto()
    CROSS = auto()
    PLUS = auto()


_STYLES = {
    Mark.LINE: Qt.PenStyle.SolidLine,
    Mark.DASHED: Qt.PenStyle.DashLine,
    Mark.DOTTED: Qt.PenStyle.DotLine,
}
OF_SYMBOL = {
    "o": Mark.DOT,
    "t": Mark.TRIANGLE,
    "d": Mark.DIAMOND,
    "s": Mark.SQUARE,
    "x": Mark.CROSS,
    "+": Mark.PLUS,
}


@dataclass(frozen=True)
class Key:
    """What one mark means."""

    words: str
    color: str
    mark: Mark = Mark.LINE
    fills: tuple[QBrush, ...] = ()  # of an area: color and pattern, one over the other


class PlotHead(QWidget):
    """Wraps into as many rows as it needs: `rows_for` tells how high it is."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.quantity = ""
        self.keys: tuple[Key, ...] = ()

    def say(self, quantity: str, keys: tuple[Key, ...]) -> None:
        """Shows another quantity and other keys."""
        self.quantity, self.keys = quantity, keys
        self.setToolTip("\n".join([quantity, *(key.words for key in keys)]).strip())
        self.setAccessibleName("; ".join([quantity, *(key.words for key in keys)]))
        self.update()

    def _places(self, width: int) -> list[tuple[int, int]]:
        """(x, row) of the quantity and of each key."""
        measure = self.fontMetrics().horizontalAdvance
        x, row = 4, 0
        places = [(x, row)]
        x += measure(self.quantity) + (_GAP if self.quantity else 0)
        for key in self.keys:
            wide = _SAMPLE + 5 + measure(key.words) + _GAP
            if x + wide - _GAP > width and x > 4:
                x, row = 4, row + 1
            places.append((x, row))
            x += wide
        return places

    def height_for(self, width: int) -> int:
        """Pixels that it needs."""
        return (self._places(width)[-1][1] + 1) * _ROW if self.quantity or self.keys else 0

    def sizeHint(self) -> QSize:
        return QSize(100, self.height_for(max(100, self.width())))

    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(look.panel))
        places = self._places(self.width())
        painter.setPen(QColor(look.ink))
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        elided = self.fontMetrics().elidedText(self.quantity, Qt.TextElideMode.ElideRight, self.width() - 8)
        painter.drawText(QRectF(places[0][0], 0, self.width(), _ROW), flags, elided)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for key, (x, row) in zip(self.keys, places[1:], strict=True):
            self._sample(painter, key, QRectF(x, row * _ROW, _SAMPLE, _ROW))
            painter.setPen(QColor(look.faint))
            painter.drawText(
                QRectF(x + _SAMPLE + 5, row * _ROW, self.width() - x - _SAMPLE - 5, _ROW), flags, key.words
            )

    @staticmethod
    def _sample(painter: QPainter, key: Key, box: QRectF) -> None:
        color, middle = QColor(key.color), box.center()
        if key.mark in _STYLES:
            painter.setPen(QPen(color, 1.8, _STYLES[key.mark]))
            painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
            return
        painter.setPen(QPen(color, 1.4))
        painter.setBrush(color)
        r = 4.0
        if key.mark == Mark.AREA:
            area = QRectF(box.left(), middle.y() - 5, box.width(), 10)
            for brush in key.fills or (QBrush(color),):
                painter.fillRect(area, brush)
        elif key.mark == Mark.DOT:
            painter.drawEllipse(middle, r - 0.5, r - 0.5)
        elif key.mark == Mark.SQUARE:
            painter.drawRect(QRectF(middle.x() - r + 0.5, middle.y() - r + 0.5, 2 * r - 1, 2 * r - 1))
        elif key.mark == Mark.TRIANGLE:
            painter.drawPolygon([middle + QPointF(-r, -r), middle + QPointF(r, -r), middle + QPointF(0, r)])
        elif key.mark == Mark.DIAMOND:
            painter.drawPolygon(
                [middle + QPointF(0, -r), middle + QPointF(r, 0), middle + QPointF(0, r), middle + QPointF(-r, 0)]
            )
        else:
            turned = key.mark == Mark.PLUS
            ends = ((-r, 0), (r, 0), (0, -r), (0, r)) if turned else ((-r, -r), (r, r), (-r, r), (r, -r))
            points = [middle + QPointF(*end) for end in ends]
            painter.drawLine(points[0], points[1])
            painter.drawLine(points[2], points[3])
