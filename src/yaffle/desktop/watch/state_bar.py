"""The states of a watched member over the period, in the cell of a table: raised, or not known."""

from PySide6.QtCore import QRectF
from PySide6.QtGui import QBrush, QColor, QPainter, Qt
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.bars import Index, selected_rect
from yaffle.session.watching import Watched
from yaffle.watching.states import RAISED

_THIN = 2.0


class StateBar(QStyledItemDelegate):
    """One row a member, all over the same period: stretches of one moment stand one above the other."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows: list[Watched] = []
        self.first_ns, self.last_ns = 0, 1

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        look, rect = theme.current(), selected_rect(painter, option)
        row = self.rows[int(index.model().order[index.row()])]  # type: ignore[attr-defined]
        inner = rect.adjusted(4, 4, -4, -4)
        painter.fillRect(QRectF(inner.left(), inner.center().y(), inner.width(), 1), QColor(look.line))
        span = max(1, self.last_ns - self.first_ns)
        for first, last, state in row.stretches:
            left = inner.left() + inner.width() * (first - self.first_ns) / span
            width = max(_THIN, inner.width() * (last - first) / span)
            part = QRectF(left, inner.top(), width, inner.height())
            if state == RAISED:
                painter.fillRect(part, QColor(look.red))
            else:  # Not known: neither well nor bad.
                painter.fillRect(part, QBrush(QColor(look.faint), Qt.BrushStyle.BDiagPattern))
