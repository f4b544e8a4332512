"""The rail at the left: one button a station, in the order of the work."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QToolButton, QVBoxLayout, QWidget

GATHER, SURVEY, APPORTION, EXAMINE, PATH, COMPARE, WATCH, REPORT = range(8)
STATIONS = ("Gather", "Survey", "Apportion", "Examine", "Path", "Compare", "Watch", "Report")
_WIDE = 92


class StationRail(QWidget):
    """`chosen` carries a station's number."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(_WIDE)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 4)
        column.setSpacing(0)
        self._buttons = QButtonGroup(self)
        for k, name in enumerate(STATIONS):
            button = QToolButton()
            button.setObjectName("station")
            button.setText(name)
            button.setCheckable(True)
            button.setChecked(k == GATHER)
            button.setMinimumWidth(_WIDE)
            button.setToolTip(f"{name} (Ctrl+{k + 1})")
            self._buttons.addButton(button, k)
            column.addWidget(button)
        self._buttons.idClicked.connect(self.chosen)
        column.addStretch(1)

    def mark(self, station: int) -> None:
        """Marks where we are."""
        self._buttons.button(station).setChecked(True)
