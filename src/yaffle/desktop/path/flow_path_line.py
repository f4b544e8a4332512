"""One path of flows as a line of exporters from left to right, with what changed between each two."""

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.findings.flow_path import FlowHop
from yaffle.units import count

_BOX, _TALL, _MARGIN = 196, 84, 10  # pixels


class FlowPathLine(QWidget):
    """Draws the hops of one path."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._hops: list[FlowHop] = []
        self.setMinimumHeight(_TALL + 3 * _MARGIN)
        self.setAccessibleName("The chosen flow path")

    def show_hops(self, hops: list[FlowHop]) -> None:
        """Shows another path."""
        self._hops = hops
        self.setMinimumWidth(len(hops) * (_BOX + 60))
        self.setAccessibleDescription("; ".join(f"{hop.exporter}: {hop.words}" for hop in hops))
        self.update()

    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(look.panel))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._hops:
            return
        gaps = max(1, len(self._hops) - 1)
        gap = max(50.0, (self.width() - 2 * _MARGIN - len(self._hops) * _BOX) / gaps) if len(self._hops) > 1 else 0.0
        top = max(_MARGIN, (self.height() - _TALL) / 2)
        for k, hop in enumerate(self._hops):
            box = QRectF(_MARGIN + k * (_BOX + gap), top, _BOX, _TALL)
            if k:
                self._between(painter, hop, QRectF(box.left() - gap, top, gap, _TALL))
            painter.setPen(QPen(QColor(look.moss), 1.4))
            painter.setBrush(QColor(look.panel))
            painter.drawRoundedRect(box, 4, 4)
            inner, flags = box.adjusted(8, 4, -8, -4), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
            row = inner.height() / 4
            lines = (hop.exporter, f"in {hop.ingress}", f"out {hop.egress}", f"{count(round(hop.packets))} packets")
            for n, text in enumerate(lines):
                painter.setPen(QColor(look.ink if n == 0 else look.faint))
                short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, round(inner.width()))
                painter.drawText(QRectF(inner.left(), inner.top() + n * row, inner.width(), row), flags, short)

    @staticmethod
    def _between(painter: QPainter, hop: FlowHop, room: QRectF) -> None:
        look = theme.current()
        hurt = hop.lost > hop.uncertainty or bool(hop.remarked)
        color = QColor(look.red if hurt else look.moss)
        painter.setPen(QPen(color, 2, Qt.PenStyle.DashLine if hurt else Qt.PenStyle.SolidLine))
        middle = room.center().y()
        painter.drawLine(round(room.left() + 4), round(middle), round(room.right() - 4), round(middle))
        painter.setPen(color)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom | Qt.TextFlag.TextWordWrap
        painter.drawText(QRectF(room.left() + 6, room.top() - 8, room.width() - 12, _TALL / 2 + 2), flags, hop.words)
