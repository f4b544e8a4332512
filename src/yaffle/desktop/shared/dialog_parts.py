"""What dialogs and other parts have in common: buttons, words for what is wrong, keys, layouts emptied."""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QLayout, QWidget


def ok_cancel(dialog: QDialog) -> QDialogButtonBox:
    """Both buttons, connected."""
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons


def wrong_label() -> QLabel:
    """Where it is said what does not make sense."""
    label = QLabel()
    label.setObjectName("wrong")
    label.setWordWrap(True)
    return label


def bound(parent: QWidget, key: str, slot: Callable[[], object]) -> None:
    """A key of a part of the window: it counts while the keyboard is in there."""
    shortcut = QShortcut(QKeySequence(key), parent)
    shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
    shortcut.activated.connect(lambda: slot())


def emptied(layout: QLayout) -> None:
    """Takes all parts out of a layout; they may live on for a moment, unseen."""
    while layout.count():
        item = layout.takeAt(0)
        part = item.widget() if item is not None else None
        if part is not None:
            part.hide()
            part.deleteLater()
