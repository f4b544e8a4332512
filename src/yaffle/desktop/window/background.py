"""What the model needs done away from the interface thread: filters run, focus and notes kept with the case."""

import logging

from PySide6.QtCore import QObject, QTimer, Signal

from yaffle.desktop.shared.jobs import Latest
from yaffle.history.locked_database import FilterError
from yaffle.progress import Progress
from yaffle.session.investigation import Investigation

_LOG = logging.getLogger(__name__)
_REMEMBER_AFTER_MS = 300  # Focus and notes are kept so long after the last change.


class Background(QObject):
    """`filter_stopped` and `not_kept` carry why."""

    filter_stopped = Signal(str)
    not_kept = Signal(str)

    def __init__(self, investigation: Investigation, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self.filter, self._memory = Latest(self), Latest(self)
        investigation.filters_elsewhere = True
        self.filter.failed.connect(self._give_up)
        self._memory.failed.connect(self.not_kept)
        self._soon = QTimer(self, singleShot=True, interval=_REMEMBER_AFTER_MS)
        self._soon.timeout.connect(self._remember)
        self._undo = [
            investigation.focus_changed.connect(self._later),
            investigation.kept_changed.connect(self._later),
            investigation.filter_wanted.connect(self._run_filter),
        ]

    def _later(self) -> None:
        self._soon.start()

    def _remember(self) -> None:
        remembering = self._model.remembering()
        if remembering is not None:
            self._memory.ask(lambda _progress: remembering(), lambda _nothing: None)

    def remember_now(self) -> None:
        """What is not kept yet is, before the window goes."""
        self._soon.stop()
        try:
            self._model.remember()
        except OSError as error:
            _LOG.warning("notes and focus cannot be kept: %s", error)

    def _run_filter(self) -> None:
        """Runs the awaited filter; the focus follows when it is answered."""
        opened, focus = self._model.opened, self._model.awaited
        if opened is None or focus is None:
            return

        def work(progress: Progress) -> None:
            try:
                opened.filter.rows(focus.filter, progress)
            except FilterError:
                return  # It is remembered as the answer: the focus line says what is wrong with the filter.

        self.filter.ask(work, lambda _nothing: self._model.filter_answered())

    def _give_up(self, text: str) -> None:
        self._model.awaited = None
        self.filter_stopped.emit(text)
