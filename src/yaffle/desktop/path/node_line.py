"""A flow's nodes along its usual path, from left to right: delay in each, and the deepest queue that it met there."""

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.hops.telemetry import FlowHop
from yaffle.units import duration, size

_TALL, _MARGIN, _WIDEST, _GAP = 84, 10, 190, 34  # pixels
_MUCH = 10  # times its least delay at the 95th percentile: drawn as a place that holds packets up


class NodeLine(QWidget):
    """Draws the hops of one path."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.hops: list[tuple[str, FlowHop]] = []
        self.setMinimumHeight(_TALL + 2 * _MARGIN)
        self.setAccessibleName("Nodes of the chosen flow")

    def show_hops(self, hops: list[tuple[str, FlowHop]]) -> None:
        """Shows another flow: nodes by name, in order."""
        self.hops = hops
        self.setAccessibleDescription("; ".join(": ".join((name, ", ".join(_lines(hop)))) for name, hop in hops))
        self.update()

    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(look.panel))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.hops:
            painter.setPen(QColor(look.faint))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "choose a flow above: its nodes stand here")
            return
        count = len(self.hops)
        wide = min(_WIDEST, (self.width() - 2 * _MARGIN - (count - 1) * _GAP) / count)
        top = max(_MARGIN, (self.height() - _TALL) / 2)
        for k, (name, hop) in enumerate(self.hops):
            box = QRectF(_MARGIN + k * (wide + _GAP), top, wide, _TALL)
            if k:
                painter.setPen(QPen(QColor(look.moss), 2))
                middle = round(box.center().y())
                painter.drawLine(round(box.left() - _GAP + 4), middle, round(box.left() - 4), middle)
            _box(painter, box, name, hop)


def _box(painter: QPainter, box: QRectF, name: str, hop: FlowHop) -> None:
    look = theme.current()
    holds = hop.p95_ns > _MUCH * max(1, hop.least_ns)
    painter.setPen(QPen(QColor(look.red if holds else look.moss), 2 if holds else 1.4))
    painter.setBrush(QColor(look.panel))
    painter.drawRoundedRect(box, 4, 4)
    inner, flags = box.adjusted(8, 4, -8, -4), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
    lines = [name, *_lines(hop)]
    row = inner.height() / len(lines)
    for n, text in enumerate(lines):
        painter.setPen(QColor(look.ink if n == 0 else look.faint))
        short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, round(inner.width()))
        painter.drawText(QRectF(inner.left(), inner.top() + n * row, inner.width(), row), flags, short)


def _lines(hop: FlowHop) -> list[str]:
    sides = [f"{word} {number}" for word, number in (("in", hop.ingress), ("out", hop.egress)) if number >= 0]
    known = f"queue up to {size(hop.queue_max)}" if hop.queue_max else "queue empty"
    queue = known if hop.queue_max >= 0 else "no queue told"
    told = f"{duration(round(hop.median_ns))}, p95 {duration(round(hop.p95_ns))}"
    return [", ".join(sides) or "interfaces not told", told, queue]
