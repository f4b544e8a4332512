"""A visit in Examine: which of a client's visits, what decided it in words, its lanes, and the way to each exchange."""

from PySide6.QtWidgets import QWidget

from yaffle.desktop.examine.lanes_panel import LanesPanel
from yaffle.desktop.examine.visit_lanes import VisitLanes, step_words
from yaffle.desktop.shared.ledger_bar import PartyKey
from yaffle.session.evidence import Evidence
from yaffle.session.visit import Visit, Visits
from yaffle.units import duration, moment


class VisitPanel(LanesPanel):
    """Shows visits of one client, one at a time."""

    def __init__(self, parent: QWidget | None = None) -> None:
        self.lanes = VisitLanes()
        tips = (
            "The visit of this client before",
            "The next visit of this client",
            "The visit of this client that took longest",
        )
        super().__init__(self.lanes, PartyKey(), tips, parent)
        self._visits: Visits | None = None
        self.visit: Visit | None = None
        self._show(None)

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
        visits = self._visits
        if visits is not None and 0 <= number < len(visits):
            self._latest.ask(lambda _progress: (visits, number, visits.visit(number)), self._found)

    def number_of_longest(self) -> int:
        return self._visits.longest if self._visits is not None else 0

    def _show(self, visit: Visit | None) -> None:
        self.visit = visit
        total = len(self._visits) if self._visits is not None and visit is not None else 0
        self.enable(total)
        self.about.setText("")
        if visit is None or self._visits is None:
            self.title.setText("No visit is chosen")
            self.words.setText(
                "Choose a connection in Apportion: what its client did around it, on all its connections, will stand"
                " here."
            )
        else:
            places = self._visits.evidence.places
            self.title.setText(
                f"{places.host(visit.client)}, {moment(visit.first_ns)}: visit {self.number + 1} of {total}"
            )
            left_out = (
                f" The first {len(visit.steps)} steps are shown, {visit.left_out} more are not."
                if visit.left_out
                else ""
            )
            self.words.setText(visit.sentence + left_out)
        self.lanes.show_visit(visit)

    def tell(self, number: int) -> None:
        if self.visit is not None:
            step = self.visit.steps[number]
            after = (
                f"{duration(step.first_ns - self.visit.first_ns)} after start"
                if step.first_ns > self.visit.first_ns
                else "at start"
            )
            self.about.setText(
                f"{after}: "
                + ", ".join(step_words(step).split("\n"))
                + (". Enter shows its packets" if step.wait >= 0 else "")
            )

    def examine(self, number: int) -> None:
        if self.visit is not None and self.visit.steps[number].wait >= 0:
            step = self.visit.steps[number]
            self.exchange_wanted.emit(step.connection, step.first_ns)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.lanes.viewport().update()
