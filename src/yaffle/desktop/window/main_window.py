"""The frame: period strip, focus line, station rail, findings drawer, and the stations between them."""

import sys
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from yaffle import __version__
from yaffle.case.folder import SUFFIX
from yaffle.desktop.apportion.station import Apportion
from yaffle.desktop.compare.station import Compare
from yaffle.desktop.examine.station import TIERS, VISIT, Examine
from yaffle.desktop.gather.station import Gather
from yaffle.desktop.path.station import CYCLIC, QUEUES, RADIO, PathStation
from yaffle.desktop.report.station import ReportStation
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Offers
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.log_file import log_file
from yaffle.desktop.shared.panes import Filling
from yaffle.desktop.survey.station import FLOWS, HOSTS, INTERFACES, TESTS, TRAFFIC, Survey
from yaffle.desktop.watch.station import WatchStation
from yaffle.desktop.window.background import Background
from yaffle.desktop.window.case_files import CaseFiles
from yaffle.desktop.window.export_actions import ExportActions
from yaffle.desktop.window.findings_drawer import FindingsDrawer
from yaffle.desktop.window.focus_line import FocusLine
from yaffle.desktop.window.live_history import Live
from yaffle.desktop.window.menus import Menus
from yaffle.desktop.window.naming import Naming
from yaffle.desktop.window.period_strip import PeriodStrip
from yaffle.desktop.window.preferences_dialog import PreferencesDialog
from yaffle.desktop.window.respond_dialog import RespondDialog
from yaffle.desktop.window.shortcut_sheet import ShortcutSheet
from yaffle.desktop.window.station_rail import APPORTION, EXAMINE, GATHER, PATH, STATIONS, SURVEY, WATCH, StationRail
from yaffle.desktop.window.task import Task
from yaffle.desktop.window.test_now import TestNow
from yaffle.desktop.window.ticket_dialog import TicketDialog
from yaffle.findings.air import AIR
from yaffle.findings.cyclic import CYCLIC as OF_CYCLES
from yaffle.findings.finding import Finding
from yaffle.findings.markings import CAUSE
from yaffle.findings.queues import CAUSE as QUEUE
from yaffle.records.catalogue import COUNTERS, HOPS, PROBES, READINGS, RECORDS
from yaffle.records.catalogue import CYCLIC as CYCLIC_TABLE
from yaffle.records.catalogue import RADIO as RADIO_TABLE
from yaffle.session import preferences
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.preferences import Preferences
from yaffle.session.wait_group import Group
from yaffle.units import count, show_in
from yaffle.warm_up import load_kernels
from yaffle.watching.watch import Watch

_NOW_NS = 600 * 10**9


