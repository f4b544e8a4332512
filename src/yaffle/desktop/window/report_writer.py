"""The report and the bundle, written from the window: figures are drawn here, all else is done on other threads."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from yaffle.capture.masking import Masker
from yaffle.desktop.report.drawing import Drawing
from yaffle.desktop.shared.jobs import STOPPED, Latest
from yaffle.desktop.window.task import Task
from yaffle.progress import Progress
from yaffle.report.html import Prepared, prepared
from yaffle.session.bundle import write_bundle
from yaffle.session.evidence import Evidence
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.letterhead import load_letterhead
from yaffle.session.reporting import said, write_page


class ReportWriter(QObject):
    """One report at a time."""

    failed = Signal(str)

    def __init__(self, task: Task, parent: QObject) -> None:
        super().__init__(parent)
        self._task, self._drawing = task, Drawing(self)
        self._drawing.done.connect(self._drawn)
        self._drawing.failed.connect(self._give_up)
        self._finish: Callable[[], object] | None = None

    @property
    def picture(self) -> Latest:
        """What figures are computed by: to be shown and stopped while they are drawn."""
        return self._drawing.latest

    @property
    def busy(self) -> bool:
        """Whether something is being written."""
        return self._finish is not None

    def report(self, opened: Opened, kept: Kept, path: Path, masker: Masker | None) -> None:
        """Writes it as HTML or PDF by the name's ending."""

        def work(basis: Prepared) -> Callable[[Progress], str]:
            figures = dict(self._drawing.figures)
            return lambda _progress: f"Wrote {write_page(basis.page(figures), path)}"

        self._begin(opened, kept, masker, work, "writing the report")

    def bundle(self, opened: Opened, kept: Kept, path: Path, masker: Masker | None) -> None:
        """Writes everything the report rests on."""

        def work(basis: Prepared) -> Callable[[Progress], str]:
            figures = dict(self._drawing.figures)
            return lambda progress: f"Wrote {write_bundle(opened, kept, basis.page(figures), path, masker, progress)}"

        self._begin(opened, kept, masker, work, "writing the bundle")

    def _begin(
        self,
        opened: Opened,
        kept: Kept,
        masker: Masker | None,
        work: Callable[[Prepared], Callable[[Progress], str]],
        words: str,
    ) -> None:
        def prepare(_progress: Progress) -> tuple[Prepared, Evidence]:
            basis = prepared(opened.analysis, said(kept), masker, kept.report, load_letterhead(), opened.findings)
            return basis, opened.evidence if masker is None else Evidence(basis.analysis)

        def then(found: tuple[Prepared, Evidence]) -> None:
            basis, evidence = found
            self._finish = lambda: self._task.begin(work(basis), words)
            self._drawing.ask(evidence, basis.pictured)

        self._task.begin(prepare, words, then)

    def _drawn(self) -> None:
        finish, self._finish = self._finish, None
        if finish is not None:
            finish()

    def _give_up(self, text: str) -> None:
        self._finish = None
        self.failed.emit(f"The report is not written: {'stopped' if text == STOPPED else text}")
