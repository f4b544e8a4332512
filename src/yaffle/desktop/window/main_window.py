"""The frame: period strip, focus line, station rail, findings drawer, and the stations between them."""

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yaffle import __version__
from yaffle.analysis import analyse
from yaffle.case.folder import SUFFIX
from yaffle.desktop.apportion.station import Apportion
from yaffle.desktop.compare.station import Compare
from yaffle.desktop.examine.station import Examine
from yaffle.desktop.gather.station import Gather
from yaffle.desktop.path.station import PathStation
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.jobs import Job, Latest
from yaffle.desktop.shared.log_file import log_file
from yaffle.desktop.shared.panes import Filling
from yaffle.desktop.survey.station import INTERFACES, Survey
from yaffle.desktop.window.export_actions import ExportActions
from yaffle.desktop.window.findings_drawer import FindingsDrawer
from yaffle.desktop.window.focus_line import FocusLine
from yaffle.desktop.window.live_history import Live
from yaffle.desktop.window.naming_dialog import NamingDialog
from yaffle.desktop.window.period_strip import PeriodStrip
from yaffle.desktop.window.preferences_dialog import PreferencesDialog
from yaffle.desktop.window.receiving import ReceiveDialog, Receiver
from yaffle.desktop.window.shortcut_sheet import ShortcutSheet
from yaffle.desktop.window.sites_dialog import SitesDialog
from yaffle.desktop.window.ticket_dialog import TicketDialog
from yaffle.findings.finding import Finding
from yaffle.findings.markings import CAUSE
from yaffle.history.layout import is_history
from yaffle.session import preferences
from yaffle.session.beginning import first_packets
from yaffle.session.investigation import Investigation, Opened, open_folder
from yaffle.session.preferences import Preferences
from yaffle.units import count, duration, show_in
from yaffle.warm_up import compile_first, load_kernels

_LOOK_EVERY_MS = 2000  # How often growing captures are looked at.
STATIONS = ("Gather", "Survey", "Apportion", "Examine", "Path", "Compare")
PATH, COMPARE = 4, 5


