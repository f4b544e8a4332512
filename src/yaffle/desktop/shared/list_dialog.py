"""A dialog with a list of lines that the user adds, changes and takes away."""

from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label


class ListDialog(QDialog):
    """Subclasses say what a line means (`take`) and keep what was entered."""

    def __init__(self, title: str, words: str, columns: list[str], width: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(width, 300)
        self.table = QTableWidget(0, len(columns))
        self.table.setHorizontalHeaderLabels(columns)
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        add, remove = QPushButton("Add"), QPushButton("Remove")
        add.clicked.connect(lambda: self.add_line([""] * len(columns)))
        remove.clicked.connect(lambda: self.table.removeRow(self.table.currentRow()))
        self._wrong = wrong_label()
        buttons = ok_cancel(self)
        row = QHBoxLayout()
        row.addWidget(add)
        row.addWidget(remove)
        row.addStretch(1)
        column = QVBoxLayout(self)
        told = QLabel(words)
        told.setWordWrap(True)
        column.addWidget(told)
        column.addWidget(self.table)
        column.addLayout(row)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def add_line(self, texts: list[str]) -> None:
        """One line more."""
        row = self.table.rowCount()
        self.table.insertRow(row)
        for column, text in enumerate(texts):
            self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.setCurrentCell(row, 0)

    def lines(self) -> list[tuple[int, list[str]]]:
        """What stands in the lines that are not empty, with their numbers from 1 on."""
        found = []
        for row in range(self.table.rowCount()):
            items = [self.table.item(row, k) for k in range(self.table.columnCount())]
            texts = [item.text().strip() if item else "" for item in items]
            if any(texts):
                found.append((row + 1, texts))
        return found

    def take(self) -> None:
        """Keeps what was entered. Raises ValueError with words for the user."""
        raise NotImplementedError

    def accept(self) -> None:
        """Takes the list, if it makes sense."""
        try:
            self.take()
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        super().accept()
