"""A visit in Examine: which of a client's visits, what decided it in words, its lanes, and the way to each exchange."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.examine.visit_lanes import VisitLanes, step_words
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.ledger_bar import PartyKey
from yaffle.session.evidence import Evidence
from yaffle.session.visit import Visit, Visits
from yaffle.units import duration, moment


class VisitPanel(QWidget):
    """Shows visits of one client, one at a time."""

    exchange_wanted = Signal(int, object)  # connection, moment in ns (more than a C integer holds)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._latest = Latest(self)
        self._visits: Visits | None = None
        self.number = 0
        self.visit: Visit | None = None
        self._title, self._words, self._step = QLabel(), QLabel(), QLabel()
        self._latest.failed.connect(lambda text: self._words.setText(f"View not updated: {text}"))
        self._title.setObjectName("heading")
        self._step.setObjectName("faint")
        for label in (self._words, self._step):
            label.setWordWrap(True)
        self.former, self.next, self.longest = QPushButton("Earlier"), QPushButton("Later"), QPushButton("Longest")
        self.former.setToolTip("The visit of this client before")
        self.next.setToolTip("The next visit of this client")
        self.longest.setToolTip("The visit of this client that took longest")
        self.former.clicked.connect(lambda: self.show_number(self.number - 1))
        self.next.clicked.connect(lambda: self.show_number(self.number + 1))
        self.longest.clicked.connect(lambda: self.show_number(self._visits.longest if self._visits is not None else 0))
        self.lanes = VisitLanes()
        self.lanes.chosen.connect(self._chosen)
        self.lanes.wanted.connect(self._wanted)
        row = QHBoxLayout()
        row.addWidget(self._title, 1)
        for button in (self.former, self.next, self.longest):
            row.addWidget(button)
        under = QHBoxLayout()
        under.addWidget(self._words, 1)
        under.addWidget(PartyKey())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addLayout(under)
        column.addWidget(self.lanes, 1)
        column.addWidget(self._step)
        self._show(None)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest,)

    def clear(self) -> None:
        """Shows nothing."""
        self._latest.forget()
        self._visits = None
        self._show(None)

    def show_client(self, evidence: Evidence, client: str, moment_ns: int) -> None:
        """Shows the visit of a client that ran at a moment."""
        if (
            self._visits is not None
            and self._visits.evidence is evidence
            and self._visits.client == client
            and self.visit is not None
        ):
            if self.visit.first_ns <= moment_ns <= self.visit.last_ns:
                return

        def work(_progress: object) -> tuple[Visits, int, Visit | None]:
            visits = Visits.of(evidence, client)
            number = visits.at(moment_ns)
            return visits, number, visits.visit(number) if len(visits) else None

        self._latest.ask(work, self._found)

    def _found(self, found: tuple[Visits, int, Visit | None]) -> None:
        self._visits, self.number, visit = found
        self._show(visit)

    def show_number(self, number: int) -> None:
        """Shows another visit of the same client."""
        visits = self._visits
        if visits is not None and 0 <= number < len(visits):
            self._latest.ask(lambda _progress: (visits, number, visits.visit(number)), self._found)

    def _show(self, visit: Visit | None) -> None:
        self.visit = visit
        total = len(self._visits) if self._visits is not None else 0
        self.former.setEnabled(visit is not None and self.number > 0)
        self.next.setEnabled(visit is not None and self.number + 1 < total)
        self.longest.setEnabled(total > 1)
        self._step.setText("")
        if visit is None or self._visits is None:
            self._title.setText("No visit is chosen")
            self._words.setText(
                "Choose a connection in Apportion: what its client did around it, on all its connections, will stand"
                " here."
            )
        else:
            places = self._visits.evidence.places
            self._title.setText(
                f"{places.host(visit.client)}, {moment(visit.first_ns)}: visit {self.number + 1} of {total}"
            )
            left_out = (
                f" The first {len(visit.steps)} steps are shown, {visit.left_out} more are not."
                if visit.left_out
                else ""
            )
            self._words.setText(visit.sentence + left_out)
        self.lanes.show_visit(visit)

    def _chosen(self, number: int) -> None:
        if self.visit is not None:
            step = self.visit.steps[number]
            after = (
                f"{duration(step.first_ns - self.visit.first_ns)} after start"
                if step.first_ns > self.visit.first_ns
                else "at start"
            )
            self._step.setText(
                f"{after}: "
                + ", ".join(step_words(step).split("\n"))
                + (". Enter shows its packets" if step.wait >= 0 else "")
            )

    def _wanted(self, number: int) -> None:
        if self.visit is not None and self.visit.steps[number].wait >= 0:
            step = self.visit.steps[number]
            self.exchange_wanted.emit(step.connection, step.first_ns)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.lanes.viewport().update()
