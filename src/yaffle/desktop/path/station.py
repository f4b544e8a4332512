"""Path: segments between points, voice and video, ways of flow records, classes of service, and the map."""

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.path.classes_page import ClassesPage
from yaffle.desktop.path.cyclic_page import CyclicPage
from yaffle.desktop.path.expected_dialog import ExpectedDialog
from yaffle.desktop.path.flow_paths_page import WaysPage
from yaffle.desktop.path.map_page import MapPage
from yaffle.desktop.path.queues_page import QueuesPage
from yaffle.desktop.path.radio_page import RadioPage
from yaffle.desktop.path.routes_page import RoutesPage
from yaffle.desktop.path.segments_page import SegmentsPage
from yaffle.desktop.path.streams_page import StreamsPage
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.station import Station
from yaffle.hops.paths import PathChange
from yaffle.hops.queues import Congestion
from yaffle.inventory.places import PointName
from yaffle.path.translations import PairedEnds
from yaffle.session.classes_view import class_picture
from yaffle.session.cyclic_view import cyclic_picture
from yaffle.session.hops_view import hops_picture, queue_course
from yaffle.session.investigation import Investigation
from yaffle.session.kept import Kept
from yaffle.session.map_services import with_services
from yaffle.session.map_view import MapPicture, map_picture
from yaffle.session.path_change import change_course
from yaffle.session.path_view import PathPicture, path_picture
from yaffle.session.radio_course import point_course, station_course
from yaffle.session.radio_view import StationRow, radio_picture
from yaffle.session.route_paths import route_courses
from yaffle.session.scene import Scene

SEGMENTS, STREAMS, CYCLIC, WAYS, CLASSES, MAP, QUEUES, RADIO, ROUTES = range(9)  # pages
_AROUND_NS = 60_000_000_000


