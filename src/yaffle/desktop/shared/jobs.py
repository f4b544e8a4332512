"""Long work off the interface thread: progress, an estimate of the rest, a stop. Only this module starts threads."""

import logging
import time
from collections.abc import Callable
from functools import lru_cache
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, QTimer, Signal, Slot

from yaffle.errors import Cancelled, YaffleError

_LOG = logging.getLogger(__name__)
_alive: "set[Job]" = set()
_KEPT_S = (
    30.0  # A job whose work is done is kept so long: the last to let go of it must not be its thread, on its way out.
)
_EVERY_S = 0.05  # The interface is told no more often.
STOPPED = "stopped; it is computed again when the focus changes."
_LONG_MS = 500  # What takes longer shows how far it is.
Work = Callable[[Callable[[float, str], bool]], Any]  # gets a progress callback, returns a result


class Job(QObject):
    """One piece of work. `work` gets a progress callback and returns a result."""

    progressed = Signal(float, str, float)  # share, words, seconds left (-1 unknown)
    finished = Signal(object)
    failed = Signal(str)
    cancelled = Signal()

    def __init__(self, work: Work) -> None:
        super().__init__()  # No parent: a window that goes must not take a job with it whose thread is still telling.
        self._work = work
        self.over_at = 0.0  # when its thread was done with it
        self._stop = False
        self._started = time.monotonic()
        self._told = 0.0

    def stop(self) -> None:
        """Asks the work to end soon."""
        self._stop = True

    def start(self, *, at_once: bool = False) -> None:
        """Begins, on a thread of the pool. It lives until its thread is done with it, and ends on this one. at_once:
        what the user waits for does not stand behind pictures.
        """
        now = time.monotonic()
        _alive.difference_update([job for job in _alive if job.over_at and now - job.over_at > _KEPT_S])
        _alive.add(self)
        (_pool_of_tasks() if at_once else QThreadPool.globalInstance()).start(_Runner(self))

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
            self.failed.emit(f"{type(error).__name__}: {error}. Internal error; details are in the log.")
        else:
            self.finished.emit(result)


class Latest(QObject):
    """What a view computes away from the interface thread: the newest question counts, answers to older ones are
    dropped.

    One question is worked on at a time; of those that come meanwhile only the last is kept.
    """

    failed = Signal(str)  # what was shown before stays
    progressed = Signal(float, str, float)  # of work that takes long: share, words, seconds left (-1 unknown)
    rested = Signal()  # nothing is worked on any more

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._job: Job | None = None
        self._next: tuple[Work, Callable[[Any], None]] | None = None
        self._soon = QTimer(self, singleShot=True, interval=0)  # Who asks twice for one event is answered once.
        self._soon.timeout.connect(self._go_on)
        self._how_far = (0.0, "drawing", -1.0)
        self._long = QTimer(self, singleShot=True, interval=_LONG_MS)
        self._long.timeout.connect(self._tell)
        self._deliver = QTimer(self, singleShot=True, interval=0)
        self._deliver.timeout.connect(self._delivered)
        self._result: Any = None
        self._wanted = False
        self._show: Callable[[Any], None] | None = None

    @property
    def busy(self) -> bool:
        """Whether an answer is still to come."""
        return self._job is not None or self._next is not None

    def ask(self, work: Work, show: Callable[[Any], None]) -> None:
        """Computes `work` on another thread, then calls `show` with the result on this one.

        What it worked on before is given up.
        """
        self._next = (work, show)
        self._wanted = False
        if self._job is None:
            self._soon.start()
        else:
            self._job.stop()

    def stop(self) -> None:
        """Gives up what is worked on: what was shown before stays, and that is said."""
        if self._job is not None:
            self._job.stop()

    def forget(self) -> None:
        """No answer is wanted any more."""
        self._next, self._wanted = None, False

    def _begin(self) -> None:
        assert self._next is not None
        (work, self._show), self._next = self._next, None
        self._wanted = True
        self._how_far = (0.0, "drawing", -1.0)
        self._long.start()
        self._job = Job(work)
        self._job.progressed.connect(self._progressed)
        self._job.cancelled.connect(self._cancelled)
        self._job.finished.connect(self._finished)
        self._job.failed.connect(self._failed)
        self._job.start()

    @Slot(object)
    def _finished(self, result: Any) -> None:
        self._result = result
        self._deliver.start()  # By itself: keys and what else was shown come between two answers.

    @Slot()
    def _delivered(self) -> None:
        result, self._result, self._job = self._result, None, None
        if self._wanted and self._show is not None:
            self._show(result)
        self._go_on()

    @Slot(str)
    def _failed(self, text: str) -> None:
        self._job = None
        self.failed.emit(text)
        self._go_on()

    @Slot()
    def _cancelled(self) -> None:
        self._job = None
        if self._wanted:
            self.failed.emit(STOPPED)
        self._go_on()

    @Slot(float, str, float)
    def _progressed(self, share: float, words: str, left: float) -> None:
        self._how_far = (share, words, left)
        if not self._long.isActive():
            self._tell()

    @Slot()
    def _tell(self) -> None:
        if self._job is not None:
            self.progressed.emit(*self._how_far)

    def _go_on(self) -> None:
        if self._next is not None and self._job is None:
            self._begin()
        if self._job is None:
            self._long.stop()
            self.rested.emit()


def let_all_end(at_most_ms: int) -> None:
    """Waits for what is still under way, before the objects go that it would report to."""
    for pool in (_pool_of_tasks(), QThreadPool.globalInstance()):
        pool.waitForDone(at_most_ms)


@lru_cache(1)
def _pool_of_tasks() -> QThreadPool:
    return QThreadPool()


class _Runner(QRunnable):
    def __init__(self, job: Job) -> None:
        super().__init__()
        self._job = job

    @Slot()
    def run(self) -> None:
        job = self._job
        try:
            job.run()
        finally:
            job.over_at = time.monotonic()
