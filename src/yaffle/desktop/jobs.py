"""Long work off the interface thread: progress, an estimate of the rest, a stop. Only this module starts threads."""

import logging
import time
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal, Slot

from yaffle.errors import Cancelled, YaffleError

_LOG = logging.getLogger(__name__)
_EVERY_S = 0.05  # The interface is told no more often.


class Job(QObject):
    """One piece of work. `work` gets a progress callback and returns a result."""

    progressed = Signal(float, str, float)  # share, words, seconds left (-1 unknown)
    finished = Signal(object)
    failed = Signal(str)
    cancelled = Signal()

    def __init__(self, work: Callable[[Callable[[float, str], bool]], Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = work
        self._stop = False
        self._started = time.monotonic()
        self._told = 0.0

    def stop(self) -> None:
        """Asks the work to end soon."""
        self._stop = True

    def start(self) -> None:
        """Begins, on a thread of the pool."""
        QThreadPool.globalInstance().start(_Runner(self))

    def _progress(self, share: float, words: str) -> bool:
        now = time.monotonic()
        if now - self._told >= _EVERY_S:
            self._told = now
            spent = now - self._started
            left = spent / share - spent if share > 0.02 else -1.0
            self.progressed.emit(share, words, left)
        return not self._stop

    def run(self) -> None:
        """Does the work; every end is told by exactly one signal."""
        try:
            result = self._work(self._progress)
        except Cancelled:
            self.cancelled.emit()
        except YaffleError as error:
            self.failed.emit(str(error))
        except Exception as error:  # noqa: BLE001  A mistake of ours: the window must live on and say so.
            _LOG.exception("a job failed")
            self.failed.emit(f"{type(error).__name__}: {error}. This is a mistake in the program; the log has the details.")
        else:
            self.finished.emit(result)


class _Runner(QRunnable):
    def __init__(self, job: Job) -> None:
        super().__init__()
        self._job = job

    @Slot()
    def run(self) -> None:
        self._job.run()