class PathStation(Station):
    """`packet_wanted` carries the connection and the moment of a packet."""

    packet_wanted = Signal(int, object)

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self._latest, self._of_classes, self._of_map = Latest(self), Latest(self), Latest(self)
        self.segments, self.streams, self.ways, self.classes, self.map = (
            SegmentsPage(),
            StreamsPage(),
            WaysPage(),
            ClassesPage(),
            MapPage(),
        )
        self.cyclic, self.queues, self.radio, self.routes = CyclicPage(), QueuesPage(), RadioPage(), RoutesPage()
        self._of_nodes, self._of_one, self._of_routes, self._of_cycles, self._of_change = (
            Latest(self) for _ in range(5)
        )
        self.parts = QTabWidget()
        for latest, words in (
            (self._latest, self.segments.words),
            (self._of_classes, self.classes.words),
            (self._of_map, self.map.words),
            (self._of_nodes, self.queues.words),
            (self._of_one, self.radio.words),
            (self._of_routes, self.routes.words),
            (self._of_cycles, self.cyclic.words),
            (self._of_change, self.queues.words),
        ):
            latest.failed.connect(lambda text, words=words: words.setText(f"View not updated: {text}"))
        self.segments.packet_wanted.connect(self.packet_wanted)
        self.segments.parted.connect(self._part)
        for telling in (self.ways, self.cyclic, self.queues, self.radio, self.routes):
            telling.moment_wanted.connect(self._narrow)
        self.queues.chosen.connect(self._ask_queue)
        self.queues.changes.chosen.connect(self._ask_change)
        self.queues.named.connect(self._name_node)
        self.radio.chosen.connect(self._ask_station)
        self.radio.points.chosen.connect(self._ask_point)
        self.classes.wanted.connect(lambda: self._turned(self.parts.currentIndex()))
        self.classes.rules_wanted.connect(self.expect)
        self.classes.line_told.connect(self._keep_line)
        self.classes.entered.connect(self.packet_wanted)
        self.map.kept.connect(investigation.keep)
        self.parts.setDocumentMode(True)
        for page, title, tip in (
            (self.segments, "segments", "Each segment between two points: delay, loss to the packet, what it cost"),
            (self.streams, "voice and video", "Streams from point to point, and the calls that set them up"),
            (self.cyclic, "cyclic", "Streams with a steady period: cycles missed, jitter, longest gap"),
            (self.ways, "flow paths", "Paths of flows over exporters, and when they changed"),
            (self.classes, "classes", "Load, loss and delay by DSCP; expected DSCP; bandwidth allocation"),
            (self.map, "map", "Sites, points, devices and servers, and how each link does"),
            (self.queues, "queues", "What nodes told of single packets: queues that stood, paths, drops"),
            (self.radio, "radio", "802.11: stations, access points, signal, retransmissions, moves, failures"),
            (self.routes, "routes", "Routes that were tested on purpose: paths and their changes, each hop over time"),
        ):
            self.parts.setTabToolTip(self.parts.addTab(page, title), tip)
        self.parts.currentChanged.connect(self._turned)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 4, 8, 6)
        whole.addWidget(self.parts)
        self._told = investigation.kept.expected
        self._undo = [
            investigation.opened_changed.connect(self._opened),
            investigation.focus_changed.connect(self._changed),
            investigation.kept_changed.connect(self._kept),
        ]
        self._show(None)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (
            self._latest,
            self._of_classes,
            self._of_map,
            self._of_nodes,
            self._of_one,
            self._of_routes,
            self._of_cycles,
            self._of_change,
        )

    @property
    def picture(self) -> PathPicture | None:
        """What the first pages show."""
        return self.segments.picture

    def _opened(self) -> None:
        self.segments.fresh = True
        self.classes.set_line(self._model.kept.line_bps)
        self._changed()

    def _show_nothing(self) -> None:
        self._show(None)
        self.classes.show_picture(None)
        self.map.show_picture(None, self._model.kept)
        self.queues.show_picture(None)
        self.radio.show_picture(None)
        self.cyclic.show_picture(None)
        self.routes.show_courses(None, 0, 1)

    def _ask(self, scene: Scene) -> None:
        self._latest.ask(lambda _progress: path_picture(scene), self._show)
        self._turned(self.parts.currentIndex())

    def _turned(self, page: int) -> None:
        scene = self._model.scene
        if scene is None or not self.isVisible():
            return
        if page == CLASSES:
            settings = self.classes.settings
            self._of_classes.ask(
                lambda _progress: class_picture(scene, settings),
                lambda picture: self.classes.show_picture(picture, len(self._model.kept.expected)),
            )
        elif page == MAP:
            self._of_map.ask(lambda _progress: with_services(scene, map_picture(scene)), self._show_map)
        elif page == QUEUES:
            self._of_nodes.ask(lambda _progress: hops_picture(scene), self.queues.show_picture)
        elif page == RADIO:
            self._of_one.ask(lambda _progress: radio_picture(scene), self.radio.show_picture)
        elif page == CYCLIC:
            self._of_cycles.ask(lambda _progress: cyclic_picture(scene), self.cyclic.show_picture)
        elif page == ROUTES:
            history, places = scene.evidence.analysis.history, scene.evidence.places
            self._of_routes.ask(
                lambda progress: route_courses(history, places, scene.first_ns, scene.last_ns, progress),
                lambda found: self.routes.show_courses(found, scene.first_ns, scene.last_ns),
            )

    def _ask_queue(self, one: Congestion) -> None:
        scene = self._model.scene
        if scene is not None:
            self._of_nodes.ask(lambda _progress: queue_course(scene, one), self.queues.show_course)

    def _name_node(self, node: int, name: str) -> None:
        number, kept = f"node {node}", self._model.kept
        others = tuple(one for one in kept.renamed if one.point != number)
        own = (PointName(number, name),) if name and name != number else ()
        self._model.keep(replace(kept, renamed=others + own), f"name {number} {name}".rstrip())

    def _ask_change(self, one: PathChange) -> None:
        scene = self._model.scene
        if scene is not None:
            self._of_change.ask(lambda _progress: change_course(scene, one), self.queues.changes.show_course)

    def _ask_station(self, row: StationRow) -> None:
        scene = self._model.scene
        if scene is not None:
            self._of_one.ask(lambda _progress: station_course(scene, row), self.radio.show_course)

    def _ask_point(self, number: int) -> None:
        scene = self._model.scene
        if scene is not None:
            self._of_change.ask(lambda _progress: point_course(scene, number), self.radio.points.show_course)

    def _show(self, picture: PathPicture | None) -> None:
        first = self.segments.fresh and picture is not None
        self.segments.show_picture(picture)
        self.streams.show_picture(picture)
        self.ways.show_picture(picture)
        if (
            first
            and picture is not None
            and not picture.segments
            and self.parts.currentIndex() == SEGMENTS
            and (picture.ways or picture.streams)
        ):
            self.parts.setCurrentIndex(WAYS if picture.ways else STREAMS)  # What there is stands first.

    def _show_map(self, picture: MapPicture) -> None:
        self.map.show_picture(picture, self._model.kept)

    def _kept(self) -> None:
        kept: Kept = self._model.kept
        self.map.keep_up(kept)
        if abs(self.classes.line.value() * 1e6 - kept.line_bps) > 1:
            self.classes.set_line(kept.line_bps)
            self._turned(self.parts.currentIndex())

    def _keep_line(self, bps: float) -> None:
        self._model.keep(replace(self._model.kept, line_bps=bps), "link rate")
        self._turned(self.parts.currentIndex())

    def show_violations(self) -> None:
        """Shows what does not bear the marking that is expected."""
        self.parts.setCurrentIndex(CLASSES)
        self.classes.right.setCurrentIndex(1)

    def expect(self) -> None:
        """Asks for the rules of expected DSCP."""
        names = self.classes.picture.applications if self.classes.picture is not None else []
        dialog = ExpectedDialog(self._model.kept.expected, names, self)
        dialog.accepted.connect(
            lambda: self._model.keep(replace(self._model.kept, expected=dialog.rules), "expected DSCP")
        )
        dialog.open()

    def _part(self, ends: PairedEnds) -> None:
        apart = self._model.kept.apart
        left = tuple(one for one in apart if one != ends) if ends in apart else (*apart, ends)
        self._model.keep(replace(self._model.kept, apart=left), "NAT")

    def _narrow(self, at_ns: int) -> None:
        scene = self._model.scene
        if scene is not None:
            self._model.look(
                self._model.focus.with_period(
                    (max(scene.evidence.first_ns, at_ns - _AROUND_NS), min(scene.evidence.last_ns, at_ns + _AROUND_NS))
                )
            )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for page in (
            self.segments,
            self.streams,
            self.cyclic,
            self.classes,
            self.map,
            self.queues,
            self.radio,
            self.routes,
        ):
            page.dress()
        self.ways.show_picture(self.picture)