class MainWindow(QMainWindow):
    """Owns the investigation's views; the investigation itself knows nothing of it."""

    begun = Signal(object)  # the first packets of what is being read

    def __init__(self, investigation: Investigation) -> None:
        super().__init__()
        self.investigation = investigation
        self.preferences = preferences.load()
        self.setWindowTitle("Yaffle")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.strip = PeriodStrip(investigation)
        self.focus_line = FocusLine(investigation)
        self.findings = FindingsDrawer(investigation)
        self.findings.followed.connect(self._follow)
        self.gather, self.survey = Gather(investigation), Survey(investigation)
        self.apportion, self.examine = Apportion(investigation), Examine(investigation)
        self.path, self.compare = PathStation(investigation), Compare(investigation)
        self.path.packet_wanted.connect(self._examine_at)
        for panel in (self.compare.normal, self.compare.peaks):
            panel.entered.connect(lambda _period: self.go(1))
        self.live = Live(investigation, self)
        self.survey.flows.paced.connect(self.live.set_pace)
        self.receiver = Receiver(self)
        self.receiver.kept.connect(self._open_received)
        self.receiver.said.connect(lambda text: self.statusBar().showMessage(text, 15_000))
        self.receiver.ended.connect(lambda text: self.complain(f"Receiving has ended: {text}"))
        self.survey.said.connect(lambda text: self.statusBar().showMessage(text, 8000))
        self.gather.add_wanted.connect(self.add_files)
        self.apportion.examine_wanted.connect(self._examine)
        self.apportion.exchange_wanted.connect(self._examine_at)
        self.apportion.visit_wanted.connect(self._visit)
        self.apportion.name_wanted.connect(self.name_application)
        self.exports = ExportActions(self)
        self.focus_line.favourite_kept.connect(lambda name, text: self.prefer(self.preferences.with_filter(name, text)))
        self.stations = QStackedWidget()
        for station in (self.gather, self.survey, self.apportion, self.examine, self.path, self.compare):
            self.stations.addWidget(station)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self._rail())
        middle.addWidget(self.stations, 1)
        middle.addWidget(self.findings)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.strip)
        column.addWidget(self.focus_line)
        column.addLayout(middle, 1)
        self.setCentralWidget(whole)
        self._status()
        self._actions()
        self._filling = Filling()
        self.job: Job | None = None
        self._then: Callable[[Any], None] = lambda _result: None
        self._reading: list[Path] = []
        self._ready = Latest(self)
        self._pictures = (
            *self.survey.pictures,
            *self.apportion.pictures,
            *self.examine.pictures,
            *self.path.pictures,
            *self.compare.pictures,
        )
        for picture in self._pictures:
            picture.progressed.connect(self._picture_progressed)
            picture.rested.connect(self._picture_rested)
        self.begun.connect(self.gather.show_beginning)
        self._undo = [
            investigation.opened_changed.connect(self._opened),
            investigation.kept_changed.connect(self._kept),
            investigation.focus_changed.connect(self._remember),
        ]
        self._dress()
        self._opened()

    # --- frame ---
    def _rail(self) -> QWidget:
        rail = QWidget()
        rail.setFixedWidth(92)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 4, 0, 4)
        column.setSpacing(0)
        self.rail = QButtonGroup(self)
        for k, name in enumerate(STATIONS):
            button = QToolButton()
            button.setObjectName("station")
            button.setText(name)
            button.setCheckable(True)
            button.setChecked(k == 0)
            button.setMinimumWidth(92)
            button.setToolTip(f"{name} (Ctrl+{k + 1})")
            self.rail.addButton(button, k)
            column.addWidget(button)
        self.rail.idClicked.connect(self.go)
        column.addStretch(1)
        return rail

    def _status(self) -> None:
        self._words = QLabel()
        self._doing = QLabel()
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setFixedWidth(180)
        self.progress.setTextVisible(False)
        self.stop = QPushButton("Stop")
        self.stop.clicked.connect(self.stop_job)
        for part in (self._doing, self.progress, self.stop):
            self.statusBar().addPermanentWidget(part)
            part.setVisible(False)
        self.statusBar().addWidget(self._words)

    def _action(
        self, menu: str, text: str, key: QKeySequence | str | QKeySequence.StandardKey, slot: Callable[[], object]
    ) -> QAction:
        action = QAction(text, self)
        action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda: slot())
        self._menus[menu].addAction(action)
        return action

    def _actions(self) -> None:
        self._menus = {name: self.menuBar().addMenu(name) for name in ("Case", "Edit", "Focus", "Stations", "Window")}
        self._action("Case", "Open captures…", "Ctrl+O", self.open_files)
        self._action("Case", "Add captures…", "Ctrl+Shift+O", self.add_files)
        self._action("Case", "Open a case…", "Ctrl+Shift+C", self.open_case_dialog)
        self._action("Case", "Open a history…", "Ctrl+H", self.open_history_dialog)
        self._action("Case", "Receive flow records…", "Ctrl+R", self.receive)
        self._action("Case", "Reload captures", "F5", self.read_again)
        self._growing = self._action("Case", "Follow growing captures", "Ctrl+G", lambda: None)
        self._growing.setCheckable(True)
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_EVERY_MS)
        self._timer.timeout.connect(self._look_for_growth)
        self._growing.toggled.connect(lambda on: self._timer.start() if on else self._timer.stop())
        self._save = self._action("Case", "Save the case…", "Ctrl+S", self.save_dialog)
        self._recent = QMenu("Recent", self)
        self._recent.aboutToShow.connect(self._list_recent)
        self._menus["Case"].addMenu(self._recent)
        self._menus["Case"].addSeparator()
        for name, slot in (
            ("Report as HTML or PDF…", lambda: self.exports.report()),
            ("Packets in focus as pcapng…", lambda: self.exports.packets()),
            ("Exchanges in focus as CSV or Parquet…", lambda: self.exports.waits()),
            ("Connections in focus as CSV or Parquet…", lambda: self.exports.connections()),
            ("Flow records as IPFIX, CSV or Parquet…", lambda: self.exports.flows()),
        ):
            action = QAction(name, self)
            action.triggered.connect(lambda _=False, s=slot: s())
            self._menus["Case"].addAction(action)
        self._menus["Case"].actions()[-5].setShortcut(QKeySequence("Ctrl+P"))
        self._menus["Case"].actions()[-4].setShortcut(QKeySequence("Ctrl+E"))
        self._menus["Case"].addSeparator()
        self._close = self._action("Case", "Close the case", "Ctrl+W", self.investigation.close)
        self._action("Case", "Quit", "Ctrl+Q", self.close)
        self._undo_action = self._action("Edit", "Undo", "Ctrl+Z", self.investigation.undo)
        self._redo_action = self._action("Edit", "Redo", "Ctrl+Shift+Z", self.investigation.redo)
        self._action("Edit", "Enter a complaint…", "Ctrl+K", self.gather.enter_complaint)
        self._action("Edit", "Names of applications…", "Ctrl+N", lambda: self.name_application("", "", 0))
        self._action("Edit", "Sites…", "Ctrl+Shift+N", self.name_sites)
        self._action("Edit", "Measures over time…", "Ctrl+M", self.survey.edit_measures)
        self._action("Edit", "Preferences…", "Ctrl+,", self.edit_preferences)
        self._action("Focus", "Back", "Alt+Left", self.investigation.back)
        self._action("Focus", "Forward", "Alt+Right", self.investigation.forward)
        self._action(
            "Focus",
            "Whole period",
            "Ctrl+0",
            lambda: self.investigation.look(self.investigation.focus.with_period(None)),
        )
        self._action(
            "Focus",
            "Up one level",
            "Alt+Up",
            lambda: self.investigation.look(self.investigation.focus.with_trail(self.investigation.focus.trail[:-1])),
        )
        self._action("Focus", "Filter", "Ctrl+F", self._to_filter)
        self._action("Focus", "Period strip", "Ctrl+T", self.strip.setFocus)
        self._action("Focus", "Go to a ticket's moment…", "Ctrl+J", self.go_to_ticket)
        self._action("Focus", "Type a period", "Ctrl+D", self._to_period)
        self._action("Focus", "Follow the first finding", "Ctrl+Return", self._follow_first)
        for k, name in enumerate(STATIONS):
            self._action("Stations", name, f"Ctrl+{k + 1}", lambda k=k: self.go(k))
        self._action(
            "Window", "Show or hide findings", "F9", lambda: self.findings.set_folded(not self.findings.folded)
        )
        self._action("Window", "Let this pane fill the station, or not", "F11", self.fill_station)
        self._action("Window", "Light or dark", "F8", self.switch_theme)
        self._action("Window", "Shortcuts", "F1", self.show_shortcuts)

    def shortcut_list(self) -> list[tuple[str, str, str]]:
        """(menu, what, keys) of every action that has keys."""
        return [
            (name, a.text().rstrip("…"), a.shortcut().toString())
            for name, menu in self._menus.items()
            for a in menu.actions()
            if not a.shortcut().isEmpty()
        ]

    # --- going about ---
    def go(self, station: int) -> None:
        """Shows a station."""
        self.stations.setCurrentIndex(station)
        self.rail.button(station).setChecked(True)
        names = (
            self.gather.table,
            self.survey.make_up.table,
            self.apportion.tree,
            self.examine.ladder,
            self.path.segments.line,
            self.compare.normal.measure,
        )
        names[station].setFocus()

    def fill_station(self) -> None:
        """The pane with the keyboard takes the room of the others, or gives it back."""
        self._filling.toggle(QApplication.focusWidget(), self.stations)

    def _to_filter(self) -> None:
        self.focus_line.filter.setFocus()
        self.focus_line.filter.selectAll()

    def _to_period(self) -> None:
        self.focus_line.period.setFocus()
        self.focus_line.period.selectAll()

    def _follow(self, finding: Finding) -> None:
        self.investigation.follow(finding)
        if "protocol" in finding.grounds:  # A service: how it answered stands in Survey.
            self.go(1)
            self.survey.show_service(finding.subject)
        elif "interface" in finding.grounds:
            self.go(1)
            self.survey.parts.setCurrentIndex(INTERFACES)
        elif finding.cause == CAUSE:
            self.go(PATH)
            self.path.show_violations()
        else:
            self.go(2)

    def _follow_first(self) -> None:
        if self.investigation.findings:
            self._follow(self.investigation.findings[0])

    def _examine(self, connection: int) -> None:
        self.investigation.examine(connection)
        self.go(3)

    def _examine_at(self, connection: int, moment_ns: int) -> None:
        self._examine(connection)
        self.examine.look_at(moment_ns)

    def _visit(self, connection: int, moment_ns: int) -> None:
        self._examine_at(connection, moment_ns)
        self.examine.parts.setCurrentIndex(1)

    def show_shortcuts(self) -> None:
        """The sheet of keys."""
        self._sheet = ShortcutSheet(self.shortcut_list(), self)
        self._sheet.show()

    # --- preferences ---
    def switch_theme(self) -> None:
        """Light to dark, and back."""
        self.prefer(replace(self.preferences, theme="dark" if self.preferences.theme == "light" else "light"))

    def edit_preferences(self) -> None:
        """Lets the user choose units, zone, theme, size of letters and thresholds."""
        dialog = PreferencesDialog(self.preferences, self)
        dialog.accepted.connect(lambda: self.prefer(dialog.preferences))
        dialog.open()

    def prefer(self, wanted: Preferences) -> None:
        """Takes other preferences, and keeps them."""
        former, self.preferences = self.preferences, wanted
        try:
            preferences.save(wanted)
        except OSError as error:
            self.statusBar().showMessage(f"Preferences cannot be kept: {error.strerror or error}", 8000)
        if replace(former, recent=(), filters=()) != replace(wanted, recent=(), filters=()):
            self._dress()
            if (former.zone, former.octet_rates) != (
                wanted.zone,
                wanted.octet_rates,
            ) and self.investigation.opened is not None:
                self._name_again()
        self.focus_line.kept_filters = wanted.filters

    def _dress(self) -> None:
        """Puts the preferences on."""
        wanted = self.preferences
        show_in(wanted.tzinfo, octet_rates=wanted.octet_rates)
        self.focus_line.kept_filters = wanted.filters
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, theme.DARK if wanted.theme == "dark" else theme.LIGHT, wanted.font_points)
        self.examine.threshold.setValue(wanted.silence_ms)
        for station in (self.survey, self.apportion, self.path, self.compare):
            station.dress()
        self.examine.flow.dress()
        self.examine.visit.dress()
        self.strip.update()
        self.focus_line.redraw()
        self.update()

    # --- names ---
    def name_application(self, application: str, server: str, port: int) -> None:
        """Lets the user name what runs at a server and port."""
        dialog = NamingDialog(self.investigation.kept.rules, application, server, port, self)
        dialog.accepted.connect(
            lambda: self.investigation.keep(
                replace(self.investigation.kept, rules=dialog.rules), "names of applications"
            )
        )
        dialog.open()

    def name_sites(self) -> None:
        """Lets the user name ranges of addresses."""
        dialog = SitesDialog(self.investigation.kept.sites, self)
        dialog.accepted.connect(
            lambda: self.investigation.keep(replace(self.investigation.kept, sites=dialog.sites), "sites")
        )
        dialog.open()

    def go_to_ticket(self) -> None:
        """Asks for a moment and a port, and shows what was there then."""
        evidence = self.investigation.evidence
        if evidence is None:
            self.statusBar().showMessage("Open a capture or a history first.", 4000)
            return
        dialog = TicketDialog((evidence.first_ns, evidence.last_ns), self)
        dialog.accepted.connect(lambda: self._to_ticket(dialog.period, dialog.port))
        dialog.open()

    def _to_ticket(self, period: tuple[int, int], port: int) -> None:
        evidence = self.investigation.evidence
        if evidence is None:
            return
        packets = evidence.waits.first_ns.size > 0
        focus = self.investigation.focus.with_period(period)
        self.investigation.look(
            focus.with_trail(()).with_filter(f"server_port = {port}" if port else "") if packets else focus
        )
        if packets:
            self.go(2)
        else:
            self.go(1)
            self.survey.show_port(port)

    def _name_again(self) -> None:
        opened = self.investigation.opened
        if opened is None or self.job is not None:
            return
        memory = self.investigation.memory()
        self._begin(
            lambda progress: Opened(opened.analysis, opened.folder, memory, progress),
            "applying changes",
            self._renamed,
        )

    def _renamed(self, opened: Opened) -> None:
        self._done()
        self.investigation.renamed(opened)

    def _kept(self) -> None:
        history = self.investigation.kept_history
        self._undo_action.setEnabled(history.can_go_back)
        self._undo_action.setText(f"Undo: {history.back_words}" if history.can_go_back else "Undo")
        self._redo_action.setEnabled(history.can_go_forward)
        self._redo_action.setText(f"Redo: {history.forward_words}" if history.can_go_forward else "Redo")
        opened = self.investigation.opened
        kept = self.investigation.kept
        if opened is not None and opened.analysis.told != kept.told:
            self._name_again()
        self._remember()

    def _list_recent(self) -> None:
        self._recent.clear()
        for path in self.preferences.recent:
            action = self._recent.addAction(path, lambda p=path: self.load([Path(p)]))
            action.setEnabled(Path(path).exists())
        if not self.preferences.recent:
            self._recent.addAction("no recent cases").setEnabled(False)

    # --- files ---
    def open_files(self) -> None:
        """Asks for captures."""
        paths, _ = QFileDialog.getOpenFileNames(
            self,
            "Open captures",
            "",
            "Captures and flow records (*.pcap *.pcapng *.cap *.ipfix *.csv *.parquet *.gz *.zst *.lz4);;All files (*)",
        )
        if paths:
            self.load([Path(p) for p in paths])

    def add_files(self) -> None:
        """Asks for captures to put beside those that are open."""
        paths, _ = QFileDialog.getOpenFileNames(
            self,
            "Add captures",
            "",
            "Captures and flow records (*.pcap *.pcapng *.cap *.ipfix *.csv *.parquet *.gz *.zst *.lz4);;All files (*)",
        )
        if paths:
            self.load([*self._open_paths(), *(Path(p) for p in paths)])

    def _open_paths(self) -> list[Path]:
        evidence = self.investigation.evidence
        return [Path(s.path) for s in evidence.analysis.capture.sources] if evidence else []

    def open_case_dialog(self) -> None:
        """Asks for a case folder."""
        path = QFileDialog.getExistingDirectory(self, "Open a case (a folder NAME.yaffle)")
        if path:
            self.load([Path(path)])

    def open_history_dialog(self) -> None:
        """Asks for the folder of a history."""
        path = QFileDialog.getExistingDirectory(self, "Open a history (a folder that yaffle listen writes)")
        if path:
            self.load([Path(path)])

    def _open_received(self, folder: Path) -> None:
        if self.job is not None:  # When that is done.
            QTimer.singleShot(_LOOK_EVERY_MS, self, lambda: self._open_received(folder))
        else:
            self.load([folder])

    def receive(self) -> None:
        """Begins to receive flow records, or ends it."""
        if self.receiver.running:
            self.receiver.stop()
            return
        dialog = ReceiveDialog(self)
        dialog.accepted.connect(lambda: self.receiver.start(dialog.arguments))
        dialog.open()

    def save_dialog(self) -> None:
        """Keeps the case: asks where, the first time."""
        opened = self.investigation.opened
        if opened is None:
            return
        if opened.folder is not None:
            self.save_case(opened.folder)
            return
        path, _ = QFileDialog.getSaveFileName(self, "Save the case", f"case{SUFFIX}", f"Case (*{SUFFIX})")
        if path:
            self.save_case(Path(path))

    def save_case(self, folder: Path) -> None:
        """Writes the case."""
        opened = self.investigation.opened
        if opened is None or self.job is not None:
            self.statusBar().showMessage("A task is running. Wait for it or stop it.", 4000)
            return
        self._begin(
            self.investigation.saving(opened, folder), "saving the case", lambda kept: self._saved(opened, kept)
        )

    def _saved(self, opened: Opened, folder: Path) -> None:
        self._done(f"Saved {folder}")
        self.investigation.saved(opened, folder)
        self._opened()

    def begin(self, work: Callable[[Callable[[float, str], bool]], str], words: str) -> None:
        """Work of a view: when it is done, what it returns is said."""
        if self.job is not None:
            self.statusBar().showMessage("A task is running. Wait for it or stop it.", 4000)
            return
        self._begin(work, words, self._done)

    def take_over(self, paths: list[Path]) -> None:
        """Opens what a second start was asked to open."""
        self.raise_()
        self.activateWindow()
        if paths:
            self.load(paths)

    def _begin(
        self, work: Callable[[Callable[[float, str], bool]], object], words: str, then: Callable[[Any], None]
    ) -> None:
        self._doing.setText(words)
        self._busy(True)
        self._then = then
        self.job = Job(work)
        self.job.progressed.connect(self._progressed)
        self.job.finished.connect(self._finished)
        self.job.failed.connect(self._failed)
        self.job.cancelled.connect(self._cancelled)
        self.job.start()

    def _finished(self, result: Any) -> None:
        self._then(result)

    def _cancelled(self) -> None:
        self._done("stopped")

    def read_again(self) -> None:
        """Reads the open captures once more, with what came to them since; focus and notes stay."""
        if paths := self._open_paths():
            self.load(paths, again=True)

    def _look_for_growth(self) -> None:
        evidence = self.investigation.evidence
        if evidence is None or self.job is not None:
            return
        for source in evidence.analysis.capture.sources:
            path = Path(source.path)
            if path.is_file() and path.stat().st_size > source.size_bytes:  # A history is followed by itself.
                self.read_again()
                return

    def load(self, paths: list[Path], *, again: bool = False) -> None:
        """Opens captures or one case, off the interface thread; `again`: the same ones, and what the user did stays."""
        if self.job is not None:
            self.statusBar().showMessage("A task is running. Wait for it or stop it.", 4000)
            return
        memory = self.investigation.memory() if again else {}
        if again:  # Connections may be numbered otherwise when more was read: the trail leads to the client.
            memory["focus"]["trail"] = memory["focus"]["trail"][:3]
        if len(paths) == 1 and not is_history(paths[0]) and (paths[0].is_dir() or paths[0].suffix == SUFFIX):

            def work(progress: Callable[[float, str], bool]) -> Opened:
                compile_first(progress)
                return open_folder(paths[0], progress)

        else:

            def work(progress: Callable[[float, str], bool]) -> Opened:
                compile_first(progress)
                self.begun.emit(
                    first_packets([path for path in paths if path.is_file()])
                )  # Told across threads: the window shows it while the rest is read.
                return Opened(analyse(paths, progress), memory=memory, progress=progress)

        self._reading = paths
        self.investigation.announce([(p.name, p.stat().st_size) for p in paths if p.is_file()])
        self._begin(work, "starting", self._loaded)

    def make_ready(self) -> None:
        """Loads the engine while nothing else is to be done."""
        self._ready.ask(lambda _progress: load_kernels(), lambda _nothing: None)

    def _picture_progressed(self, share: float, words: str, left: float) -> None:
        if self.job is None:
            self._busy(True)
            self._progressed(share, words, left)

    def _picture_rested(self) -> None:
        if self.job is None and not self.busy:
            self._busy(False)

    def stop_job(self) -> None:
        """Stops what is under way: the job, else the pictures that are being computed."""
        if self.job is None:
            for picture in self._pictures:
                picture.stop()
        if self.job is not None:
            self.job.stop()
            self._doing.setText("stopping")

    def _busy(self, busy: bool) -> None:
        for part in (self._doing, self.progress, self.stop):
            part.setVisible(busy)
        self.progress.setValue(0)

    def _progressed(self, share: float, words: str, left: float) -> None:
        self.progress.setValue(round(1000 * share))
        self._doing.setText(words + (f", {duration(round(left * 1e9))} left" if left > 1 else ""))

    def _done(self, words: str = "") -> None:
        self.job = None
        if self.investigation.pending:
            self.investigation.announce([])
        self._busy(False)
        if words:
            self.statusBar().showMessage(words, 4000)

    def _loaded(self, opened: Opened) -> None:
        self._done()
        self.investigation.open(opened)
        if len(self._reading) == 1:
            self.prefer(self.preferences.with_recent(str(self._reading[0].resolve())))
        if self.stations.currentIndex() == 0 and opened.findings:
            self.go(2)

    def _failed(self, text: str) -> None:
        self._done()
        self.complain(text)

    def complain(self, text: str) -> None:
        """Says what happened; the details can be copied."""
        box = QMessageBox(QMessageBox.Icon.Warning, "Yaffle", text, QMessageBox.StandardButton.Ok, self)
        box.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        copy = box.addButton("Copy details", QMessageBox.ButtonRole.ActionRole)
        copy.clicked.disconnect()  # It stays open.
        details = f"{text}\n\nYaffle {__version__}, Python {sys.version.split()[0]}, {sys.platform}\nlog: {log_file()}"
        copy.clicked.connect(lambda: QApplication.clipboard().setText(details))
        box.setInformativeText(f"The log is in {log_file()}.")
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # --- answering the model ---
    def _opened(self) -> None:
        opened = self.investigation.opened
        self._save.setEnabled(opened is not None)
        self._close.setEnabled(opened is not None)
        if opened is None:
            self._words.setText("no source")
            self.setWindowTitle("Yaffle")
            return
        sources = opened.analysis.capture.sources
        packets = sum(s.packets for s in sources)
        whole = "complete" if all(s.complete for s in sources) else "not complete: see Gather"
        told = sum(e.flow_records for e in opened.analysis.exporters)
        held = f"{count(packets)} packets" + (f", {count(told)} flow records" if told else "")
        self._words.setText(f"{len(sources)} source{'s' if len(sources) != 1 else ''}, {held}, {whole}")
        name = (
            opened.folder.stem
            if opened.folder
            else sources[0].name
            if len(sources) == 1
            else f"{len(sources)} captures, not saved"
        )
        self.setWindowTitle(f"{name} – Yaffle")

    def _remember(self) -> None:
        try:
            self.investigation.remember()
        except OSError as error:
            self.statusBar().showMessage(f"Notes and focus cannot be kept: {error.strerror or error}", 8000)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            cases = [p for p in paths if p.suffix == SUFFIX]
            self.load(cases[:1] or [*self._open_paths(), *paths])

    @property
    def busy(self) -> bool:
        """Whether anything shown is still being computed."""
        return self.job is not None or any(
            station.busy for station in (self.survey, self.apportion, self.examine, self.path, self.compare, self.live)
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        self.stop_job()
        self.receiver.close()
        super().closeEvent(event)
