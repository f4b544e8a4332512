"""Report: what will go out, page by page as it will look; its sections are moved, left out, reworded."""

from dataclasses import dataclass, replace

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.report.drawing import Drawing
from yaffle.desktop.report.letterhead_dialog import LetterheadDialog
from yaffle.desktop.report.page_images import PageImage, page_images, places_of_headings
from yaffle.desktop.report.page_view import PageView
from yaffle.desktop.report.section_list import SectionList
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.station import Station
from yaffle.errors import YaffleError
from yaffle.progress import Progress, step
from yaffle.report.html import Prepared, Shown, prepared
from yaffle.report.paper import pdf_of
from yaffle.report.plan import TITLE, Letterhead, ReportPlan
from yaffle.report.sections import Figures, Section
from yaffle.session.investigation import Investigation
from yaffle.session.letterhead import load_letterhead, save_letterhead
from yaffle.session.reporting import said
from yaffle.session.scene import Scene
from yaffle.units import count

_TYPED_MS = 1200  # Words are taken so long after the last key.
_NOTHING = "Open a capture, a case or a history: what will go out stands here page by page, as it will look."
_NO_WORDS = "Made from the evidence: nothing to edit here. Notes are written in Gather, complaints with Ctrl+K."


@dataclass(frozen=True)
class ReportPicture:
    """What a report looks like. headings: of each, (words, page, points from its top)."""

    shown: Shown
    pages: list[PageImage]
    headings: list[tuple[str, int, float]]


def report_picture(basis: Prepared, figures: Figures, scale: float, progress: Progress) -> ReportPicture:
    """For any thread. Raises YaffleError, Cancelled."""
    step(progress, 0.1, "putting the report together")
    shown = basis.shown(figures)
    page = basis.page(figures)
    step(progress, 0.25, "laying out pages")
    pdf = pdf_of(page)
    return ReportPicture(shown, page_images(pdf, scale, progress), places_of_headings(pdf))


