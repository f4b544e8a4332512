"""A command of ours that runs for long beside the window, in a process of its own."""

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, QProcess, QTimer, Signal

_LOOK_MS = 200
_END_MS = 10_000


@dataclass(frozen=True)
class Long:
    """A command that runs for long and keeps what it gets in a folder. ready: whether the folder can be opened."""

    command: str
    ready: Callable[[Path], bool]
    over: str  # what is said when it ended because it was asked to


class LongCommand(QObject):
    """A process of ours beside the window."""

    kept = Signal(object)  # the folder, when there is something to open
    said = Signal(str)  # its last line
    ended = Signal(str)  # why, where it was not asked to

    def __init__(self, what: Long, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._what = what
        self._process: QProcess | None = None
        self._folder = Path()
        self._last = ""
        self._asked = False  # to end
        self._look = QTimer(self)
        self._look.setInterval(_LOOK_MS)
        self._look.timeout.connect(self._opened)

    @property
    def running(self) -> bool:
        """Whether it runs, and was not asked to end."""
        return self._process is not None and not self._asked

    def start(self, folder: Path, arguments: list[str]) -> None:
        """Begins; what it gets goes into the folder."""
        self.close()  # One that is still ending holds the folder.
        self._asked, self._last = False, ""
        self._folder = folder
        process = self._process = QProcess(self)
        process.setProcessChannelMode(QProcess.ProcessChannelMode.MergedChannels)
        process.readyReadStandardOutput.connect(self._heard)
        process.finished.connect(self._finished)
        process.errorOccurred.connect(self._failed)
        process.start(sys.executable, ["-u", "-m", "yaffle", self._what.command, *arguments])
        self._look.start()

    def _opened(self) -> None:
        if self._what.ready(self._folder):
            self._look.stop()
            self.kept.emit(self._folder)

    def _heard(self) -> None:
        if self._process is not None:
            lines = bytes(self._process.readAllStandardOutput().data()).decode(errors="replace").strip().splitlines()
            if lines:
                self._last = lines[-1]
                self.said.emit(self._last)

    def _finished(self) -> None:
        self._look.stop()
        if self._process is not None:
            self._heard()
            self._process = None
            if self._asked:
                self.said.emit(self._what.over)
            else:
                self.ended.emit(self._last)

    def _failed(self, error: QProcess.ProcessError) -> None:
        if error == QProcess.ProcessError.FailedToStart and self._process is not None:
            self._last = self._process.errorString()
            self._finished()

    def stop(self) -> None:
        """Asks it to end; it writes everything, then `said` tells."""
        self._asked = True
        if self._process is not None:
            self._process.terminate()

    def close(self) -> None:
        """Ends it, and waits until everything is written."""
        self.stop()
        process, self._process = self._process, None
        if process is not None:
            process.waitForFinished(_END_MS)
