"""The findings drawer: ranked sentences, each a button that leads to its grounds; a pin keeps one for the report."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QToolButton, QVBoxLayout, QWidget

from yaffle.findings.finding import Finding
from yaffle.session.investigation import Investigation
from yaffle.units import duration


class _Card(QFrame):
    """One finding."""

    followed = Signal()

    def __init__(self, number: int, finding: Finding, pinned: bool) -> None:
        super().__init__()
        self.setObjectName("finding")
        self.setProperty("severity", finding.severity)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(finding.sentence)
        head = QLabel(f"{number}  {finding.severity}, {finding.party}")
        head.setObjectName("heading")
        self.pin = QToolButton()
        self.pin.setCheckable(True)
        self.pin.setChecked(pinned)
        self.pin.setText("pinned" if pinned else "pin")
        self.pin.setToolTip("Keep this finding for the report")
        text = QLabel(finding.sentence)
        text.setWordWrap(True)
        facts = QLabel(f"{duration(finding.lost_ns)} lost, {finding.users} user{'s' if finding.users != 1 else ''}, {round(100 * finding.confidence)} % sure")
        facts.setObjectName("faint")
        facts.setWordWrap(True)
        ruled = QLabel(finding.grounds.get("ruled_out", ""))
        ruled.setObjectName("faint")
        ruled.setWordWrap(True)
        step = QLabel(f"Next: {finding.next_step}")
        step.setWordWrap(True)
        top = QHBoxLayout()
        top.addWidget(head, 1)
        top.addWidget(self.pin)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 8)
        column.setSpacing(4)
        column.addLayout(top)
        column.addWidget(text)
        column.addWidget(facts)
        column.addWidget(ruled)
        column.addWidget(step)
        self._more = [label for label in (ruled, step) if label.text()]
        ruled.setVisible(False)
        step.setVisible(False)

    def unfold(self, wide: bool) -> None:
        """Shows what was ruled out and the next step, or not."""
        for label in self._more:
            label.setVisible(wide)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.followed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.followed.emit()
        else:
            super().keyPressEvent(event)


class FindingsDrawer(QWidget):
    """Folds away to a narrow handle."""

    followed = Signal(object)

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._title = QLabel("Findings")
        self._title.setObjectName("heading")
        self.fold = QToolButton()
        self.fold.setText("fold")
        self.fold.setToolTip("Fold the findings away or back (F9)")
        self.fold.clicked.connect(lambda: self.set_folded(not self.folded))
        self._inside = QWidget()
        self._list = QVBoxLayout(self._inside)
        self._list.setContentsMargins(4, 4, 4, 4)
        self._list.setSpacing(6)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setWidget(self._inside)
        top = QHBoxLayout()
        top.setContentsMargins(6, 4, 4, 4)
        top.addWidget(self._title, 1)
        top.addWidget(self.fold)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self._scroll, 1)
        self.folded = False
        self._set_width()
        self._undo = [
            investigation.opened_changed.connect(self._redraw),
            investigation.focus_changed.connect(self._redraw),
            investigation.notes_changed.connect(self._redraw),
        ]
        self.cards: list[_Card] = []
        self._open = ""
        self._shown: list[tuple[str, bool]] | None = None
        self._redraw()

    def _set_width(self) -> None:
        self.setFixedWidth(58 if self.folded else 262)

    def set_folded(self, folded: bool) -> None:
        """Folds the drawer away, or back."""
        self.folded = folded
        self._scroll.setVisible(not folded)
        self._title.setVisible(not folded)
        self.fold.setText("open" if folded else "fold")
        self._set_width()

    def _follow(self, finding: Finding) -> None:
        self._open = finding.key
        for card, (key, _) in zip(self.cards, self._shown or [], strict=False):
            card.unfold(key == finding.key)
        self.followed.emit(finding)

    def _redraw(self) -> None:
        findings = self._model.findings
        shown = [(f.key, f.key in self._model.pinned) for f in findings]
        if self._shown == shown and findings:
            return
        self._shown = shown
        while self._list.count():
            item = self._list.takeAt(0)
            if item is not None and item.widget() is not None:
                item.widget().deleteLater()
        self.cards = []
        if not findings:
            words = "Nothing is open." if self._model.evidence is None else "No finding here: nothing in this period is slow."
            empty = QLabel(words)
            empty.setObjectName("faint")
            empty.setWordWrap(True)
            self._list.addWidget(empty)
        for number, finding in enumerate(findings, 1):
            card = _Card(number, finding, finding.key in self._model.pinned)
            card.followed.connect(lambda finding=finding: self._follow(finding))
            card.unfold(finding.key == self._open)
            card.pin.toggled.connect(lambda kept, finding=finding: self._model.pin(finding, kept))
            self._list.addWidget(card)
            self.cards.append(card)
        if findings:
            for place in self._model.cleared[:5]:
                fine = QLabel(place.sentence)
                fine.setObjectName("faint")
                fine.setWordWrap(True)
                fine.setContentsMargins(8, 2, 8, 2)
                self._list.addWidget(fine)
        self._list.addStretch(1)
        self._title.setText(f"Findings ({len(findings)})" if findings else "Findings")
