"""Asks once, now: a test on purpose from the window, in a process of its own."""

import json
import subprocess
import sys
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.jobs import Latest
from yaffle.errors import YaffleError
from yaffle.probing.kinds import KINDS

_LONGEST_S = 300.0
_LOOK_S = 0.1
_OFFERED = tuple(kind for kind in KINDS if kind != "storm")
_HINTS = {
    "reach": "a host: 192.0.2.10", "connect": "host:port", "page": "https://host/page", "name": "a name: host.example",
    "route": "a host", "delay": "a host with yaffle respond", "speed": "a host with yaffle respond",
    "voice": "a host with yaffle respond", "video": "a host with yaffle respond", "sweep": "a subnet: 192.0.2.0/24",
}  # fmt: skip


class TestNow(QDialog):
    """Kind and target; what came stands below, the newest first."""

    __test__ = False

    def __init__(self, kind: str, target: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Test now")
        self.setMinimumSize(620, 380)
        self.kind = QComboBox()
        self.kind.addItems(list(_OFFERED))
        self.kind.setCurrentText(kind if kind in _OFFERED else "reach")
        self.target = QLineEdit(target)
        self.kind.currentTextChanged.connect(lambda _: self._hint())
        self.server = QLineEdit()
        self.server.setPlaceholderText("name: this host's own name server unless another is given")
        self.answers = QPlainTextEdit()
        self.answers.setReadOnly(True)
        self.answers.setAccessibleName("What came")
        self.go, self.end = QPushButton("Test"), QPushButton("Stop")
        self.go.setDefault(True)
        self.go.clicked.connect(self.ask)
        self.end.clicked.connect(self.stop)
        self.wrong = QLabel()
        self.wrong.setWordWrap(True)
        form = QFormLayout()
        form.addRow("kind", self.kind)
        form.addRow("target", self.target)
        form.addRow("name server", self.server)
        buttons = QHBoxLayout()
        buttons.addWidget(self.wrong, 1)
        for part in (self.end, self.go):
            buttons.addWidget(part)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.answers, 1)
        column.addLayout(buttons)
        self._latest = Latest(self)
        self._latest.failed.connect(self._failed)
        self._stopped = False
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._hint()
        self._enable()
        self.target.setFocus()

    @property
    def busy(self) -> bool:
        """Whether a test is under way."""
        return self._latest.busy

    def _hint(self) -> None:
        self.target.setPlaceholderText(_HINTS[self.kind.currentText()])
        self.server.setEnabled(self.kind.currentText() == "name")

    def _enable(self) -> None:
        self.go.setEnabled(not self._latest.busy)
        self.end.setEnabled(self._latest.busy)

    def ask(self) -> None:
        """Asks what is filled in."""
        target = self.target.text().strip()
        if not target:
            self.wrong.setText("Whom? Fill in the target.")
            return
        words = [sys.executable, "-m", "yaffle", "probe", "--json", "-"]
        if self.kind.currentText() == "name" and self.server.text().strip():
            words += ["--server", self.server.text().strip()]
        words += ["--", self.kind.currentText(), target]
        self._stopped = False
        self.wrong.setText("asking …")
        self._latest.ask(lambda _progress: _run(words, lambda: self._stopped), self._show)
        self._enable()

    def stop(self) -> None:
        """Ends the test that is under way."""
        self._stopped = True

    def _failed(self, text: str) -> None:
        self.wrong.setText(text)
        self._enable()

    def _show(self, told: dict[str, Any]) -> None:
        from yaffle.probing.result import result_of
        from yaffle.probing.result_words import line

        self.wrong.setText("")
        lines = [line(result_of(one)) for one in told["results"]]
        former = self.answers.toPlainText()
        self.answers.setPlainText("\n".join([*lines, former]).rstrip())
        self._enable()

    def closeEvent(self, event: Any) -> None:
        """Ends what is under way."""
        self.stop()
        super().closeEvent(event)


def _run(words: list[str], stopped: Any) -> dict[str, Any]:
    """The document of a test. Raises YaffleError with what the command says."""
    child = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    waited = 0.0
    while True:
        try:
            out, errors = child.communicate(timeout=_LOOK_S)
            break
        except subprocess.TimeoutExpired:
            waited += _LOOK_S
            if stopped() or waited > _LONGEST_S:
                child.terminate()
    if not out:
        raise YaffleError(errors.strip().splitlines()[-1].removeprefix("yaffle: ") if errors.strip() else "stopped")
    told: dict[str, Any] = json.loads(out)
    return told
