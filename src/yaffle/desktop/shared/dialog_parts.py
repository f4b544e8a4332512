"""What dialogs have in common."""

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel


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
