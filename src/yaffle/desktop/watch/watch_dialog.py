"""A new watch: what is measured, against what, and how often it would have told something lately."""

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.desktop.shared.jobs import Latest
from yaffle.errors import YaffleError
from yaffle.history.store import History
from yaffle.records.catalogue import CATALOGUE
from yaffle.session.watch_text import add_watch
from yaffle.units import count, duration
from yaffle.watching.member_values import GROUPS
from yaffle.watching.rehearsal import Rehearsal, rehearse
from yaffle.watching.watch import (
    ABOVE,
    ABSENT,
    AVAILABLE,
    BELOW,
    DEVIATIONS,
    FALLING,
    OUTSIDE,
    RISING,
    SEVERITIES,
    Watch,
)
from yaffle.watching.windows import WhereError, checked

_NS = 10**9
_OVER = {"1 min": 60, "5 min": 300, "15 min": 900, "1 h": 3600, "1 day": 86_400}
_FOR = {"at once": 0, "1 min": 60, "5 min": 300, "15 min": 900, "1 h": 3600}
_RULES = {
    "above": ABOVE, "below": BELOW, "unlike what is usual at that hour": OUTSIDE, "silent": ABSENT, "risen by": RISING,
    "fallen by": FALLING, "not above, too seldom": AVAILABLE, "not below, too seldom": AVAILABLE,
}  # fmt: skip
_NOT_BELOW = "not below, too seldom"


class WatchDialog(QDialog):
    """Writes into the collector's configuration, which takes it over by itself; or shows what to write there."""

    said = Signal(str)

    def __init__(
        self, history: History, config: str, watch: Watch | None, period: tuple[int, int], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("New watch")
        self.resize(560, 420)
        self._history, self._config, self._period = history, config, period
        self._latest = Latest(self)
        own = watch or Watch("", "volume", "application", over_ns=300 * _NS)
        self.name, self.where = QLineEdit(own.name), QLineEdit(own.where)
        self.where.setPlaceholderText("all of it; or a condition: dst_port = 443")
        self.measure, self.of, self.rule = QComboBox(), QComboBox(), QComboBox()
        self.measure.addItems(sorted(CATALOGUE))
        self.measure.setCurrentText(own.measure)
        self.rule.addItems(list(_RULES))
        self.rule.setCurrentText(next(words for words, rule in _RULES.items() if rule == own.rule))
        if own.rule == AVAILABLE and own.minute_below is not None:
            self.rule.setCurrentText(_NOT_BELOW)
        self.limit = QDoubleSpinBox()
        self.limit.setRange(-1e15, 1e15)
        self.limit.setDecimals(3)
        minute = own.minute_above if own.minute_above is not None else own.minute_below
        self.limit.setValue(own.limit if minute is None else minute)
        self.share = QDoubleSpinBox()
        self.share.setRange(0.001, 100)
        self.share.setDecimals(3)
        self.share.setSuffix(" % of the minutes")
        self.share.setValue(own.limit if own.rule == AVAILABLE else 99.5)
        self.over, self.lasts, self.severity = QComboBox(), QComboBox(), QComboBox()
        self.over.addItems(list(_OVER))
        self.over.setCurrentText(next((w for w, s in _OVER.items() if s * _NS == own.over_ns), "5 min"))
        self.lasts.addItems(list(_FOR))
        self.lasts.setCurrentText(next((w for w, s in _FOR.items() if s * _NS == own.for_ns), "at once"))
        self.severity.addItems(list(SEVERITIES))
        self.severity.setCurrentText(own.severity)
        self.found = QLabel()
        self.found.setWordWrap(True)
        self._latest.failed.connect(self.found.setText)
        self.trial = QPushButton("How often would it have told something?")
        self.trial.clicked.connect(self.try_it)
        self._wrong = wrong_label()
        form = QFormLayout()
        for words, part in (
            ("name", self.name), ("measure", self.measure), ("of each", self.of), ("only where", self.where),
            ("is", self.rule), ("limit", self.limit), ("at least", self.share), ("over", self.over),
            ("for", self.lasts),            ("severity", self.severity),
        ):  # fmt: skip
            form.addRow(words, part)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.trial)
        column.addWidget(self.found)
        column.addStretch(1)
        column.addWidget(self._wrong)
        column.addWidget(ok_cancel(self))
        self.measure.currentTextChanged.connect(lambda _: self._fill_groups(""))
        self.rule.currentTextChanged.connect(lambda _: self._ruled())
        self._fill_groups(own.of)
        self._ruled()

    def _fill_groups(self, group: str) -> None:
        entry = CATALOGUE[self.measure.currentText()]
        self.of.clear()
        self.of.addItems([one if one else "all together" for one in GROUPS[entry.table]])
        self.of.setCurrentText(group or "all together")
        self.limit.setSuffix(f" {entry.unit}".rstrip())

    def _ruled(self) -> None:
        rule = _RULES[self.rule.currentText()]
        self.limit.setEnabled(rule not in (ABSENT, OUTSIDE))
        self.share.setEnabled(rule == AVAILABLE)

    def watch(self) -> Watch:
        """As it is filled in. Raises ValueError with words for the user."""
        name, where = self.name.text().strip(), self.where.text().strip()
        if not name:
            raise ValueError("Give it a name: it stands in every notice.")
        entry = CATALOGUE[self.measure.currentText()]
        if where:
            try:
                checked(entry.table, where)
            except WhereError as error:
                raise ValueError(f"Only where: {error}") from error
        rule = _RULES[self.rule.currentText()]
        limit = {ABSENT: 0.0, OUTSIDE: DEVIATIONS, AVAILABLE: self.share.value()}.get(rule, self.limit.value())
        below = rule == AVAILABLE and self.rule.currentText() == _NOT_BELOW
        minutes = (None if below or rule != AVAILABLE else self.limit.value(), self.limit.value() if below else None)
        of = "" if self.of.currentText() == "all together" else self.of.currentText()
        return replace(
            Watch(name, entry.name, of, where), over_ns=_OVER[self.over.currentText()] * _NS, rule=rule, limit=limit,
            for_ns=_FOR[self.lasts.currentText()] * _NS, severity=self.severity.currentText(),
            minute_above=minutes[0], minute_below=minutes[1],
        )  # fmt: skip

    def try_it(self) -> None:
        """Has it rehearsed over the period in focus."""
        try:
            watch = self.watch()
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        self._wrong.setText("")
        self.found.setText("trying …")
        history, (first, last) = self._history, self._period
        self._latest.ask(lambda progress: rehearse(history, watch, first, last, progress), self._tell)

    def _tell(self, found: Rehearsal) -> None:
        first, last = self._period
        members = len(found.standings)
        if not members:
            self.found.setText("Nothing of this is measured in the period: it would always be unknown.")
            return
        subjects = list(dict.fromkeys(one.subject for one in found.events if one.state == "raised"))
        most = ", ".join(subjects[:4]) + (f" and {len(subjects) - 4} more" if len(subjects) > 4 else "")
        where = f": {most}" if most else ""
        self.found.setText(
            f"In {duration(last - first)} it would have been raised {count(found.times)} times, of"
            f" {count(members)} watched{where}."
        )

    def accept(self) -> None:
        """Writes it."""
        try:
            watch = self.watch()
            if not self._config:
                raise ValueError("No collector writes this history: start one with yaffle collect, then add it here.")
            add_watch(Path(self._config), watch)
        except (ValueError, YaffleError) as error:
            self._wrong.setText(str(error))
            return
        self.said.emit(f"{watch.name} is watched from now on; it stands in {self._config}")
        super().accept()
