"""Answering tests from the window, for a quick one between two desks: a process of its own, until the window closes."""

import sys

from PySide6.QtCore import QProcess
from PySide6.QtWidgets import QDialog, QFormLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import wrong_label
from yaffle.desktop.window.receiving import ports_of

_END_MS = 3000


class RespondDialog(QDialog):
    """Start and Stop; what it answers stands below."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Answer tests here")
        self.resize(480, 220)
        self.bind, self.port, self.allow = QLineEdit("127.0.0.1"), QLineEdit("8620"), QLineEdit()
        self.bind.setToolTip("Only this host is answered; give an address of an interface, or 0.0.0.0, for others")
        self.allow.setPlaceholderText("networks that are answered, apart by commas: 198.51.100.0/24")
        self.words = QLabel("Another Yaffle then measures delay, speed, voice and video to this host.")
        self.words.setWordWrap(True)
        self.wrong = wrong_label()
        self.begin, self.end = QPushButton("Start"), QPushButton("Stop")
        self.begin.setDefault(True)
        self.begin.clicked.connect(self.start)
        self.end.clicked.connect(self.stop)
        form = QFormLayout()
        for name, part in (("On address", self.bind), ("Port", self.port), ("Answer also", self.allow)):
            form.addRow(name, part)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(self.begin)
        buttons.addWidget(self.end)
        column = QVBoxLayout(self)
        column.addWidget(self.words)
        column.addLayout(form)
        column.addWidget(self.wrong)
        column.addLayout(buttons)
        self._process = QProcess(self)
        self._process.setProcessChannelMode(QProcess.ProcessChannelMode.MergedChannels)
        self._process.readyReadStandardOutput.connect(self._said)
        self._process.stateChanged.connect(lambda _state: self._enable())
        self._enable()

    @property
    def running(self) -> bool:
        """Whether it answers."""
        return self._process.state() != QProcess.ProcessState.NotRunning

    def start(self) -> None:
        """Begins to answer, if what was entered makes sense."""
        try:
            ports = ports_of(self.port.text())
        except ValueError as error:
            self.wrong.setText(str(error))
            return
        if len(ports) != 1 or self.running:
            self.wrong.setText("give one port" if len(ports) != 1 else "")
            return
        self.wrong.setText("")
        arguments = ["-m", "yaffle", "respond", "--bind", self.bind.text().strip(), "--port", str(ports[0])]
        for network in self.allow.text().replace(",", " ").split():
            arguments += ["--allow", network]
        self._process.start(sys.executable, arguments)

    def stop(self) -> None:
        """Ends it."""
        if self.running:
            self._process.terminate()
            if not self._process.waitForFinished(_END_MS):
                self._process.kill()

    def _said(self) -> None:
        lines = bytes(self._process.readAllStandardOutput().data()).decode("utf-8", "replace").strip().splitlines()
        if lines:
            self.words.setText(lines[-1])

    def _enable(self) -> None:
        self.begin.setEnabled(not self.running)
        self.end.setEnabled(self.running)
