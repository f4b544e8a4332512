"""The focus line: the trail, the filter with its errors, the period as typed; each part can be taken off."""

from dataclasses import replace
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QMenu,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.filter_edit import FilterEdit
from yaffle.desktop.window.trail_bar import TrailBar
from yaffle.session.investigation import Investigation
from yaffle.session.kept import NamedPeriod
from yaffle.session.period_words import EXAMPLES, PeriodError, period_ns
from yaffle.units import date_and_moment, duration, moment, zone

_DAY_NS = 86_400 * 10**9
_FILTER_WIDTH = 180  # pixels that a long trail leaves it


class _PeriodEdit(QLineEdit):
    """A period as people type it; Escape puts back what was there."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Period")
        self.setToolTip(f"Type a period and press Enter, for example: {EXAMPLES}; all")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.words = ""

    def show_words(self, words: str) -> None:
        """What stands there while nobody types."""
        self.words = words
        self.setText(words)
        self.setMinimumWidth(self.fontMetrics().horizontalAdvance(words) + 24)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setText(self.words)
            self.selectAll()
        else:
            super().keyPressEvent(event)


class FocusLine(QWidget):
    """Shows the focus, and changes it."""

    favourite_kept = Signal(str, str)  # name, expression; an empty expression forgets it

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self.trail = TrailBar(self._widen)
        self.filter = FilterEdit()
        self.filter.setMinimumWidth(_FILTER_WIDTH)
        self.filter.returnPressed.connect(self._filter_entered)
        self.filter.textChanged.connect(self._text_changed)
        self._error = QLabel()
        self._error.setObjectName("wrong")
        self._error.setVisible(False)
        self.favourites = QToolButton()
        self.favourites.setText("Saved filters")
        self.favourites.setToolTip("Saved filters, and saving this one")
        self.favourites.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._favourite_menu = QMenu(self)
        self._favourite_menu.aboutToShow.connect(self._list_favourites)
        self.favourites.setMenu(self._favourite_menu)
        self.kept_filters: tuple[tuple[str, str], ...] = ()
        self.period = _PeriodEdit()
        self.period.returnPressed.connect(self._period_entered)
        self.periods = QToolButton()
        self.periods.setText("Saved periods")
        self.periods.setToolTip("Saved periods, and saving this one")
        self.periods.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._period_menu = QMenu(self)
        self._period_menu.aboutToShow.connect(self._list_periods)
        self.periods.setMenu(self._period_menu)
        self._back, self._forward = QToolButton(), QToolButton()
        self._back.setText("Back")
        self._forward.setText("Forward")
        self._back.setToolTip("Where the focus was before (Alt+Left)")
        self._forward.setToolTip("Where it was after (Alt+Right)")
        self._back.clicked.connect(investigation.back)
        self._forward.clicked.connect(investigation.forward)
        row = QHBoxLayout()
        row.setContentsMargins(8, 4, 8, 2)
        row.addWidget(self.trail)
        row.addWidget(self.filter, 1)
        for button in (self.favourites, self.periods, self._back, self._forward):
            button.setObjectName("small")
        for part in (self.favourites, self.period, self.periods, self._back, self._forward):
            row.addWidget(part)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 2)
        whole.setSpacing(0)
        whole.addLayout(row)
        whole.addWidget(self._error)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self._undo = [
            investigation.focus_changed.connect(self.redraw),
            investigation.opened_changed.connect(self.redraw),
        ]
        self.redraw()

    def _widen(self, depth: int) -> None:
        """Takes off what stands behind a part of the trail."""
        self._model.look(self._model.focus.with_trail(self._model.focus.trail[:depth]))

    def type_filter(self) -> None:
        """Gives the keyboard to the filter."""
        self.filter.setFocus()
        self.filter.selectAll()

    def type_period(self) -> None:
        """Gives the keyboard to the period."""
        self.period.setFocus()
        self.period.selectAll()

    def _filter_entered(self) -> None:
        self._model.look(self._model.focus.with_filter(self.filter.text()))

    def _text_changed(self, text: str) -> None:
        if not text and self._model.focus.filter:
            self._filter_entered()

    # --- period ---
    def _period_entered(self) -> None:
        evidence = self._model.evidence
        if evidence is None:
            return
        try:
            names = {p.name: (p.first_ns, p.last_ns) for p in self._model.kept.periods}
            period = period_ns(self.period.text(), evidence.first_ns, evidence.last_ns, zone(), names)
        except PeriodError as error:
            self._complain(str(error), self.period.x())
            return
        self._complain("", 0)
        if not self._model.look(self._model.focus.with_period(period)):
            self.redraw()

    def _list_periods(self) -> None:
        menu, kept = self._period_menu, self._model.kept
        menu.clear()
        for named in kept.periods:
            menu.addAction(
                f"{named.name}: {self._period_words((named.first_ns, named.last_ns))}", partial(self._look_at, named)
            )
        if kept.periods:
            menu.addSeparator()
        keep = menu.addAction("Save period…", self.keep_period)
        keep.setEnabled(self._model.focus.period is not None)
        forget = menu.addMenu("Forget")
        forget.setEnabled(bool(kept.periods))
        for named in kept.periods:
            forget.addAction(named.name, partial(self._forget, named))

    def _look_at(self, named: NamedPeriod) -> None:
        self._model.look(self._model.focus.with_period((named.first_ns, named.last_ns)))

    def _forget(self, named: NamedPeriod) -> None:
        kept = self._model.kept
        self._model.keep(
            replace(kept, periods=tuple(p for p in kept.periods if p != named)), f"forget period {named.name}"
        )

    def keep_period(self) -> None:
        """Asks for a name, and keeps the period with the case."""
        period = self._model.focus.period
        if period is None:
            return
        name, sure = QInputDialog.getText(self, "Save period", f"Name for {self._period_words(period)}:")
        if sure and name.strip():
            kept = self._model.kept
            others = tuple(p for p in kept.periods if p.name != name.strip())
            self._model.keep(
                replace(kept, periods=(*others, NamedPeriod(name.strip(), *period))), f"keep period {name.strip()}"
            )

    def _period_words(self, period: tuple[int, int]) -> str:
        evidence = self._model.evidence
        span = period[1] - period[0]
        if evidence is not None and evidence.last_ns - evidence.first_ns > _DAY_NS:
            return f"{date_and_moment(period[0])} to {date_and_moment(period[1])}"
        digits = 0 if span > 20 * 10**9 else 3 if span > 20 * 10**6 else 6
        return f"{moment(period[0], digits=digits)} to {moment(period[1], digits=digits)}"

    # --- kept filters ---
    def _list_favourites(self) -> None:
        menu, text = self._favourite_menu, self.filter.text().strip()
        menu.clear()
        for name, expression in self.kept_filters:
            action = menu.addAction(name, partial(self._use_filter, expression))
            action.setToolTip(expression)
        if self.kept_filters:
            menu.addSeparator()
        keep = menu.addAction("Save filter…", self.keep_filter)
        keep.setEnabled(bool(text) and self._model.filter_error is None)
        forget = menu.addMenu("Forget")
        forget.setEnabled(bool(self.kept_filters))
        for name, _ in self.kept_filters:
            forget.addAction(name, partial(self.favourite_kept.emit, name, ""))
        menu.setToolTipsVisible(True)

    def _use_filter(self, expression: str) -> None:
        self._model.look(self._model.focus.with_filter(expression))

    def keep_filter(self) -> None:
        """Asks for a name, and keeps the filter for every case."""
        text = self.filter.text().strip()
        name, sure = QInputDialog.getText(self, "Save filter", f"Name for “{text}”:")
        if sure and name.strip():
            self.favourite_kept.emit(name.strip(), text)

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

    def _complain(self, text: str, left: int) -> None:
        """Says what is wrong, beginning under its place."""
        self._error.setText(text)
        self._error.setVisible(bool(text))
        room = max(8, min(left, self.width() - self._error.sizeHint().width() - 12))
        self._error.setContentsMargins(room, 0, 0, 0)

    def redraw(self) -> None:
        """Writes the focus as it is."""
        focus = self._model.focus
        self.filter.filter = self._model.opened.filter if self._model.opened is not None else None
        self.trail.show_parts(["All", *(self._label(i, part) for i, part in enumerate(focus.trail))])
        if self.filter.text() != focus.filter:
            self.filter.blockSignals(True)
            self.filter.setText(focus.filter)
            self.filter.blockSignals(False)
        error = self._model.filter_error
        wrong = "true" if error else "false"
        if self.filter.property("wrong") != wrong:
            self.filter.setProperty("wrong", wrong)
            self.filter.style().polish(self.filter)
        place = error.place if error is not None and error.place is not None else 0
        before = self.filter.fontMetrics().horizontalAdvance(self.filter.text()[:place])
        self._complain(f"▲ Invalid filter (ignored): {error}" if error else "", self.filter.x() + 8 + before)
        period, evidence = focus.period, self._model.evidence
        self.period.setEnabled(evidence is not None)
        self.periods.setEnabled(evidence is not None)
        if period is not None:
            self.period.show_words(f"{self._period_words(period)}")
        else:
            self.period.show_words(
                "whole period"
                if evidence is None
                else f"whole period, {duration(evidence.last_ns - evidence.first_ns)}"
            )
        self._back.setEnabled(self._model.history.can_go_back)
        self._forward.setEnabled(self._model.history.can_go_forward)
