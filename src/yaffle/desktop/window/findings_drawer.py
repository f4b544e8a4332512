"""The findings drawer: ranked sentences, each a button that leads to its grounds; a pin keeps one for the report."""

from collections import Counter
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMenu,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.dialog_parts import emptied
from yaffle.findings.finding import Finding
from yaffle.findings.headline import headline, story, story_headline
from yaffle.session.complaints import in_words
from yaffle.session.evidence import Evidence
from yaffle.session.investigation import Investigation
from yaffle.session.suggested_tests import suggested_test
from yaffle.session.told_watch import watch_of_finding
from yaffle.units import duration

_AT_FIRST = 12  # More are listed when they are asked for.


def _no_finding(evidence: Evidence | None) -> str:
    if evidence is None:
        return "Findings appear here once a capture, a history or a case is open."
    if not evidence.waits.first_ns.size:
        return (
            "No finding here: no link was highly utilized for long. Flow records and counters tell volumes, not waits:"
            " a capture would tell who waits for whom."
        )
    return "No finding here: nothing in this period is slow."


def _users(number: int) -> str:
    return f"{number} client{'s' if number != 1 else ''}, " if number else ""


def by_story(ranked: list[tuple[Finding, float]]) -> list[tuple[Finding, float]]:
    """In order of rank, but what has one cause behind it stands together, where the first of it stands."""
    first: dict[str, int] = {}
    for place, (finding, _) in enumerate(ranked):
        first.setdefault(story(finding), place)
    return sorted(ranked, key=lambda one: first[story(one[0])])


