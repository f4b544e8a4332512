"""The report of a period, asked for in the window: made by a process of its own, so that nothing here waits."""

import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.errors import Cancelled, YaffleError
from yaffle.periods.span import span_of
from yaffle.progress import Progress
from yaffle.session.period_words import PeriodError
from yaffle.units import zone, zone_name

NAMED = ("last week", "this week", "yesterday", "today", "last month", "this month")
_USUAL_S = 30.0  # so long it usually takes
_LOOK_S = 0.1


class PeriodReportDialog(QDialog):
    """`period` and `title` are what was entered when it is accepted."""

    def __init__(self, whole: tuple[int, int], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Report of a period")
        self.resize(420, 150)
        self._whole = whole
        self.when, self.name = QComboBox(), QLineEdit()
        self.when.setEditable(True)
        self.when.addItems(NAMED)
        self.name.setPlaceholderText("Last week on the network")
        self._wrong = wrong_label()
        form = QFormLayout()
        form.addRow("period", self.when)
        form.addRow("title", self.name)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("What the period was like against the weeks before: two pages, and tables."))
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(ok_cancel(self))

    @property
    def period(self) -> str:
        """In words."""
        return self.when.currentText().strip()

    @property
    def title(self) -> str:
        """What stands above it; empty for the usual one."""
        return self.name.text().strip()

    def accept(self) -> None:
        """Takes what was entered, if it can be understood."""
        try:
            span_of(self.period, *self._whole, zone())
        except PeriodError as error:
            self._wrong.setText(str(error))
            return
        super().accept()


def writing(evidence: Path, period: str, title: str, out: Path) -> Callable[[Progress], str]:
    """The work of writing it, for any thread. Raises YaffleError, Cancelled."""

    def work(progress: Progress) -> str:
        command = [sys.executable, "-m", "yaffle", "report", str(evidence), "--period", period, "--out", str(out)]
        command += ["--zone", zone_name(), *(["--title", title] if title else [])]
        child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        began = time.monotonic()
        while child.poll() is None:
            spent = time.monotonic() - began
            if not progress(min(0.95, spent / (spent + _USUAL_S)), "writing the report of a period"):
                child.kill()
                child.wait()
                raise Cancelled
            time.sleep(_LOOK_S)
        told = (child.stderr.read() if child.stderr is not None else "").strip().splitlines()
        if child.returncode:
            raise YaffleError(told[-1] if told else f"{out}: could not be written")
        return f"Wrote {out}"

    return work
