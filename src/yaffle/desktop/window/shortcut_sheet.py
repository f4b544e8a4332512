"""The sheet of keys: searched as one types, as high as the screen allows, closed with Escape."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

_PLACES = (
    ("Period strip", "move the period", "Left, Right"),
    ("Period strip", "zoom", "+, -, wheel"),
    ("Period strip", "whole period", "Home, Escape, double click"),
    ("Period strip", "draw volume, packets or concurrent waits", "M"),
    ("Survey, traffic mix", "drill down, up one level", "Enter, Backspace"),
    ("Apportion", "narrow to the row; on a connection, examine it", "Enter"),
    ("Examine", "next, previous silence", "N, P"),
    ("Examine", "bytes of the packet", "B"),
    ("Examine", "the visit that the connection belongs to", "V"),
    ("Examine", "the tiers of the exchange", "W"),
    ("Ladder diagram", "next, previous packet; by twenty", "Down, Up; Page"),
    ("Ladder diagram", "time to scale; stretch it", "T; Ctrl and wheel"),
    ("Map", "fit, rename, hide, link, save", "F, F2, Delete, L, Ctrl+S"),
    ("Findings", "follow; show or hide details", "Enter; Space"),
    ("Plots", "zoom, move, reset, save", "wheel, drag, R, Ctrl+S"),
    ("Tables", "copy as text; filter by a cell, save", "Ctrl+C; menu key"),
)
_WIDE, _TALL = 620, 640


class ShortcutSheet(QDialog):
    """All keys, by place."""

    def __init__(self, actions: list[tuple[str, str, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shortcuts")
        self.search = QLineEdit()
        self.search.setPlaceholderText("type to search")
        self.search.setAccessibleName("Search for a shortcut")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._narrow)
        self.list = QTreeWidget()
        self.list.setHeaderLabels(["place", "what it does", "keys"])
        self.list.setRootIsDecorated(False)
        self.list.setAlternatingRowColors(True)
        self.list.setAccessibleName("Shortcuts")
        for row in (*actions, *_PLACES):
            self.list.addTopLevelItem(QTreeWidgetItem(list(row)))
        for column in range(3):
            self.list.resizeColumnToContents(column)
        layout = QVBoxLayout(self)
        layout.addWidget(self.search)
        layout.addWidget(self.list)
        room = QGuiApplication.primaryScreen().availableGeometry()
        self.resize(min(_WIDE, room.width() - 40), min(_TALL, room.height() - 80))
        self.search.setFocus(Qt.FocusReason.OtherFocusReason)

    def _narrow(self, text: str) -> None:
        words = text.lower().split()
        for k in range(self.list.topLevelItemCount()):
            item = self.list.topLevelItem(k)
            if item is not None:
                told = " ".join(item.text(c) for c in range(3)).lower()
                item.setHidden(not all(word in told for word in words))
