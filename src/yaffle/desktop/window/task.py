"""The one long task of the window: what it is doing, how far it is, and Stop; also for views that take their time."""

import time
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import Signal, Slot
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from yaffle.desktop.shared.jobs import Job, Latest, Work
from yaffle.units import duration

BUSY = "A task is running. Wait for it or stop it."
_BRIEF_MS = 4000
_WAITED_FOR_S = 5.0  # So long nothing begins by itself after somebody was told to wait.


class Task(QWidget):
    """Stands in the status bar. `said` carries words and for how many ms they stay; `failed` what went wrong."""

    said = Signal(str, int)
    failed = Signal(str)
    over = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.job: Job | None = None
        self._refused_s = -_WAITED_FOR_S  # when somebody was told to wait
        self._then: Callable[[Any], None] = lambda _result: None
        self._pictures: Sequence[Latest] = ()
        self.doing = QLabel()
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setFixedWidth(180)
        self.progress.setTextVisible(False)
        self.button = QPushButton("Stop")
        self.button.clicked.connect(self.stop)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for part in (self.doing, self.progress, self.button):
            row.addWidget(part)
        self.hide()

    def watch(self, pictures: Sequence[Latest]) -> None:
        """Views whose progress is shown here, and which Stop stops, too."""
        self._pictures = pictures
        for picture in pictures:
            picture.progressed.connect(self._picture_progressed)
            picture.rested.connect(self._picture_rested)

    @property
    def busy(self) -> bool:
        """Whether the task or something watched is under way."""
        return self.job is not None or any(picture.busy for picture in self._pictures)

    def begin(self, work: Work, words: str, then: Callable[[Any], None] | None = None) -> bool:
        """Begins a task unless one is running; whether it did. `then` gets its result; without, the result is said."""
        if self.job is not None:
            self.said.emit(BUSY, _BRIEF_MS)
            self._refused_s = time.monotonic()
            return False
        self.doing.setText(words)
        self._show(True)
        self._then = then or (lambda result: self.said.emit(str(result), 6000))
        self.job = Job(work)
        self.job.progressed.connect(self._progressed)
        self.job.finished.connect(self._finished)
        self.job.failed.connect(self._failed)
        self.job.cancelled.connect(self._cancelled)
        self.job.start(at_once=True)
        return True

    @property
    def free(self) -> bool:
        """Whether something may begin by itself: nothing is running, and nobody waits to begin something."""
        return self.job is None and time.monotonic() - self._refused_s > _WAITED_FOR_S

    def stop(self) -> None:
        """Stops the task, else the views that are being computed."""
        if self.job is None:
            for picture in self._pictures:
                picture.stop()
        else:
            self.job.stop()
            self.doing.setText("stopping")

    def _show(self, busy: bool) -> None:
        self.setVisible(busy)
        self.progress.setValue(0)

    def _end(self) -> None:
        self.job = None
        self._show(False)
        self.over.emit()

    @Slot(object)
    def _finished(self, result: Any) -> None:
        self._end()
        self._then(result)

    @Slot(str)
    def _failed(self, text: str) -> None:
        self._end()
        self.failed.emit(text)

    @Slot()
    def _cancelled(self) -> None:
        self._end()
        self.said.emit("stopped", _BRIEF_MS)

    @Slot(float, str, float)
    def _progressed(self, share: float, words: str, left: float) -> None:
        self.progress.setValue(round(1000 * share))
        self.doing.setText(words + (f", {duration(round(left * 1e9))} left" if left > 1 else ""))

    @Slot(float, str, float)
    def _picture_progressed(self, share: float, words: str, left: float) -> None:
        if self.job is None:
            self.setVisible(True)
            self._progressed(share, words, left)

    @Slot()
    def _picture_rested(self) -> None:
        if not self.busy:
            self._show(False)
