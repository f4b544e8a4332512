"""Survey: measures of the focus over time, troubles and bursts, and what the traffic is made of."""

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.bars import Trend
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.station import Station
from yaffle.desktop.survey.flows_panel import FlowsPanel
from yaffle.desktop.survey.hosts_panel import HostsPanel
from yaffle.desktop.survey.interfaces_panel import InterfacesPanel
from yaffle.desktop.survey.make_up_panel import MakeUpPanel
from yaffle.desktop.survey.measure_plots import MeasurePlots
from yaffle.desktop.survey.measures_dialog import MeasuresDialog
from yaffle.desktop.survey.passing_panel import PassingPanel
from yaffle.desktop.survey.services_panel import ServicesPanel
from yaffle.desktop.survey.sockets_panel import SocketsPanel
from yaffle.desktop.survey.tests_panel import TestsPanel
from yaffle.desktop.survey.whereabouts_panel import WhereaboutsPanel
from yaffle.findings.flow_labels import PORT_NUMBER
from yaffle.findings.interfaces import Interfaces, InterfaceUse, through
from yaffle.findings.whereabouts import Whereabouts
from yaffle.inventory.places import Places
from yaffle.session.catalogue_values import choices
from yaffle.session.datagram_groups import OtherGroup
from yaffle.session.expressions import utc
from yaffle.session.investigation import Investigation
from yaffle.session.measures import TROUBLE_COLUMNS
from yaffle.session.scene import Scene
from yaffle.session.survey import SurveyPicture, SurveySettings, Trouble, survey
from yaffle.units import count, duration, moment, rate, share, size

INTERVALS = (
    ("auto", 0), ("1 ms", 10**6), ("10 ms", 10**7), ("100 ms", 10**8), ("1 s", 10**9), ("10 s", 10**10),
    ("1 min", 60 * 10**9),
    ("5 min", 300 * 10**9), ("15 min", 900 * 10**9), ("1 h", 3600 * 10**9), ("1 day", 86_400 * 10**9),
)  # fmt: skip

TRAFFIC, FLOWS, INTERFACES, HOSTS, WHEREABOUTS, PASSING, TESTS = 0, 2, 3, 4, 5, 7, 8  # pages


