"""What pages of Survey have in common that show what is now: they look again and again while they are seen."""

from PySide6.QtCore import QTimer
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QLabel, QWidget

from yaffle.desktop.shared.jobs import Latest


class LookingPanel(QWidget):
    """Subclasses say how often they look (`pace_ms`; 0: not at all) and look."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._latest = Latest(self)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self._latest.failed.connect(lambda text: self.words.setText(f"View not updated: {text}"))

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What works away from the interface thread."""
        return (self._latest,)

    @property
    def pace_ms(self) -> int:
        """Between two looks; 0: nothing is looked at."""
        raise NotImplementedError

    def look(self) -> None:
        """Looks now, unless it still does."""
        raise NotImplementedError

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._set_timer()
        self.look()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self._timer.stop()

    def _set_timer(self) -> None:
        pace = self.pace_ms
        self._timer.start(pace) if pace and self.isVisible() else self._timer.stop()
