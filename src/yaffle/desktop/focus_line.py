"""The focus line: the trail, the filter and the period in words; each can be taken off; back and forward."""

from PySide6.QtCore import QStringListModel, Qt
from PySide6.QtWidgets import QCompleter, QHBoxLayout, QLabel, QLineEdit, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from yaffle.session.filtering import COLUMNS
from yaffle.session.investigation import Investigation
from yaffle.units import moment


class _FilterEdit(QLineEdit):
    """Completes the word under the cursor with column names."""

    def __init__(self) -> None:
        super().__init__()
        self.setPlaceholderText("filter in SQL, for example: wait_ms > 500 and server_port = 5432")
        self.setClearButtonEnabled(True)
        self.setAccessibleName("Filter")
        self._completer = QCompleter(QStringListModel([name for name, _ in COLUMNS], self), self)
        self._completer.setWidget(self)
        self._completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self._completer.activated.connect(self._insert)
        self.textEdited.connect(self._suggest)
        self.setToolTip("Columns:\n" + "\n".join(f"{name}: {meaning}" for name, meaning in COLUMNS))

    def _word(self) -> str:
        text = self.text()[: self.cursorPosition()]
        start = len(text)
        while start and (text[start - 1].isalnum() or text[start - 1] == "_"):
            start -= 1
        return text[start:]

    def _suggest(self) -> None:
        word = self._word()
        if len(word) < 2 or any(word == name for name, _ in COLUMNS):
            self._completer.popup().hide()
            return
        self._completer.setCompletionPrefix(word)
        if self._completer.completionCount():
            self._completer.complete()

    def _insert(self, name: str) -> None:
        word, at = self._word(), self.cursorPosition()
        text = self.text()
        self.setText(text[: at - len(word)] + name + text[at:])
        self.setCursorPosition(at - len(word) + len(name))


class FocusLine(QWidget):
    """Shows the focus, and changes it."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._trail = QHBoxLayout()
        self._trail.setSpacing(2)
        self.filter = _FilterEdit()
        self.filter.returnPressed.connect(self._filter_entered)
        self.filter.textChanged.connect(self._text_changed)
        self._error = QLabel()
        self._error.setObjectName("wrong")
        self._error.setVisible(False)
        self._period = QToolButton()
        self._period.setToolTip("Take the period off (Ctrl+0)")
        self._period.clicked.connect(self._all_time)
        self._back, self._forward = QToolButton(), QToolButton()
        self._back.setText("back")
        self._forward.setText("forward")
        self._back.setToolTip("Where the focus was before (Alt+Left)")
        self._forward.setToolTip("Where it was after (Alt+Right)")
        self._back.clicked.connect(investigation.back)
        self._forward.clicked.connect(investigation.forward)
        row = QHBoxLayout()
        row.setContentsMargins(8, 4, 8, 2)
        row.addLayout(self._trail)
        row.addWidget(self.filter, 1)
        row.addWidget(self._period)
        row.addWidget(self._back)
        row.addWidget(self._forward)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 2)
        whole.setSpacing(0)
        whole.addLayout(row)
        whole.addWidget(self._error)
        self._error.setContentsMargins(10, 0, 0, 0)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self._undo = [investigation.focus_changed.connect(self._redraw)]
        self._redraw()

    def _filter_entered(self) -> None:
        self._model.look(self._model.focus.with_filter(self.filter.text()))

    def _text_changed(self, text: str) -> None:
        if not text and self._model.focus.filter:
            self._filter_entered()

    def _all_time(self) -> None:
        self._model.look(self._model.focus.with_period(None))

    def _label(self, level: int, part: str) -> str:
        evidence = self._model.evidence
        if evidence is None:
            return part
        if level == 1:
            address, _, port = part.rpartition(" ")
            return f"{address} port {port}"
        if level == 2:
            return evidence.places.short(part)
        if level == 3 and part.isdigit() and int(part) < evidence.client_port.size:
            return f"port {int(evidence.client_port[int(part)])}"
        return part

    def _redraw(self) -> None:
        while self._trail.count():
            item = self._trail.takeAt(0)
            if item is not None and item.widget() is not None:
                item.widget().deleteLater()
        focus = self._model.focus
        parts = ["All", *(self._label(i, part) for i, part in enumerate(focus.trail))]
        for depth, text in enumerate(parts):
            button = QToolButton()
            button.setText(text if depth == 0 else f"› {text}")
            button.setToolTip("Widen the focus to this part of the trail")
            button.setAutoRaise(True)
            button.clicked.connect(lambda _=False, depth=depth: self._model.look(self._model.focus.with_trail(self._model.focus.trail[:depth])))
            self._trail.addWidget(button)
        if self.filter.text() != focus.filter:
            self.filter.blockSignals(True)
            self.filter.setText(focus.filter)
            self.filter.blockSignals(False)
        error = self._model.filter_error
        self.filter.setProperty("wrong", "true" if error else "false")
        self.filter.style().polish(self.filter)
        self._error.setVisible(error is not None)
        self._error.setText(f"The filter cannot be used and narrows nothing: {error}" if error else "")
        period = focus.period
        self._period.setText(f"{moment(period[0], digits=0)} – {moment(period[1], digits=0)}  ×" if period else "all the time")
        self._period.setEnabled(period is not None)
        self._back.setEnabled(self._model.history.can_go_back)
        self._forward.setEnabled(self._model.history.can_go_forward)
