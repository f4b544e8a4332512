"""Cells of tables and trees as they are painted: text, color, side; asked for once a cell, and laid out once a text.

The usual way asks a model seven times for a cell and a style sheet after each answer: what is in sight of one table
took 40 ms. Here the model tells in one call what a cell looks like, and nothing else is asked.
"""

from collections.abc import Sequence
from typing import NamedTuple, Protocol, runtime_checkable

from PySide6.QtCore import QModelIndex, QObject, QPersistentModelIndex, QPointF, QRect, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics, QPainter, QStaticText
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from yaffle.desktop.shared import theme

_MARGIN = 4  # pixels beside a text
_KEPT = 8192  # texts that stay laid out
_SELECTED = QStyle.StateFlag.State_Selected.value


class CellLook(NamedTuple):
    """What a cell looks like. color: of its letters, a name; none: the window's."""

    text: str
    right: bool = False
    color: str | None = None
    font: QFont | None = None


@runtime_checkable
class PlainModel(Protocol):
    """A model that can say in one call how a cell looks, and what a row's cells read."""

    def texts_of(self, index: QModelIndex | QPersistentModelIndex) -> Sequence[str]:
        """The texts of a row, column by column."""
        ...

    def look_of(self, index: QModelIndex | QPersistentModelIndex) -> CellLook | None:
        """None: there is nothing."""
        ...


class PlainCells(QStyledItemDelegate):
    """Paints what its model's `look_of` says."""

    def __init__(self, model: PlainModel, parent: QObject) -> None:
        super().__init__(parent)
        self._model = model
        self._laid_out: dict[tuple[str, bool], tuple[QStaticText, float, float]] = {}
        self._font = QFont()

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        rect: QRect = option.rect  # type: ignore[attr-defined]
        left, top, width, height = rect.left(), rect.top(), rect.width(), rect.height()
        if option.state.value & _SELECTED:  # type: ignore[attr-defined]
            painter.fillRect(left, top, width, height, QColor(theme.current().moss_soft))
        look = self._model.look_of(index)
        if look is None or not look.text:
            return
        if painter.font() != self._font:
            self._font = painter.font()
            self._laid_out.clear()
        if look.font is not None:
            painter.save()
            painter.setFont(look.font)
        text, wide, high = self._laid(look.text, look.font)
        room = width - 2 * _MARGIN
        if wide > room:
            metrics = QFontMetrics(look.font or self._font)
            elided = metrics.elidedText(look.text.replace("\n", " "), Qt.TextElideMode.ElideRight, max(0, room))
            text, wide, high = self._laid(elided, look.font)
        if look.color is not None:
            painter.setPen(QColor(look.color))
        at = left + width - _MARGIN - wide if look.right else left + _MARGIN
        painter.drawStaticText(QPointF(at, top + (height - high) / 2), text)
        if look.color is not None:
            painter.setPen(QColor(theme.current().ink))
        if look.font is not None:
            painter.restore()

    def _laid(self, words: str, font: QFont | None) -> tuple[QStaticText, float, float]:
        """A text as it is drawn, and how wide and high it is."""
        found = self._laid_out.get((words, font is None))
        if found is None:
            if len(self._laid_out) >= _KEPT:
                self._laid_out.clear()
            text = QStaticText(words.replace("\n", " "))
            text.setTextFormat(Qt.TextFormat.PlainText)
            text.prepare(font=font or self._font)
            found = (text, text.size().width(), text.size().height())
            self._laid_out[words, font is None] = found
        return found
