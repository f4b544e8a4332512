"""Compare: with what is normal, and one period with another."""

from dataclasses import replace

from PySide6.QtWidgets import QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.compare.baseline_panel import NormalPanel
from yaffle.desktop.compare.peaks_panel import PeaksPanel
from yaffle.desktop.compare.periods_panel import PeriodsPanel
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.station import Station
from yaffle.findings.flow_labels import exporter_words
from yaffle.session.baselines import WIDTHS, NormalPicture, Subject, measures_of, normal
from yaffle.session.comparing import CompareSettings, compared
from yaffle.session.investigation import Investigation
from yaffle.session.peaks import peaks
from yaffle.session.scene import Scene

PERIODS, PEAKS = 1, 2  # pages


class Compare(Station):
    """The station after Path."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self.normal, self.periods, self.peaks = NormalPanel(), PeriodsPanel(), PeaksPanel()
        self._latest, self._second = Latest(self), Latest(self)
        self._latest.failed.connect(lambda text: self.normal.words.setText(f"View not updated: {text}"))
        self._second.failed.connect(lambda text: self.periods.words.setText(f"View not updated: {text}"))
        self._third = Latest(self)
        self._third.failed.connect(lambda text: self.peaks.words.setText(f"List not updated: {text}"))
        self.normal.wanted.connect(self._changed)
        self.normal.entered.connect(lambda period: investigation.look(investigation.focus.with_period(period)))
        self.peaks.entered.connect(lambda period: investigation.look(investigation.focus.with_period(period)))
        self.periods.wanted.connect(self._compare)
        self.periods.taken.connect(self._take)
        self.parts = QTabWidget()
        self.parts.setDocumentMode(True)
        self.parts.addTab(self.normal, "baseline")
        self.parts.addTab(self.periods, "before / after")
        self.parts.setTabToolTip(0, "A measure with its baseline, and its anomalies")
        self.parts.setTabToolTip(
            1, "The measure chosen on the first page, before and after; who changed and who did not"
        )
        self.parts.addTab(self.peaks, "peaks")
        self.parts.setTabToolTip(
            2, "The highest hours of the measure chosen on the first page, what made them, and complaints of that time"
        )
        self.parts.currentChanged.connect(self._turned)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 4, 8, 6)
        whole.addWidget(self.parts)
        self._undo = [
            investigation.opened_changed.connect(self._opened),
            investigation.focus_changed.connect(self._focused),
            investigation.kept_changed.connect(self._kept),
        ]
        self._filter = ""
        self._complaints = investigation.kept.complaints
        self._opened()

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest, self._second, self._third)

    def _opened(self) -> None:
        scene = self._model.scene
        if scene is not None:
            self.normal.offer(measures_of(scene), [exporter_words(e) for e in scene.evidence.analysis.flow_tellers])
            self.periods.span(scene.evidence.first_ns, scene.evidence.last_ns)
            span = scene.evidence.last_ns - scene.evidence.first_ns
            fitting = [
                name for name, width in WIDTHS.items() if span // width >= 100
            ]  # So that there is something to learn from.
            self.normal.width_box.setCurrentText("15 min" if "15 min" in fitting else fitting[-1] if fitting else "1 s")
            self.periods.width_box.setCurrentText("5 min" if "15 min" in fitting else fitting[-1] if fitting else "1 s")
        for line in self.periods.typed:
            line.clear()
        self.periods.show_picture(None)
        self._changed()

    def _focused(self) -> None:
        if (
            self._model.focus.filter != self._filter
        ):  # The period is not asked: what is normal is learnt from all the time.
            self._changed()

    def _kept(self) -> None:
        if self._model.kept.complaints != self._complaints:
            self._changed()

    def _show_nothing(self) -> None:
        self.normal.show_picture(None)

    def _ask(self, scene: Scene) -> None:
        self._filter, self._complaints = self._model.focus.filter, self._model.kept.complaints
        settings = self.normal.settings
        self._latest.ask(lambda progress: normal(scene, settings, progress), self._show)

    def _show(self, picture: NormalPicture) -> None:
        self.normal.show_picture(picture, self._complaints)
        self.periods.offer(picture.groups)
        self._turned(self.parts.currentIndex())

    def _turned(self, page: int) -> None:
        if page == PERIODS:
            self._compare()
        elif page == PEAKS:
            self._look_for_peaks()

    def _look_for_peaks(self) -> None:
        scene = self._model.scene
        if scene is None:
            self.peaks.show_peaks([])
            return
        complaints, subject = self._model.kept.complaints, self._subject
        self._third.ask(lambda _progress: peaks(scene, complaints, subject), self.peaks.show_peaks)

    @property
    def _subject(self) -> Subject:
        """What is looked at on the first page."""
        return self.normal.picture.settings.subject if self.normal.picture is not None else self.normal.settings.subject

    def _compare(self) -> None:
        scene, periods = self._model.scene, self.periods.periods
        if scene is None or periods is None:
            self.periods.show_picture(None)
            return
        subject = self._subject
        other = replace(subject, label=self.periods.other_group) if self.periods.other_group else None
        settings = CompareSettings(
            subject, *periods, WIDTHS[self.periods.width_box.currentText()], self.periods.trim.isChecked(), other
        )
        self._second.ask(lambda progress: compared(scene, settings, progress), self.periods.show_picture)

    def _take(self, side: int) -> None:
        scene = self._model.scene
        if scene is not None:
            self.periods.set_period(side, (scene.first_ns, scene.last_ns))

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.normal.dress()
        self.periods.dress()
        self._turned(self.parts.currentIndex())
