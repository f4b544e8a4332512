"""A field for filters: completes columns, functions and values that were seen."""

from PySide6.QtCore import QStringListModel, Qt
from PySide6.QtWidgets import QCompleter, QLineEdit, QWidget

from yaffle.session.completion import complete
from yaffle.session.filtering import COLUMNS, Filter
from yaffle.session.flow_filter import FLOW_COLUMNS


def _listed(columns: tuple[tuple[str, str], ...]) -> str:
    return "\n".join(f"{name}: {meaning}" for name, meaning in columns)


class FilterEdit(QLineEdit):
    """One line of SQL."""

    def __init__(self, table: Filter | None = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.filter = table
        self.setPlaceholderText("filter in SQL, for example: wait_ms > 500 and server_port = 5432")
        self.setClearButtonEnabled(True)
        self.setAccessibleName("Filter")
        self._found = QStringListModel(self)
        self.completer_ = QCompleter(self._found, self)
        self.completer_.setWidget(self)
        self.completer_.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self.completer_.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.completer_.activated.connect(self._insert)
        self.textEdited.connect(self._suggest)
        self.setToolTip("Columns of exchanges:\n" + _listed(COLUMNS) + "\n\nof flow records:\n" + _listed(FLOW_COLUMNS))

    def suggestions(self) -> tuple[str, list[str]]:
        """What stands before the cursor, and what might replace it."""
        return complete(self.text()[: self.cursorPosition()], self.filter.table if self.filter is not None else None)

    def _suggest(self) -> None:
        typed, found = self.suggestions()
        inside = self.text()[: self.cursorPosition()].count("'") % 2 == 1
        if not found or (len(typed) < 2 and not inside):
            if (popup := self.completer_.popup()) is not None:
                popup.hide()
            return
        self._found.setStringList(found)
        self.completer_.setCompletionPrefix("")
        self.completer_.complete()

    def _insert(self, chosen: str) -> None:
        typed, at = self.suggestions()[0], self.cursorPosition()
        text = self.text()
        self.setText(text[: at - len(typed)] + chosen + text[at:])
        self.setCursorPosition(at - len(typed) + len(chosen))
