"""Bars and small trends in the cells of tables."""

import math

import numpy as np
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme

Index = QModelIndex | QPersistentModelIndex


def selected_rect(painter: QPainter, option: QStyleOptionViewItem) -> QRectF:
    """The cell, its ground painted where its row is selected."""
    rect = QRectF(option.rect)  # type: ignore[attr-defined]
    if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
        painter.fillRect(rect, QColor(theme.current().moss_soft))
    return rect


class ShareBar(QStyledItemDelegate):
    """A figure with a bar before it: to scale, or by magnitude where the values lie decades apart."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.values: list[float] = []
        self.by_magnitude = False

    def length(self, row: int) -> float:
        """Length of a row's bar, 0 to 1."""
        top = max(self.values, default=0.0)
        value = self.values[row]
        if top <= 0 or value <= 0:
            return 0.0
        if not self.by_magnitude:
            return value / top
        least = min(v for v in self.values if v > 0)
        return (math.log10(value / least) + 0.3) / (math.log10(top / least) + 0.3)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        look, rect = theme.current(), selected_rect(painter, option)
        color = QColor(look.moss)
        color.setAlpha(110)
        length = self.length(int(index.model().order[index.row()]))  # type: ignore[attr-defined]
        painter.fillRect(
            QRectF(rect.left() + 2, rect.top() + 4, (rect.width() - 52) * length, rect.height() - 8), color
        )
        painter.setPen(QColor(look.ink))
        painter.drawText(
            rect.adjusted(0, 0, -6, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(index.data())
        )


class Trend(QStyledItemDelegate):
    """How a row's value moved over the period, each row to its own height."""

    def __init__(self, parent: QWidget | None = None, *, hurts: bool = False) -> None:
        super().__init__(parent)
        self.trends: list[Array] = []
        self._hurts = hurts

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        look, rect = theme.current(), selected_rect(painter, option)
        trend = self.trends[int(index.model().order[index.row()])]  # type: ignore[attr-defined]
        top = float(trend.max()) if trend.size else 0.0
        if top <= 0:
            return
        inner = rect.adjusted(4, 3, -4, -3)
        step = inner.width() / trend.size
        color = QColor(look.red if self._hurts else look.moss)
        for k in np.flatnonzero(trend).tolist():
            height = max(1.0, inner.height() * float(trend[k]) / top)
            painter.fillRect(
                QRectF(inner.left() + k * step, inner.bottom() - height, max(1.0, step - 1), height), color
            )
