"""Getting evidence out of the window: report, packets, tables; addresses masked where wished."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QMessageBox, QWidget

from yaffle.capture.masking import Masker
from yaffle.desktop.window.period_report import PeriodReportDialog, writing
from yaffle.desktop.window.report_writer import ReportWriter
from yaffle.desktop.window.task import Task
from yaffle.progress import Progress
from yaffle.session.exports import connections_table, safe_name, waits_table, write_flows, write_packets, write_table
from yaffle.session.investigation import Investigation
from yaffle.session.scene import Scene
from yaffle.units import count

_LARGE = 100_000  # Packets from which it is said how many there are.


class ExportActions(QObject):
    """Asks what to mask and where to write, then writes off the interface thread."""

    said = Signal(str, int)

    def __init__(self, investigation: Investigation, task: Task, window: QWidget) -> None:
        super().__init__(window)
        self._model, self._task, self._window = investigation, task, window
        self.writer = ReportWriter(task, self)
        self.writer.failed.connect(task.failed)
        self._masker: Masker | None = (
            None  # One for the window's life: the same address looks the same in all that goes out.
        )

    def _ask(self, title: str, what: str, kinds: str, ending: str) -> tuple[Path, Masker | None] | None:
        """Where to, and whether addresses are masked; None where the user thinks better of it."""
        opened = self._model.opened
        if opened is None:
            self.said.emit("Nothing is open.", 4000)
            return None
        box = QMessageBox(
            QMessageBox.Icon.Question,
            title,
            what,
            QMessageBox.StandardButton.Ok | QMessageBox.StandardButton.Cancel,
            self._window,
        )
        mask = QCheckBox("Mask addresses, and leave names and payload out")
        box.setCheckBox(mask)
        if box.exec() != QMessageBox.StandardButton.Ok:
            return None
        name = safe_name(opened.folder.stem if opened.folder else Path(opened.analysis.capture.sources[0].name).stem)
        path, _ = QFileDialog.getSaveFileName(self._window, title, f"{name}{ending}", kinds)
        if not path:
            return None
        if mask.isChecked():
            self._masker = self._masker or Masker()
        return Path(path), self._masker if mask.isChecked() else None

    def report(self) -> None:
        """The report, as HTML or PDF by the name's ending."""
        model = self._model
        asked = self._ask(
            "Report",
            "One document: complaint, answer, findings with their figures and grounds, method and limits.",
            "PDF (*.pdf);;HTML (*.html)",
            "-report.pdf",
        )
        if asked is not None and model.opened is not None:
            self.writer.report(model.opened, model.kept, *asked)

    def bundle(self) -> None:
        """Report, document, tables, packets of the findings, checksums, as one file."""
        model = self._model
        asked = self._ask(
            "Evidence bundle",
            "One file for another team: the report, all figures, tables, the packets of each finding, checksums, and"
            " the command that gives each figure again.",
            "Bundle (*.zip)",
            "-evidence.zip",
        )
        if asked is not None and model.opened is not None:
            self.writer.bundle(model.opened, model.kept, *asked)

    def period(self) -> None:
        """The report of a period of the history that is open."""
        opened = self._model.opened
        history = opened.analysis.history if opened is not None else None
        if opened is None or history is None:
            self.said.emit("Periods are told of a history: open one with Ctrl+H.", 6000)
            return
        whole = (history.first_ns, max(history.last_ns, opened.evidence.last_ns))
        self.dialog = PeriodReportDialog(whole, self._window)
        evidence = opened.folder or history.folder
        self.dialog.accepted.connect(lambda: self._write_period(evidence, self.dialog.period, self.dialog.title))
        self.dialog.open()

    def _write_period(self, evidence: Path, period: str, title: str) -> None:
        name = f"{safe_name(period)}.pdf"
        path, _ = QFileDialog.getSaveFileName(self._window, "Report of a period", name, "PDF (*.pdf);;HTML (*.html)")
        if path:
            self._write(writing(evidence, period, title, Path(path)), "writing the report of a period")

    def packets(self) -> None:
        """The packets in focus as a capture."""
        scene = self._scene()
        if scene is None:
            return
        number = int(scene.packets.sum())
        asked = self._ask(
            "Packets",
            f"{count(number)} packets: {scene.words}." + (" That takes a while." if number > _LARGE else ""),
            "pcapng (*.pcapng)",
            ".pcapng",
        )
        if asked is not None:
            path, masker = asked
            self._write(
                lambda progress: (
                    f"Wrote {count(write_packets(scene.evidence, scene.packets, path, masker, progress))} packets to"
                    f" {path}"
                ),
                "writing packets",
            )

    def waits(self) -> None:
        """The exchanges in focus as a table."""
        self._table("Exchanges", waits_table)

    def connections(self) -> None:
        """The connections in focus as a table."""
        self._table("Connections", connections_table)

    def flows(self) -> None:
        """Flow records of the period, as IPFIX or a table. Their addresses are not masked: it says so."""
        scene = self._scene()
        if scene is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self._window,
            "Flow records of the period, addresses as they are",
            "flows.ipfix",
            "IPFIX (*.ipfix);;CSV (*.csv);;Parquet (*.parquet)",
        )
        if path:
            self._write(
                lambda progress: f"Wrote {count(write_flows(scene, Path(path), progress))} flow records to {path}",
                "writing flow records",
            )

    def _table(self, title: str, table: Callable[[Scene, Masker | None], object]) -> None:
        scene = self._scene()
        asked = (
            self._ask(
                title,
                f"{title} in focus, with what each waited for.",
                "CSV (*.csv);;Parquet (*.parquet)",
                f"-{title.lower()}.csv",
            )
            if scene is not None
            else None
        )
        if asked is not None and scene is not None:
            path, masker = asked
            self._write(
                lambda _progress: f"Wrote {count(write_table(table(scene, masker), path))} rows to {path}",
                f"writing {title.lower()}",
            )

    def _scene(self) -> Scene | None:
        scene = self._model.scene
        if scene is None:
            self.said.emit("Nothing is open.", 4000)
        return scene

    def _write(self, work: Callable[[Progress], str], words: str) -> None:
        self._task.begin(work, words)
