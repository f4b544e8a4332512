"""Receiving flow records from the window: what to listen on and where to keep it, done by a process of its own."""

import sys
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, QProcess, QTimer, Signal
from PySide6.QtWidgets import QDialog, QFormLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.history.layout import is_history

_LOOK_MS = 200
_END_MS = 10_000


def ports_of(text: str) -> list[int]:
    """Ports as people list them. Raises ValueError with words for the user."""
    found = []
    for word in text.replace(",", " ").split():
        if not (word.isdigit() and int(word) < 65536):
            raise ValueError(f"“{word}” is not a port: 1 to 65535")
        found.append(int(word))
    return found


class ReceiveDialog(QDialog):
    """`arguments` is what to listen with, when it is accepted."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Receive flow records")
        self.resize(520, 240)
        self.arguments: list[str] = []
        self.folder, self.udp, self.tcp, self.bind = (
            QLineEdit(text)
            for text in (str(platformdirs.user_data_path("yaffle") / "history"), "2055, 4739, 6343", "", "127.0.0.1")
        )
        self.udp.setToolTip("NetFlow v5 and v9, IPFIX and sFlow v5, on any of them")
        self.tcp.setToolTip("IPFIX over TCP")
        self.bind.setToolTip("Only this host is listened to; give an address of an interface, or 0.0.0.0, for others")
        form = QFormLayout()
        for name, part in (
            ("Keep in", self.folder),
            ("UDP ports", self.udp),
            ("TCP ports", self.tcp),
            ("On address", self.bind),
        ):
            form.addRow(name, part)
        self._wrong = wrong_label()
        buttons = ok_cancel(self)
        column = QVBoxLayout(self)
        column.addWidget(
            QLabel("Records are kept for months in this folder; the same as yaffle listen, until the window closes.")
        )
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def accept(self) -> None:
        """Takes what was entered, if it makes sense."""
        try:
            udp, tcp = ports_of(self.udp.text()), ports_of(self.tcp.text())
            if not udp and not tcp:
                raise ValueError("give at least one port")
            if not self.folder.text().strip():
                raise ValueError("give a folder to keep the records in")
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        self.arguments = ["--history", self.folder.text().strip(), "--bind", self.bind.text().strip()]
        self.arguments += [
            part for kind, ports in (("--udp", udp), ("--tcp", tcp)) for port in ports for part in (kind, str(port))
        ]
        super().accept()


class Receiver(QObject):
    """The process that listens."""

    kept = Signal(object)  # the folder, when there is something to open
    said = Signal(str)  # its last line
    ended = Signal(str)  # why, where it was not asked to

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self._folder = Path()
        self._last = ""
        self._asked = False  # to end
        self._look = QTimer(self)
        self._look.setInterval(_LOOK_MS)
        self._look.timeout.connect(self._opened)

    @property
    def running(self) -> bool:
        """Whether it listens."""
        return self._process is not None and not self._asked

    def start(self, arguments: list[str]) -> None:
        """Begins to listen."""
        self.close()  # One that is still ending holds the folder.
        self._asked, self._last = False, ""
        self._folder = Path(arguments[arguments.index("--history") + 1])
        process = self._process = QProcess(self)
        process.setProcessChannelMode(QProcess.ProcessChannelMode.MergedChannels)
        process.readyReadStandardOutput.connect(self._heard)
        process.finished.connect(self._finished)
        process.errorOccurred.connect(self._failed)
        process.start(sys.executable, ["-u", "-m", "yaffle", "listen", *arguments])
        self._look.start()

    def _opened(self) -> None:
        if is_history(self._folder):
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
                self.said.emit("Receiving has ended; what came is kept.")
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