class MainWindow(QMainWindow):
    """Owns the investigation's views; the investigation itself knows nothing of it."""

    def __init__(self, investigation: Investigation) -> None:
        super().__init__()
        self.investigation = investigation
        self.preferences = preferences.load()
        self.setWindowTitle("Yaffle")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.strip, self.focus_line = PeriodStrip(investigation), FocusLine(investigation)
        self.findings = FindingsDrawer(investigation)
        self.gather, self.survey = Gather(investigation), Survey(investigation)
        self.apportion, self.examine = Apportion(investigation), Examine(investigation)
        self.path, self.compare = PathStation(investigation), Compare(investigation)
        self.watch, self.report = WatchStation(investigation), ReportStation(investigation)
        self.task = Task()
        self.files = CaseFiles(investigation, self.task, self)
        self.exports = ExportActions(investigation, self.task, self)
        self.naming = Naming(investigation, self.task, self)
        self.background = Background(investigation, self)
        self.live = Live(investigation, self)
        self.menus = Menus(self.menuBar())
        self._filling, self._ready = Filling(), Latest(self)
        self.responding: RespondDialog | None = None
        self._lay_out()
        self._connect()
        self._fill_menus()
        self._undo = [
            investigation.opened_changed.connect(self._opened),
            investigation.kept_changed.connect(self._kept),
        ]
        self._dress()
        self._opened()

    # --- frame ---
    def _lay_out(self) -> None:
        self.rail = StationRail()
        self.stations = QStackedWidget()
        for station in (
            self.gather, self.survey, self.apportion, self.examine, self.path, self.compare, self.watch,
            self.report,
        ):  # fmt: skip
            self.stations.addWidget(station)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.rail)
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
        self.status_words = QLabel()
        self.statusBar().addWidget(self.status_words)
        self.statusBar().addPermanentWidget(self.task)

    def _connect(self) -> None:
        self.rail.chosen.connect(self.go)
        self.findings.followed.connect(self.follow)
        self.findings.test_wanted.connect(self.test_now)
        self.path.packet_wanted.connect(self._examine_at)
        for panel in (self.compare.normal, self.compare.peaks):
            panel.entered.connect(lambda _period: self.go(SURVEY))
        self.survey.flows.paced.connect(self.live.set_pace)
        self.live.said.connect(lambda text: self._say(text, 8000))
        self.survey.said.connect(lambda text: self._say(text, 8000))
        self.gather.add_wanted.connect(self.files.add_files)
        welcome = self.gather.welcome
        welcome.open_wanted.connect(self.files.open_files)
        welcome.demo_wanted.connect(self.files.open_demo)
        welcome.recent_wanted.connect(self.files.open_given)
        self.apportion.examine_wanted.connect(self._examine)
        self.apportion.exchange_wanted.connect(self._examine_at)
        self.apportion.visit_wanted.connect(partial(self._examine_page, VISIT))
        self.apportion.tiers_wanted.connect(partial(self._examine_page, TIERS))
        self.survey.tests.asked.connect(self.test_now)
        for teller in (self.findings, self.survey.tests, self.compare.normal):
            teller.watch_wanted.connect(self._tell_when)
        self.watch.wanted.connect(self._open_watched)
        self.watch.said.connect(lambda text: self._say(text, 8000))
        self.report.said.connect(lambda text: self._say(text, 8000))
        self.report.write_wanted.connect(self.exports.report)
        self.report.bundle_wanted.connect(self.exports.bundle)
        self.apportion.test_wanted.connect(self.test_now)
        self.survey.passing.wanted.connect(self._open_exchanges)
        self.survey.sockets.wanted.connect(self._open_exchanges)
        self.apportion.hour_wanted.connect(self._open_hour)
        self.apportion.name_wanted.connect(self.naming.name_application)
        self.focus_line.favourite_kept.connect(lambda name, text: self.prefer(self.preferences.with_filter(name, text)))
        for child, words in ((self.files.receiver, "Receiving"), (self.files.capturer, "Capturing")):
            child.said.connect(lambda text: self._say(text, 15_000))
            child.ended.connect(lambda text, words=words: self.complain(f"{words} has ended: {text}"))
        for part in (self.task, self.files, self.exports):
            part.said.connect(self._say)
        self.task.failed.connect(self.complain)
        self.files.begun.connect(self.gather.show_beginning)
        self.files.loaded.connect(self._loaded)
        self.files.saved.connect(self._opened)
        self.files.recent.connect(lambda path: self.prefer(self.preferences.with_recent(path)))
        self.background.filter_stopped.connect(self._filter_stopped)
        self.background.not_kept.connect(lambda text: self._say(f"Notes and focus cannot be kept: {text}", 8000))
        stations = (self.survey, self.apportion, self.examine, self.path, self.compare, self.watch, self.report)
        pictures = [picture for station in stations for picture in station.pictures]
        self.task.watch([*pictures, self.background.filter, self.exports.writer.picture])

    def _fill_menus(self) -> None:
        model, files, exports, add = self.investigation, self.files, self.exports, self.menus.add_all
        add(
            "Case",
            ("Open captures…", "Ctrl+O", files.open_files),
            ("Open the demo", "", files.open_demo),
            ("Add captures…", "Ctrl+Shift+O", files.add_files),
            ("Open a case…", "Ctrl+Shift+C", files.open_case_dialog),
            ("Open a history…", "Ctrl+H", files.open_history_dialog),
            ("Open from a store…", "Ctrl+Shift+H", files.open_stored_dialog),
            ("Receive flow records…", "Ctrl+R", files.receive),
            ("Capture packets here…", "Ctrl+Shift+R", files.capture),
            ("Test now…", "Ctrl+Shift+T", lambda: self.test_now("reach", "")),
            ("Answer tests here…", "", self.answer_tests),
            ("New watch…", "Ctrl+Shift+W", self.watch.edit),
            ("Keep this stretch of the ring…", "Ctrl+Shift+K", files.keep_stretch),
            ("Reload captures", "F5", files.read_again),
        )
        growing = self.menus.add("Case", "Follow growing captures", "Ctrl+G", lambda: None, checkable=True)
        growing.toggled.connect(files.follow_growth)
        files.growth_wanted.connect(growing.setChecked)
        add("Case", ("Save the case…", "Ctrl+S", files.save_dialog))
        self.menus.add_recent("Case", lambda: self.preferences.recent, files.open_given)
        add(
            "Case",
            None,
            ("Report as HTML or PDF…", "Ctrl+P", exports.report),
            ("Evidence bundle…", "Ctrl+Shift+P", exports.bundle),
            ("Report of a period…", "", exports.period),
            ("Packets in focus as pcapng…", "Ctrl+E", exports.packets),
            ("Exchanges in focus as CSV or Parquet…", "", exports.waits),
            ("Connections in focus as CSV or Parquet…", "", exports.connections),
            ("Flow records as IPFIX, CSV or Parquet…", "", exports.flows),
            None,
            ("Close the case", "Ctrl+W", model.close),
            ("Quit", "Ctrl+Q", self.close),
        )
        add(
            "Edit",
            ("Undo", "Ctrl+Z", model.undo),
            ("Redo", "Ctrl+Shift+Z", model.redo),
            ("Enter a complaint…", "Ctrl+K", self.gather.enter_complaint),
            ("Names of applications…", "Ctrl+N", self.naming.name_application),
            ("Sites…", "Ctrl+Shift+N", self.naming.name_sites),
            ("Measures over time…", "Ctrl+M", self.survey.edit_measures),
            ("Preferences…", "Ctrl+,", self.edit_preferences),
        )
        add(
            "Focus",
            ("Back", "Alt+Left", model.back),
            ("Forward", "Alt+Right", model.forward),
            ("Now: the last 10 minutes, moving on", "Ctrl+Shift+D", self.go_to_now),
            ("Whole period", "Ctrl+0", lambda: model.look(model.focus.with_period(None))),
            ("Up one level", "Alt+Up", lambda: model.look(model.focus.with_trail(model.focus.trail[:-1]))),
            ("Filter", "Ctrl+F", self.focus_line.type_filter),
            ("Period strip", "Ctrl+T", self.strip.setFocus),
            ("Go to a ticket's moment…", "Ctrl+J", self.go_to_ticket),
            ("Type a period", "Ctrl+D", self.focus_line.type_period),
            ("Follow the first finding", "Ctrl+Return", self.follow_first),
        )
        add("Stations", *((name, f"Ctrl+{k + 1}", lambda k=k: self.go(k)) for k, name in enumerate(STATIONS)))
        add(
            "Window",
            ("Show or hide findings", "F9", lambda: self.findings.set_folded(not self.findings.folded)),
            ("Let this pane fill the station, or not", "F11", self.fill_station),
            ("Light or dark", "F8", self.switch_theme),
            ("Shortcuts", "F1", self.show_shortcuts),
        )

    def _say(self, text: str, for_ms: int) -> None:
        self.statusBar().showMessage(text, for_ms)

    # --- going about ---
    def go(self, station: int) -> None:
        """Shows a station."""
        self.stations.setCurrentIndex(station)
        self.rail.mark(station)
        names = (
            self.gather.table,
            self.survey.make_up.table,
            self.apportion.tree,
            self.examine.ladder,
            self.path.segments.line,
            self.compare.normal.measure,
            self.watch.table,
            self.report.sections,
        )
        names[station].setFocus()

    def fill_station(self) -> None:
        """The pane with the keyboard takes the room of the others, or gives it back."""
        self._filling.toggle(QApplication.focusWidget(), self.stations)

    def follow(self, finding: Finding) -> None:
        """Leads to a finding's grounds."""
        self.investigation.follow(finding)
        if "protocol" in finding.grounds:  # A service: how it answered stands in Survey.
            self.go(SURVEY)
            self.survey.show_service(finding.subject)
        elif "interface" in finding.grounds:
            self.go(SURVEY)
            self.survey.parts.setCurrentIndex(INTERFACES)
        elif finding.cause == CAUSE:
            self.go(PATH)
            self.path.show_violations()
        elif OF_CYCLES in finding.grounds:
            self.go(PATH)
            self.path.parts.setCurrentIndex(CYCLIC)
        elif finding.cause == QUEUE or AIR in finding.grounds:
            self.go(PATH)
            self.path.parts.setCurrentIndex(QUEUES if finding.cause == QUEUE else RADIO)
        else:
            self.go(APPORTION)

    def follow_first(self) -> None:
        """Leads to the grounds of the finding at the top."""
        if self.investigation.findings:
            self.follow(self.investigation.findings[0])

    def offers_for_address(self, address: str) -> Offers:
        """What is offered for an address that stands in a table."""
        return [(f"Test now: {kind} {address}…", partial(self.test_now, kind, address)) for kind in ("reach", "route")]

    def test_now(self, kind: str, target: str) -> None:
        """Asks on purpose: what is filled in, or anything else."""
        self.testing = TestNow(kind, target, self)
        self.testing.show()

    def _tell_when(self, watch: Watch | None) -> None:
        """A new watch, filled in; None: of what is looked at there can be none."""
        if watch is None:
            self._say("No history keeps this measure: a watch needs one that it keeps", 8000)
            return
        self.go(WATCH)
        self.watch.edit_soon(watch)

    def answer_tests(self) -> None:
        """Lets others test to this host."""
        if self.responding is None:
            self.responding = RespondDialog(self)
        self.responding.show()

    def _open_watched(self, table: str) -> None:
        """From what is watched to its evidence: the page that shows the table."""
        page = {RECORDS: FLOWS, COUNTERS: INTERFACES, READINGS: HOSTS, PROBES: TESTS, HOPS: TRAFFIC}
        page |= {RADIO_TABLE: TRAFFIC, CYCLIC_TABLE: TRAFFIC}
        if table not in page:
            self.go(APPORTION)
            return
        self.go(SURVEY)
        self.survey.parts.setCurrentIndex(page[table])

    def _open_exchanges(self, expression: str) -> None:
        """From what passes now to its exchanges."""
        self.files.open_exchanges(expression)
        self.go(APPORTION)

    def _open_hour(self, group: Group) -> None:
        """To the packets of an hour of kept waits, where a ring still holds them."""
        if group.period is not None:
            self.investigation.look(self.investigation.focus.with_trail(group.trail[:3]).with_period(group.period))
            self.files.open_packets(*group.period)

    def _examine(self, connection: int) -> None:
        self.investigation.examine(connection)
        self.go(EXAMINE)

    def _examine_at(self, connection: int, moment_ns: int) -> None:
        self._examine(connection)
        self.examine.look_at(moment_ns)

    def _examine_page(self, page: int, connection: int, moment_ns: int) -> None:
        self._examine_at(connection, moment_ns)
        self.examine.parts.setCurrentIndex(page)

    def show_shortcuts(self) -> None:
        """The sheet of keys."""
        self._sheet = ShortcutSheet(self.menus.shortcuts, self)
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
            self._say(f"Preferences cannot be kept: {error.strerror or error}", 8000)
        if replace(former, recent=(), filters=()) != replace(wanted, recent=(), filters=()):
            self._dress()
            if (former.zone, former.octet_rates) != (
                wanted.zone,
                wanted.octet_rates,
            ) and self.investigation.opened is not None:
                self.naming.tell_again()
        self.focus_line.kept_filters = wanted.filters
        self.gather.welcome.show_recent(wanted.recent)

    def _dress(self) -> None:
        """Puts the preferences on."""
        wanted = self.preferences
        show_in(wanted.tzinfo, octet_rates=wanted.octet_rates)
        self.gather.welcome.show_recent(wanted.recent)
        self.focus_line.kept_filters = wanted.filters
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, theme.DARK if wanted.theme == "dark" else theme.LIGHT, wanted.font_points)
        self.examine.threshold.setValue(wanted.silence_ms)
        for station in (self.survey, self.apportion, self.path, self.compare, self.watch):
            station.dress()
        self.examine.flow.dress()
        self.examine.visit.dress()
        self.examine.tiers.dress()
        self.strip.update()
        self.focus_line.redraw()
        self.update()

    def go_to_now(self) -> None:
        """The last minutes of the evidence; where it grows, the period goes along until another one is chosen."""
        evidence = self.investigation.evidence
        if evidence is not None:
            first_ns = max(evidence.first_ns, evidence.last_ns - _NOW_NS)
            self.investigation.look(self.investigation.focus.with_period((first_ns, evidence.last_ns)))

    def go_to_ticket(self) -> None:
        """Asks for a moment and a port, and shows what was there then."""
        evidence = self.investigation.evidence
        if evidence is None:
            self._say("Open a capture or a history first.", 4000)
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
            self.go(APPORTION)
        else:
            self.go(SURVEY)
            self.survey.show_port(port)

    def _kept(self) -> None:
        history = self.investigation.kept_history
        undo, redo = self.menus.by_text["Undo"], self.menus.by_text["Redo"]
        undo.setEnabled(history.can_go_back)
        undo.setText(f"Undo: {history.back_words}" if history.can_go_back else "Undo")
        redo.setEnabled(history.can_go_forward)
        redo.setText(f"Redo: {history.forward_words}" if history.can_go_forward else "Redo")

    # --- files ---
    def load(self, paths: list[Path]) -> None:
        """Opens captures or one case."""
        self.files.load(paths)

    def take_over(self, paths: list[Path]) -> None:
        """Opens what a second start was asked to open."""
        self.raise_()
        self.activateWindow()
        if paths:
            self.load(paths)

    def make_ready(self) -> None:
        """Loads the engine while nothing else is to be done."""
        self._ready.ask(lambda _progress: load_kernels(), lambda _nothing: None)

    def _loaded(self, opened: Opened) -> None:
        self.investigation.open(opened)
        if self.stations.currentIndex() == GATHER and opened.findings:
            self.go(APPORTION)

    def _filter_stopped(self, text: str) -> None:
        self._say(f"Filter: {text}", 6000)
        self.focus_line.redraw()

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
        self.survey.watch(self.files.ring)
        for text in ("Save the case…", "Close the case"):
            self.menus.by_text[text].setEnabled(opened is not None)
        if opened is None:
            self.status_words.setText("no source")
            self.setWindowTitle("Yaffle")
            return
        sources = opened.analysis.capture.sources
        packets = sum(s.packets for s in sources)
        whole = "complete" if all(s.complete for s in sources) else "not complete: see Gather"
        told = sum(e.flow_records for e in opened.analysis.exporters)
        held = f"{count(packets)} packets" + (f", {count(told)} flow records" if told else "")
        self.status_words.setText(f"{len(sources)} source{'s' if len(sources) != 1 else ''}, {held}, {whole}")
        name = (
            opened.folder.stem
            if opened.folder
            else sources[0].name
            if len(sources) == 1
            else f"{len(sources)} captures, not saved"
        )
        self.setWindowTitle(f"{name} – Yaffle")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            cases = [p for p in paths if p.suffix == SUFFIX]
            self.load(cases[:1] or [*self.files.open_paths(), *paths])

    @property
    def busy(self) -> bool:
        """Whether anything shown is still being computed."""
        return self.task.busy or self.live.busy or self.report.busy or self.exports.writer.busy

    def closeEvent(self, event: QCloseEvent) -> None:
        self.task.stop()
        self.background.remember_now()
        self.files.receiver.close()
        self.files.capturer.close()
        super().closeEvent(event)
