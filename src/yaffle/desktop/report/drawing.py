"""Figures of findings, drawn one after another: each is computed on another thread, painted on this one."""

from collections.abc import Sequence

from PySide6.QtCore import QObject, QTimer, Signal

from yaffle.desktop.report.figure_work import FigureWork, figure_work
from yaffle.desktop.shared.jobs import Latest
from yaffle.findings.finding import Finding
from yaffle.report.figure import Figure
from yaffle.session.evidence import Evidence


class Drawing(QObject):
    """Keeps what was drawn of one evidence. `done` says that all that was asked for is there."""

    done = Signal()
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.latest = Latest(self)
        self.latest.failed.connect(self._failed)
        self._of: Evidence | None = None
        self.figures: dict[str, list[Figure]] = {}
        self._waiting: list[tuple[str, FigureWork]] = []
        self._under_way = False
        self._partial: dict[str, list[Figure]] = {}

    @property
    def busy(self) -> bool:
        """Whether figures are still to come."""
        return self._under_way or self.latest.busy

    def ask(self, evidence: Evidence, findings: Sequence[Finding]) -> None:
        """Has the figures of findings drawn that are not there yet."""
        if evidence is not self._of:
            self._of, self.figures = evidence, {}
        self._waiting = [
            (finding.key, work)
            for finding in findings
            if finding.key not in self.figures
            for work in figure_work(evidence, finding)
        ]
        self._partial.clear()
        self._under_way = True
        self._next()

    def _next(self) -> None:
        if not self._waiting:
            self._under_way = False
            self.done.emit()
            return
        key, work = self._waiting[0]
        self.latest.ask(work.computed, lambda found: self._draw(key, work, found))

    def _draw(self, key: str, work: FigureWork, found: object) -> None:
        if not self._waiting or self._waiting[0][1] is not work:
            return  # Something else was asked for meanwhile.
        figure = work.drawn(found)
        self._waiting.pop(0)
        self._partial.setdefault(key, []).extend([figure] if figure is not None else [])
        if all(other != key for other, _ in self._waiting):  # A finding's figures come together.
            self.figures[key] = self._partial.pop(key)
        QTimer.singleShot(0, self._next)

    def _failed(self, text: str) -> None:
        self._waiting, self._under_way = [], False
        self.failed.emit(text)
