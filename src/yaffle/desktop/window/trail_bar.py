"""The trail of the focus: a button for each part, which leads back to it; where room is short, each says less."""

from collections.abc import Callable

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QWidget

from yaffle.desktop.shared.dialog_parts import emptied

_WIDEST, _NARROWEST = 168, 40  # pixels of the words of a part
_FRAME, _SPACE = 12, 2  # around them, and between two


class TrailBar(QWidget):
    """Parts from the widest to the narrowest. chosen: told the depth of one that was clicked."""

    def __init__(self, chosen: Callable[[int], object]) -> None:
        super().__init__()
        self._chosen = chosen
        self._parts: list[str] = []
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(_SPACE)
        self.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)

    def show_parts(self, parts: list[str]) -> None:
        """A button for each; the same buttons as long as it is the same trail."""
        if parts == self._parts:
            return
        self._parts = parts
        emptied(self._row)
        for depth, text in enumerate(parts):
            button = QToolButton()
            button.setObjectName("small")
            button.setToolTip(f"{text}: widen the focus to this part of the trail")
            button.setAutoRaise(True)
            button.setMinimumWidth(_NARROWEST)
            button.clicked.connect(lambda _=False, depth=depth: self._chosen(depth))
            self._row.addWidget(button)
        self.updateGeometry()
        self._fit()

    @property
    def buttons(self) -> list[QToolButton]:
        """From the left."""
        return [item.widget() for k in range(self._row.count()) if (item := self._row.itemAt(k)) is not None]  # type: ignore[misc]

    def sizeHint(self) -> QSize:
        return QSize(sum(self._wanted()) + _SPACE * len(self._parts), super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        return QSize((_NARROWEST + _SPACE) * len(self._parts), super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _words(self) -> list[str]:
        return [text if depth == 0 else f"› {text}" for depth, text in enumerate(self._parts)]

    def _wanted(self) -> list[int]:
        """How wide each part is where there is room."""
        metrics = self.fontMetrics()
        words = (min(_WIDEST, metrics.horizontalAdvance(text) + 2) + _FRAME for text in self._words())
        return [max(_NARROWEST, pixels) for pixels in words]

    def _fit(self) -> None:
        """Short parts keep their words; the room that is left is shared by the longer ones."""
        wanted, room = self._wanted(), self.width() - _SPACE * len(self._parts)
        widths = dict.fromkeys(range(len(wanted)), 0)
        left = sorted(widths, key=lambda k: wanted[k])
        for number, k in enumerate(left):
            widths[k] = max(_NARROWEST, min(wanted[k], room // (len(left) - number)))
            room -= widths[k]
        for k, (button, text) in enumerate(zip(self.buttons, self._words(), strict=True)):
            button.setText(self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, widths[k] - _FRAME))
            button.setFixedWidth(widths[k])
