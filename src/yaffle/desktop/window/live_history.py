"""A history that others write goes on in the window: looked at again at the pace the user set, and held still on
demand.
"""

from PySide6.QtCore import QObject, QTimer, Signal

from yaffle.desktop.shared.jobs import Latest
from yaffle.session.investigation import Growth, Investigation

PACES = {"paused": 0, "every 1 s": 1, "every 5 s": 5, "every 10 s": 10, "every minute": 60}
USUAL = "every 10 s"


class Live(QObject):
    """Runs while a history is open and a pace is set. `said` carries what is amiss with where it comes from, once."""

    said = Signal(str)

    def __init__(self, investigation: Investigation, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._latest = Latest(self)
        self._trouble = ""
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)
        self.seconds = PACES[USUAL]
        self._undo = [investigation.opened_changed.connect(self._opened)]

    def set_pace(self, seconds: int) -> None:
        """How often is looked; 0 holds everything still."""
        self.seconds = seconds
        self._opened()

    def _opened(self) -> None:
        self._trouble = ""
        evidence = self._model.evidence
        on = self.seconds > 0 and evidence is not None and evidence.analysis.history is not None
        self._timer.start(self.seconds * 1000) if on else self._timer.stop()

    @property
    def busy(self) -> bool:
        """Whether it is looking."""
        return self._latest.busy

    def look(self) -> None:
        """Looks now, away from the interface thread, unless it still does."""
        opened = self._model.opened
        if opened is not None and not self._latest.busy:
            self._latest.ask(lambda _progress: opened.grown(), self._take)

    def _take(self, growth: Growth | None) -> None:
        if growth is None:
            return
        self._model.grow(growth)
        history = growth.of.analysis.history
        if history is not None and history.trouble != self._trouble:
            self._trouble = history.trouble
            self.said.emit(self._trouble[:1].upper() + self._trouble[1:] or "The store answers again.")