class Survey(Station):
    """The second station."""

    said = Signal(str)  # for the status bar

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self._latest = Latest(self)
        self.picture: SurveyPicture | None = None
        self._words = QLabel()
        self._latest.failed.connect(lambda text: self._words.setText(f"View not updated: {text}"))
        self._words.setWordWrap(True)
        self.plots = MeasurePlots()
        self.make_up = MakeUpPanel()
        self.make_up.wanted.connect(self._changed)
        self.make_up.table.narrowed.connect(investigation.narrow)
        self.troubles = Listing("TCP issues, most frequent first")
        self._trends = Trend(self, hurts=True)
        self.troubles.setItemDelegateForColumn(3, self._trends)
        self.troubles.narrowed.connect(investigation.narrow)
        self.troubles.entered.connect(self._to_trouble)
        self.troubles.setToolTip("Enter selects the period in which most of them lie")
        self.others = Listing("Conversations that are not TCP")
        self.interval = QComboBox()
        for name, _ in INTERVALS:
            self.interval.addItem(name)
        self.interval.setToolTip("Interval length")
        self.interval.currentIndexChanged.connect(lambda _: self._changed())
        self.logarithmic = QCheckBox("log scale")
        self.logarithmic.toggled.connect(self._rescale)
        self.line = QDoubleSpinBox()
        self.line.setMaximumWidth(130)
        self.line.setRange(0, 1_000_000)
        self.line.setDecimals(1)
        self.line.setSuffix(" Mbit/s")
        self.line.setSpecialValueText("not set")
        self.line.setKeyboardTracking(False)
        self.line.setToolTip("Link rate: for how many milliseconds of each second was it fully used?")
        self.line.valueChanged.connect(self._line_changed)
        self.compose = QPushButton("Measures…")
        self.compose.setToolTip("Choose what is drawn over time")
        self.compose.clicked.connect(self.edit_measures)
        row = QHBoxLayout()
        for part in (
            QLabel("intervals"),
            self.interval,
            QLabel("link rate"),
            self.line,
            self.logarithmic,
            self.compose,
        ):
            row.addWidget(part)
        row.addStretch(1)
        self.services = ServicesPanel()
        self.services.narrowed.connect(investigation.narrow)
        self.flows = FlowsPanel()
        self.flows.wanted.connect(self._changed)
        self.interfaces = InterfacesPanel()
        self.interfaces.followed.connect(self._through)
        self.hosts = HostsPanel()
        self.whereabouts = WhereaboutsPanel()
        self.sockets = SocketsPanel()
        self.passing = PassingPanel()
        self.tests = TestsPanel()
        right = QTabWidget()
        right.setDocumentMode(True)
        for listed, name in ((self.troubles, "TCP issues"), (self.others, "UDP and ICMP responses")):
            right.addTab(listed, name)
        right.setMinimumWidth(120)
        self.right = right
        lower = Panes("survey station: lower", Qt.Orientation.Horizontal)
        lower.arrange([self.make_up, right], [520, 390])
        body = Panes("survey station: body", Qt.Orientation.Vertical)
        body.arrange([self.plots, lower], [270, 280])
        traffic = QWidget()
        column = QVBoxLayout(traffic)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self._words)
        column.addLayout(row)
        column.addWidget(body, 1)
        self.parts = QTabWidget()
        self.parts.setDocumentMode(True)
        self.parts.addTab(traffic, "traffic")
        self.parts.addTab(self.services, "services")
        self.parts.addTab(self.flows, "flow records")
        self.parts.addTab(self.interfaces, "interfaces")
        self.parts.addTab(self.hosts, "hosts")
        self.parts.addTab(self.whereabouts, "addresses")
        self.parts.addTab(self.sockets, "connections")
        self.parts.addTab(self.passing, "live")
        self.parts.addTab(self.tests, "tests")
        self.parts.setTabToolTip(8, "Tests on purpose: how each went, worst first")
        self.parts.setTabToolTip(
            7, "What passes a capture now: means of the last 2, 10 and 40 s by host, application …"
        )
        self.parts.setTabToolTip(6, "This host's connections now: process, rates, RTT, issues")
        self.parts.setTabToolTip(5, "IP and MAC addresses, neighbors by interface, and what changed")
        self.parts.setTabToolTip(4, "Counters of hosts and devices: CPU, memory, interrupts, TCP, UDP, IP")
        self.parts.setTabToolTip(3, "Interface utilization, highest first")
        self.parts.currentChanged.connect(self._turned)
        self.parts.setTabToolTip(2, "Exported flow records: volume over time, and its mix")
        self.parts.setTabToolTip(1, "DNS, DHCP, RADIUS, web, databases: response times and errors of each")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 4, 8, 6)
        whole.addWidget(self.parts)
        self._undo = [
            investigation.opened_changed.connect(self._opened),
            investigation.focus_changed.connect(self._changed),
            investigation.kept_changed.connect(self._kept),
        ]
        self._shown_settings: SurveySettings | None = None
        self._changed()

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest, *self.sockets.pictures, *self.passing.pictures)

    def show_service(self, address: str) -> None:
        """Shows the services, and chooses one by its address."""
        self.parts.setCurrentIndex(1)
        self.services.choose(address)

    def show_port(self, port: int) -> None:
        """Shows flow records of one port of servers (0: of all), by pair."""
        self.flows.inside = ((PORT_NUMBER, str(port)),) if port else ()
        self.flows.by.setCurrentText("pair")
        self.parts.setCurrentIndex(FLOWS)
        self._changed()

    def settings(self) -> SurveySettings:
        """What the user chose to see."""
        kept = self._model.kept
        flows = (
            self.flows.settings if self.parts.currentIndex() == FLOWS else None
        )  # They may come from a disk: only when they are looked at.
        return SurveySettings(
            kept.measures,
            INTERVALS[self.interval.currentIndex()][1],
            self.make_up.by,
            self.make_up.inside,
            kept.line_bps,
            flows,
            self.parts.currentIndex() == HOSTS,
            self.parts.currentIndex() == WHEREABOUTS,
            self.parts.currentIndex() == TESTS,
        )

    def _turned(self, page: int) -> None:
        lacking = {FLOWS: "flows", HOSTS: "hosts", WHEREABOUTS: "whereabouts"}.get(page)
        if page == TESTS and (self.picture is None or not self.picture.tests_known):
            self._changed()
        if lacking and (self.picture is None or getattr(self.picture, lacking) is None):
            self._changed()

    def _through(self, interface: InterfaceUse) -> None:
        """What went through an interface at its fullest, if its device told."""
        evidence = self._model.evidence
        if evidence is None:
            return
        exporter, inside = through(evidence.analysis, interface)
        if exporter < 0:
            self.said.emit(
                f"{interface.device} exported no flow records: what went through {interface.name} is not known"
            )
            return
        self.flows.look_into(exporter, inside, "application")
        self.parts.setCurrentIndex(FLOWS)
        if interface.over_ns:
            self._model.look(self._model.focus.with_period(interface.full_period))

    def _opened(self) -> None:
        self.make_up.inside = ()
        self.flows.forget()
        evidence = self._model.evidence
        history = evidence.analysis.history if evidence is not None else None
        self.flows.live = history is not None
        self.sockets.watch(history.folder if history is not None else None)
        self._changed()

    def watch(self, ring: Path | None) -> None:
        """The ring of a capture that is going on, or none."""
        evidence = self._model.evidence
        self.passing.watch(ring, evidence.places if evidence is not None else Places({}))

    def _kept(self) -> None:
        self.line.blockSignals(True)
        self.line.setValue(self._model.kept.line_bps / 1e6)
        self.line.blockSignals(False)
        if self._shown_settings is not None and self.settings() != self._shown_settings:
            self._changed()

    def _line_changed(self, mbps: float) -> None:
        self._model.keep(replace(self._model.kept, line_bps=mbps * 1e6), "link rate")

    def edit_measures(self) -> None:
        """Lets the user compose the measures."""
        evidence = self._model.evidence
        kept = choices(evidence.analysis) if evidence is not None else {}
        table = self._model.opened.filter if self._model.opened else None
        dialog = MeasuresDialog(self._model.kept.measures, table, self, kept)
        dialog.accepted.connect(
            lambda: self._model.keep(replace(self._model.kept, measures=dialog.measures), "measures")
        )
        dialog.open()

    def _rescale(self, on: bool) -> None:
        self.plots.logarithmic = on
        self.plots.show_picture(self.picture)

    def _show_nothing(self) -> None:
        self.picture = None
        self._words.setText("Open a capture with Ctrl+O to see its volume, TCP issues and traffic mix.")
        self.plots.show_picture(None)
        self.make_up.show_parts([])
        self._show_troubles([])
        self._show_others([])
        self.services.show_services([], None)
        self.flows.show_picture(None)
        self.interfaces.show_interfaces(Interfaces([], 0), 0, 1)
        self.hosts.show_hosts([], 0, 1)
        self.tests.show_courses(None, 0, 1)
        self.whereabouts.show_whereabouts(Whereabouts([], []), 1)

    def _ask(self, scene: Scene) -> None:
        settings = self._shown_settings = self.settings()
        self._latest.ask(lambda progress: survey(scene, settings, progress), self._show)

    def _show(self, picture: SurveyPicture) -> None:
        self.picture = picture
        self.plots.show_picture(picture)
        self.make_up.show_parts(picture.parts)
        self._show_troubles(picture.troubles)
        self._show_others(picture.others)
        self.services.show_services(picture.services, picture.edges_ns)
        if picture.flows is not None:
            self.flows.show_picture(picture.flows)
        self.interfaces.show_interfaces(picture.interfaces, int(picture.edges_ns[0]), int(picture.edges_ns[-1]))
        if picture.tests_known:
            self.tests.show_courses(picture.tests, int(picture.edges_ns[0]), int(picture.edges_ns[-1]))
        if picture.hosts is not None:
            self.hosts.show_hosts(picture.hosts, int(picture.edges_ns[0]), int(picture.edges_ns[-1]))
        if picture.whereabouts is not None:
            self.whereabouts.show_whereabouts(picture.whereabouts, int(picture.edges_ns[-1]))
        scene = self._model.scene
        short = ", ".join(
            f"{rate(peak)} in {span}"
            for peak, span in zip(picture.bursts.peak_bps, ("1 ms", "10 ms", "100 ms"), strict=True)
        )
        step = duration(int(picture.edges_ns[1] - picture.edges_ns[0]))
        words = (
            f"{count(picture.packets)} packets, {size(picture.octets)} ({scene.words if scene else ''}); peak {short};"
            f" intervals of {step}"
        )
        self._words.setText(". ".join([words, *(f"Left out: {error}" for error in picture.errors)]))

    def _show_troubles(self, found: list[Trouble]) -> None:
        self._trends.trends = [t.trend for t in found]
        self.troubles.show_columns(
            [
                Column(
                    "issue",
                    lambda r: found[r].name,
                    [t.name for t in found],
                    figures=False,
                    condition=lambda r: f"{TROUBLE_COLUMNS[found[r].name]} > 0",
                ),
                Column("count", lambda r: count(found[r].count), [t.count for t in found]),
                Column(
                    "of TCP",
                    lambda r: share(found[r].share),
                    [t.share for t in found],
                    meaning="share of the TCP packets in focus",
                ),
                Column("trend", lambda r: "", figures=False, meaning="over the period, each row scaled separately"),
                Column(
                    "peak at",
                    lambda r: moment(found[r].worst_ns[0], digits=0),
                    [t.worst_ns[0] for t in found],
                    sql="began",
                    value=lambda r: utc(found[r].worst_ns[0]),
                ),
            ],
            len(found),
            ((3, 58),),
        )

    def _to_trouble(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.troubles):
            self._model.look(self._model.focus.with_period(self.picture.troubles[row].worst_ns))

    def _show_others(self, groups: list[OtherGroup]) -> None:
        self.others.show_columns(
            [
                Column("service", lambda r: groups[r].label, [g.label for g in groups], figures=False),
                Column(
                    "median",
                    lambda r: duration(groups[r].median_ns),
                    [g.median_ns or 0 for g in groups],
                    meaning="response time",
                ),
                Column(
                    "p95",
                    lambda r: duration(groups[r].p95_ns),
                    [g.p95_ns or 0 for g in groups],
                    meaning="response time",
                ),
                Column(
                    "no response",
                    lambda r: count(groups[r].unanswered),
                    [g.unanswered for g in groups],
                    meaning="requests without a response",
                ),
            ],
            len(groups),
            ((1, 66), (2, 72), (3, 46)),
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plots.dress()
        self.services.dress()
        self.flows.dress()
        self.interfaces.dress()
        self.hosts.dress()
        self.whereabouts.dress()
        self.sockets.dress()
        self.passing.dress()
        self.tests.dress()