class ReportStation(Station):
    """`write_wanted` and `bundle_wanted`: the report, or everything it rests on, is to be written."""

    said = Signal(str)
    write_wanted = Signal()
    bundle_wanted = Signal()

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self.picture: ReportPicture | None = None
        self.letterhead: Letterhead = load_letterhead()
        self._basis: Prepared | None = None
        self._of: tuple[object, ...] = ()
        self._written = ""  # the section whose words are shown
        self._latest, self.drawing = Latest(self), Drawing(self)
        self.drawing.done.connect(self._lay_out_pages)
        self.words = QLabel()
        self.words.setWordWrap(True)
        for part in (self._latest, self.drawing):
            part.failed.connect(lambda text: self.words.setText(f"View not updated: {text}"))
        self.pinned = QCheckBox("pinned findings only")
        self.pinned.setToolTip("Findings that were not pinned in the drawer stay out")
        self.pinned.clicked.connect(lambda on: self._keep(replace(self._plan, pinned_only=on), "pinned findings only"))
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.pinned)
        for text, tip, slot in (
            ("Letterhead…", "Logo and address above every report of yours", self.edit_letterhead),
            ("Evidence bundle…", "Report, tables and packets with checksums, as one file", self.bundle_wanted.emit),
            ("Write the report…", "As HTML or PDF (Ctrl+P)", self.write_wanted.emit),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _on, slot=slot: slot())
            head.addWidget(button)
        self.sections = SectionList()
        self.sections.arranged.connect(self._arranged)
        self.sections.picked.connect(self._picked)
        self.view = PageView()
        body = Panes("report station: body", Qt.Orientation.Horizontal)
        body.arrange([self._left_side(), self.view], [330, 620])
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.addLayout(head)
        column.addWidget(body, 1)
        self._undo = [
            investigation.opened_changed.connect(self._changed),
            investigation.kept_changed.connect(self._kept),
        ]
        self._show_nothing()

    def _left_side(self) -> QWidget:
        self.title = QLineEdit()
        self.title.setPlaceholderText(TITLE)
        self.title.setAccessibleName("Title of the report")
        self.title.editingFinished.connect(self._take_title)
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("Text of the section")
        self.text.setTabChangesFocus(True)
        self._typed = QTimer(self, singleShot=True, interval=_TYPED_MS)
        self._typed.timeout.connect(self._take_words)
        self.text.textChanged.connect(self._typed.start)
        self.usual = QPushButton("Default text")
        self.usual.setToolTip("Yaffle's own text again")
        self.usual.clicked.connect(self._give_back)
        side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.addWidget(QLabel("text of the section"), 1)
        row.addWidget(self.usual)
        upper = QHBoxLayout()
        upper.addWidget(QLabel("title"))
        upper.addWidget(self.title, 1)
        column.addLayout(upper)
        column.addWidget(self.sections, 3)
        column.addLayout(row)
        column.addWidget(self.text, 2)
        return side

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest, self.drawing.latest)

    @property
    def busy(self) -> bool:
        """Whether pages or figures are still to come."""
        return super().busy or self.drawing.busy or self._typed.isActive()

    @property
    def _plan(self) -> ReportPlan:
        return self._model.kept.report

    # --- what is shown ---
    def _show_nothing(self) -> None:
        self.picture = self._basis = None
        self._of = ()
        self.words.setText(_NOTHING)
        self.sections.show_sections((), ())
        self.view.show_pages([])
        self._show_words(None)
        self.setEnabled(self._model.opened is not None)

    def _kept(self) -> None:
        """Only what the report tells lets it be laid out again."""
        if self._told() != self._of:
            self._changed()

    def _told(self) -> tuple[object, ...]:
        kept, opened = self._model.kept, self._model.opened
        return (opened, kept.report, kept.pinned, kept.dismissed, kept.remarks, kept.notes, kept.complaints)

    def _ask(self, scene: Scene) -> None:
        opened = self._model.opened
        if opened is None:
            return
        self.setEnabled(True)
        kept = self._model.kept
        self._of = self._told()
        self.pinned.setChecked(kept.report.pinned_only)
        if not self.title.hasFocus():
            self.title.setText(kept.report.title)
        self.words.setText("Drawing figures…")
        self._basis = prepared(opened.analysis, said(kept), None, kept.report, self.letterhead, tuple(opened.findings))
        self.drawing.ask(scene.evidence, self._basis.pictured)

    def _lay_out_pages(self) -> None:
        basis = self._basis
        if basis is None:
            return
        self.words.setText("Laying out pages…")
        figures, scale = dict(self.drawing.figures), self.view.scale
        self._latest.ask(lambda progress: report_picture(basis, figures, scale, progress), self._show)

    def _show(self, picture: ReportPicture) -> None:
        self.picture = picture
        shown = picture.shown
        findings = sum(one.template == "finding" for one in shown.sections)
        few = len(shown.left_out)
        out = f", {count(few)} section{'s' if few != 1 else ''} left out" if few else ""
        pages = len(picture.pages)
        self.words.setText(
            f"{pages} page{'s' if pages != 1 else ''}, {count(findings)} finding{'s' if findings != 1 else ''}{out}"
        )
        self.sections.show_sections(shown.sections, shown.left_out)
        self.view.show_pages(picture.pages)
        self._show_words(self.sections.current)

    def _show_words(self, section: Section | None) -> None:
        """Of the section that is picked; while somebody writes it, it stays as it is."""
        changeable = section is not None and section.usual is not None
        text = str(section.content.get("words", "")) if section is not None and changeable else ""
        if section is not None and section.key == self._written and self._is_written(text):
            self.usual.setEnabled(section.key in self._plan.words)
            return
        self._written = section.key if section is not None else ""
        self.text.setEnabled(changeable)
        self.text.setPlaceholderText("" if changeable else _NO_WORDS)
        if self.text.toPlainText() != text:
            self.text.blockSignals(True)
            self.text.setPlainText(text)
            self.text.blockSignals(False)
        self.usual.setEnabled(section is not None and section.key in self._plan.words)

    def _is_written(self, text: str) -> bool:
        """Whether the field holds what will be taken, or was: text, but for what stands around it; or it was emptied
        to be written anew.
        """
        own = self.text.toPlainText().strip()
        return self._typed.isActive() or own == text.strip() or (self.text.hasFocus() and not own)

    # --- what the user does ---
    def _keep(self, plan: ReportPlan, words: str) -> None:
        if plan != self._plan:
            self._model.keep(replace(self._model.kept, report=plan), words)

    def _arranged(self, order: tuple[str, ...], left_out: tuple[str, ...]) -> None:
        self._keep(replace(self._plan, order=order, left_out=left_out), "sections of the report")

    def _picked(self, section: Section) -> None:
        if self._typed.isActive():
            self._typed.stop()
            self._take_words(self.sections.former)
        self._show_words(section)
        if self.picture is not None:
            for words, page, top in self.picture.headings:
                if words == section.title:
                    self.view.go_to(page, top)
                    break

    def _take_title(self) -> None:
        text = self.title.text().strip()
        self._keep(replace(self._plan, title="" if text == TITLE else text), "title of the report")

    def _take_words(self, section: Section | None = None) -> None:
        section = section or self.sections.current
        if section is not None and section.usual is not None:
            plan = self._plan.with_words(section.key, self.text.toPlainText(), section.usual)
            self._keep(plan, f"text of “{section.title}”")

    def _give_back(self) -> None:
        section = self.sections.current
        if section is not None and section.usual is not None:
            self._typed.stop()
            self._written = ""
            self._keep(self._plan.with_words(section.key, "", section.usual), f"default text of “{section.title}”")

    def edit_letterhead(self) -> None:
        """Logo, address, order for all reports."""
        self.dialog = LetterheadDialog(self.letterhead, self._plan.order, self)
        self.dialog.accepted.connect(lambda: self._take_letterhead(self.dialog.letterhead))
        self.dialog.open()

    def _take_letterhead(self, letterhead: Letterhead) -> None:
        self.letterhead = letterhead
        try:
            save_letterhead(letterhead)
        except (OSError, YaffleError) as error:
            self.said.emit(f"The letterhead cannot be kept: {error}")
        self._changed()

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.view.update()