class _Card(QFrame):
    """One finding."""

    followed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.finding: Finding | None = None
        self.setObjectName("finding")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.pin = QToolButton()
        self.pin.setObjectName("small")
        self.pin.setCheckable(True)
        self.pin.setToolTip("Keep this finding for the report")
        self.more = QToolButton()
        self.more.setText("…")
        self.more.setObjectName("small")
        self.more.setToolTip("Test what would settle it, dismiss it, or write a remark on it")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.menu.setToolTipsVisible(True)
        self.more.setMenu(self.menu)
        self.details = QToolButton()
        self.details.setObjectName("small")
        self.details.setText("details")
        self.details.setCheckable(True)
        self.details.setToolTip("Show or hide the sentence, what was ruled out and the next step (Space)")
        self.details.toggled.connect(self._fold)
        top = QHBoxLayout()
        top.setSpacing(4)
        top.addWidget(self.details)
        top.addStretch(1)
        top.addWidget(self.pin)
        top.addWidget(self.more)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.setSpacing(3)
        self._head, self._kind = self._line("heading"), self._line("faint")
        column.addWidget(self._head)
        column.addWidget(self._kind)
        column.addLayout(top)
        self._text, self._facts, self._explains = self._line(""), self._line("faint"), self._line("heading")
        self._remark, self._ruled, self._step = self._line("faint"), self._line("faint"), self._line("")
        self._on_demand = (self._text, self._facts, self._ruled, self._step)
        for label in (self._text, self._facts, self._explains, self._remark, self._ruled, self._step):
            column.addWidget(label)

    @staticmethod
    def _line(name: str) -> QLabel:
        label = QLabel()
        label.setObjectName(name)
        label.setWordWrap(True)
        return label

    def show_finding(self, number: int, finding: Finding, pinned: bool, explains: str, remark: str) -> None:
        """Shows another finding, or the same with another number; what stays is not laid out again."""
        self.finding = finding
        self.setAccessibleName(finding.sentence)
        if self.property("severity") != finding.severity:
            self.setProperty("severity", finding.severity)
            self.style().unpolish(self)
            self.style().polish(self)
        self._head.setText(f"{number}  {headline(finding)}")
        self._kind.setText(f"{finding.severity}, {finding.party}, confidence {round(100 * finding.confidence)} %")
        self.pin.blockSignals(True)
        self.pin.setChecked(pinned)
        self.pin.blockSignals(False)
        self.pin.setText("pinned" if pinned else "pin")
        self._text.setText(finding.sentence)
        lost = f"{_users(finding.users)}total delay {duration(finding.lost_ns)}" if finding.lost_ns else ""
        self._facts.setText(lost)
        self._explains.setText(explains)
        self._remark.setText(f"“{remark}”" if remark else "")
        self._ruled.setText(finding.grounds.get("ruled_out", ""))
        self._step.setText(f"Next: {finding.next_step}")
        self._explains.setVisible(bool(explains))
        self._remark.setVisible(bool(remark))
        self._fold(self.details.isChecked())

    def unfold(self, wide: bool) -> None:
        """Shows the sentence, what was ruled out and the next step, or not."""
        self.details.setChecked(wide)

    def _fold(self, wide: bool) -> None:
        for label in self._on_demand:
            label.setVisible(wide and bool(label.text()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.followed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.followed.emit()
        elif event.key() == Qt.Key.Key_Space:
            self.details.toggle()
        else:
            super().keyPressEvent(event)


class FindingsDrawer(QWidget):
    """Folds away to a narrow handle."""

    followed = Signal(object)
    test_wanted = Signal(str, str)  # kind, target
    watch_wanted = Signal(object)  # a Watch, filled in

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self.folded = False
        self._title = QLabel("Findings")
        self._title.setObjectName("heading")
        self.fold = QToolButton()
        self.fold.setText("Hide")
        self.fold.setToolTip("Hide or show the findings (F9)")
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
        self._set_width()
        self._undo = [
            investigation.opened_changed.connect(self._redraw),
            investigation.focus_changed.connect(self._redraw),
            investigation.kept_changed.connect(self._redraw),
        ]
        self.cards: list[_Card] = []
        self._spare: list[_Card] = []  # made before, and shown again when more findings are
        self._open = ""
        self._all = False  # whether more than the first findings are listed
        self._shown: object = None
        self._redraw()

    def _set_width(self) -> None:
        self.setFixedWidth(58 if self.folded else 262)

    def set_folded(self, folded: bool) -> None:
        """Folds the drawer away, or back."""
        self.folded = folded
        self._scroll.setVisible(not folded)
        self._title.setVisible(not folded)
        self.fold.setText("Show" if folded else "Hide")
        self._set_width()

    def _follow(self, finding: Finding) -> None:
        self._open = finding.key
        for card in self.cards:
            card.unfold(card.finding is not None and card.finding.key == finding.key)
        self.followed.emit(finding)

    def _fill_menu(self, card: _Card) -> None:
        """Lists what can be done about a card's finding, when its menu is opened."""
        finding, evidence = card.finding, self._model.evidence
        card.menu.clear()
        if finding is None:
            return
        suggested = suggested_test(evidence, finding) if evidence is not None else None
        if suggested is not None:
            ask = partial(self.test_wanted.emit, suggested.kind, suggested.target)
            card.menu.addAction(suggested.words, ask).setToolTip(f"It would say {suggested.why}")
        watch = watch_of_finding(evidence, finding) if evidence is not None else None
        if watch is not None:
            card.menu.addAction("Tell me when this comes again…", partial(self.watch_wanted.emit, watch))
        card.menu.addAction("Dismiss…", partial(self.dismiss, finding))
        card.menu.addAction("Write a remark…", partial(self.remark, finding))

    def _new_card(self) -> _Card:
        card = _Card()
        card.followed.connect(lambda: self._follow(card.finding) if card.finding is not None else None)
        card.pin.toggled.connect(lambda on: self._model.pin(card.finding, on) if card.finding is not None else None)
        card.menu.aboutToShow.connect(partial(self._fill_menu, card))
        return card

    def dismiss(self, finding: Finding) -> None:
        """Asks why, and puts the finding away; it can be taken back."""
        reason, sure = QInputDialog.getText(
            self, "Dismiss this finding", f"{finding.sentence}\n\nReason for dismissing"
        )
        if sure:
            self._model.keep(
                self._model.kept.dismiss(finding.key, reason.strip() or "no reason given"), f"dismiss {finding.subject}"
            )

    def remark(self, finding: Finding) -> None:
        """Asks for the user's words on a finding."""
        text, sure = QInputDialog.getMultiLineText(
            self, "A remark on this finding", finding.sentence, self._model.kept.remarks.get(finding.key, "")
        )
        if sure:
            self._model.keep(self._model.kept.remark(finding.key, text.strip()), f"remark on {finding.subject}")

    def _redraw(self) -> None:
        ranked, kept, dismissed = by_story(self._model.ranked), self._model.kept, self._model.dismissed
        shown = [(f.key, f.key in kept.pinned, in_words(score), kept.remarks.get(f.key, "")) for f, score in ranked]
        state = (shown, [(f.key, reason) for f, reason in dismissed])
        if self._shown == state and ranked:
            return
        self._shown = state
        for card in self.cards:
            self._list.removeWidget(card)
        emptied(self._list)
        self._spare, self.cards = [*self.cards, *self._spare], []
        if not ranked:
            words = _no_finding(self._model.evidence)
            self._list.addWidget(self._faint(words))
        stories = Counter(story(finding) for finding, _ in ranked)
        told: set[str] = set()
        listed = ranked if self._all else ranked[:_AT_FIRST]
        for number, ((finding, _), (key, pinned, explains, remark)) in enumerate(zip(listed, shown, strict=False), 1):
            if stories[story(finding)] > 1 and story(finding) not in told:
                told.add(story(finding))
                heading = QLabel(story_headline([f for f, _ in ranked if story(f) == story(finding)]))
                heading.setObjectName("heading")
                heading.setWordWrap(True)
                self._list.addWidget(heading)
            card = self._spare.pop(0) if self._spare else self._new_card()
            card.show_finding(number, finding, pinned, explains, remark)
            card.unfold(key == self._open)
            self._list.addWidget(card)
            card.show()
            self.cards.append(card)
        for card in self._spare:
            card.hide()
        if len(listed) < len(ranked):
            rest = QToolButton()
            rest.setText(f"Show all {len(ranked)} findings")
            rest.clicked.connect(self._show_all)
            self._list.addWidget(rest)
        if ranked:
            for place in self._model.cleared[:5]:
                self._list.addWidget(self._faint(place.sentence))
        for finding, reason in dismissed:
            back = QToolButton()
            back.setText("Restore")
            back.clicked.connect(
                lambda _=False, f=finding: self._model.keep(
                    self._model.kept.dismiss(f.key, None), f"take back {f.subject}"
                )
            )
            self._list.addWidget(self._faint(f"dismissed ({reason}): {finding.sentence}"))
            self._list.addWidget(back)
        self._list.addStretch(1)
        evidence = self._model.evidence  # While captures grow only the worst are worked out.
        growing = " so far" if evidence is not None and evidence.analysis.provisional else ""
        self._title.setText(f"Findings ({len(ranked)}{growing})" if ranked else "Findings")

    def _show_all(self) -> None:
        self._all, self._shown = True, None
        self._redraw()

    @staticmethod
    def _faint(words: str) -> QLabel:
        label = QLabel(words)
        label.setObjectName("faint")
        label.setWordWrap(True)
        label.setContentsMargins(8, 2, 8, 2)
        return label
