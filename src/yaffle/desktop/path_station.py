"""Path: the points as a line, what the chosen segment did over time in both directions, and every packet it lost."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QLabel, QScrollArea, QSizePolicy, QSplitter, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop import theme
from yaffle.desktop.column_table import Column, Listing
from yaffle.desktop.jobs import Latest
from yaffle.desktop.path_line import PathLine, way_words
from yaffle.desktop.plots import Plot
from yaffle.desktop.station import Station
from yaffle.session.investigation import Investigation
from yaffle.session.path_view import PathPicture, SegmentPicture, path_picture
from yaffle.session.scene import Scene
from yaffle.units import count, duration, moment, size

_NOTHING = (
    "The path is told by captures of the same packets at two or more points: open them together (Ctrl+O, choose several; or add one with Ctrl+Shift+O). "
    "Then each segment's delay, loss, reordering and marking stand here, to the packet."
)


class PathStation(Station):
    """`packet_wanted` carries the connection and the moment of a lost packet."""

    packet_wanted = Signal(int, object)

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self._latest = Latest(self)
        self._latest.failed.connect(lambda text: self.words.setText(f"This picture is not up to date: {text}"))
        self.picture: PathPicture | None = None
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setObjectName("faint")
        self.line = PathLine()
        self.line.chosen.connect(lambda _row: self._draw())
        held = QScrollArea()
        held.setWidgetResizable(True)
        held.setWidget(self.line)
        held.setMaximumHeight(270)
        self._held = held
        self.plots = (Plot("delay", "s"), Plot("delay", "s"))
        self._titles = (QLabel(), QLabel())
        drawn = QWidget()
        column = QVBoxLayout(drawn)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        for plot, title, way in zip(self.plots, self._titles, (0, 1), strict=True):
            title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            title.setWordWrap(True)
            column.addWidget(title)
            column.addWidget(plot, 1)
            plot.read_with(lambda x, y, way=way: self._words_at(way, x))
        self.plots[0].share_cursor(list(self.plots))
        self.plots[1].share_cursor(list(self.plots))
        self.plots[1].setXLink(self.plots[0])
        self.table = Listing("Packets that this segment lost")
        self.model = self.table.columns
        self.table.setToolTip("Enter shows the connection at that moment")
        self.table.entered.connect(self._enter)
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.addWidget(drawn)
        self.streams = Listing("Voice and video, from sender to receiver")
        self.stream_model = self.streams.columns
        self.right = QTabWidget()
        self.right.setDocumentMode(True)
        self.right.addTab(self.table, "lost packets")
        self.right.addTab(self.streams, "voice and video")
        self.ways = Listing("Ways of flows over their exporters")
        self.way_model = self.ways.columns
        self.right.addTab(self.ways, "flow records")
        lower.addWidget(self.right)
        lower.setSizes([500, 410])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 4, 8, 6)
        whole.addWidget(self.words)
        whole.addWidget(held)
        whole.addWidget(lower, 1)
        self._lower, self._drawn = lower, drawn
        self._fresh = True
        self._undo = [investigation.opened_changed.connect(self._opened), investigation.focus_changed.connect(self._changed)]
        self._show(None)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest,)

    def _opened(self) -> None:
        self._fresh = True
        self._changed()

    def _show_nothing(self) -> None:
        self._show(None)

    def _ask(self, scene: Scene) -> None:
        self._latest.ask(lambda _progress: path_picture(scene), self._show)

    def _show(self, picture: PathPicture | None) -> None:
        self.picture = picture
        some = picture is not None and bool(picture.segments)
        heard = picture is not None and bool(picture.streams or picture.ways)
        self._held.setVisible(some)
        self._drawn.setVisible(some)
        self._lower.setVisible(some or heard)
        self.line.show_picture(picture)
        self._show_streams(picture)
        self._show_ways(picture)
        if self._fresh and picture is not None and some:  # The segment that lost most is what is looked for.
            lost = [sum(way.lost for way in segment.ways) for segment in picture.segments]
            self.line.current = int(np.argmax(lost))
            self.line.update()
        self._fresh = False
        if picture is None or not some:
            self.words.setText(_NOTHING)
            if heard:
                self.words.setText("Captures at two or more points would tell each segment to the packet. What exporters and streams tell of their way stands below.")
                self.right.setCurrentIndex(2 if picture is not None and picture.ways else 1)
            return
        self.words.setText(f"{count(len(picture.points))} points. Clocks: " + "; ".join(picture.clocks) + ".")
        self._held.setFixedHeight(min(270, len(picture.segments) * 86 + 4))
        self._draw()

    @property
    def _segment(self) -> SegmentPicture | None:
        picture = self.picture
        return picture.segments[self.line.current] if picture is not None and picture.segments else None

    def _draw(self) -> None:
        picture, segment = self.picture, self._segment
        if picture is None or segment is None:
            return
        look, base = theme.current(), int(picture.edges_ns[0])
        middles = ((picture.edges_ns[:-1] + picture.edges_ns[1:]) // 2 - base) / 1e9
        for plot, title, way in zip(self.plots, self._titles, segment.ways, strict=True):
            title.setText(f"{way.start} → {way.end}: {way_words(way)}; variation {duration(way.variation_ns)}, 95 % below {duration(way.p95_ns)}")
            item = plot.getPlotItem()
            item.clear()
            some = ~np.isnan(way.middle)
            band = QColor(look.network)
            band.setAlpha(70)
            low, high = (pg.PlotDataItem(middles[some], curve[some] / 1e9, pen=pg.mkPen(look.line)) for curve in (way.floor, way.high))
            for part in (low, high, pg.FillBetweenItem(low, high, brush=pg.mkBrush(band))):
                item.addItem(part)
            plot.plot(middles[some], way.middle[some] / 1e9, pen=pg.mkPen(look.network, width=1.6))
            top = float(np.nanmax(way.high)) / 1e9 if some.any() else 1e-3
            if way.lost_at_ns.size:
                x = (way.lost_at_ns - base) / 1e9
                plot.plot(x, np.full(x.size, top * 1.08), pen=None, symbol="x", symbolSize=7, symbolPen=pg.mkPen(look.red, width=1.4))
            plot.axis.base_ns = base
            plot.axis.picture = None
            plot.setXRange(0, float(picture.edges_ns[-1] - base) / 1e9, padding=0.01)
            plot.setYRange(0, top * 1.18, padding=0)
        self._fill(segment)

    def _fill(self, segment: SegmentPicture) -> None:
        lost = segment.lost
        self.table.show_columns(
            [
                Column("lost at", lambda r: moment(lost[r].time_ns), [one.time_ns for one in lost]),
                Column("way", lambda r: lost[r].way, [one.way for one in lost], figures=False),
                Column("from", lambda r: lost[r].sender, [one.sender for one in lost], figures=False),
                Column("to", lambda r: lost[r].receiver, [one.receiver for one in lost], figures=False),
                Column("sequence", lambda r: str(lost[r].seq) if lost[r].seq >= 0 else "–", [one.seq for one in lost]),
                Column("payload", lambda r: size(lost[r].octets), [one.octets for one in lost]),
            ],
            len(lost),
            ((0, 96), (1, 100), (3, 130), (4, 90), (5, 66)),
            wide=2,
        )

    def _show_streams(self, picture: PathPicture | None) -> None:
        found = picture.streams if picture is not None else []
        red = theme.current().red
        self.streams.show_columns(
            [
                Column("stream", lambda r: f"{found[r].media.ssrc:#010x}", [at.media.ssrc for at in found], figures=False, meaning="SSRC: one sender's stream (RFC 3550)"),
                Column("at", lambda r: found[r].point, [at.point for at in found], figures=False),
                Column("lost", lambda r: f"{count(found[r].media.lost)} of {count(found[r].media.expected)}", [at.media.lost for at in found]),
                Column(
                    "may sound", lambda r: f"{found[r].voice.mos:.1f}" if found[r].voice else "codec not known", [at.voice.mos if at.voice else 0.0 for at in found],
                    meaning="mean opinion score 1 to 4.5, estimated by the E-model (ITU-T G.107); " + next((at.voice.assumptions for at in found if at.voice), ""),
                ),
                Column("since the point before", lambda r: found[r].words, figures=False, colour=lambda r: red if "lost" in found[r].words else None),
                Column("gaps", lambda r: count(found[r].media.gaps), [at.media.gaps for at in found], meaning="times that a listener hears nothing for 40 ms or longer"),
                Column("jitter", lambda r: duration(found[r].media.jitter_ns[1]), [at.media.jitter_ns[1] for at in found], meaning="mean, RFC 3550"),
                Column("worst", lambda r: duration(found[r].media.jitter_ns[2]), [at.media.jitter_ns[2] for at in found], meaning="greatest jitter, RFC 3550"),
                Column("marking", lambda r: str(found[r].media.dscp), [at.media.dscp for at in found], meaning="DSCP"),
                Column("from", lambda r: found[r].media.source, [at.media.source for at in found], figures=False),
                Column("to", lambda r: found[r].media.destination, [at.media.destination for at in found], figures=False),
            ],
            len(found),
            ((0, 90), (1, 110), (2, 74), (3, 84), (4, 250), (5, 48), (6, 70), (7, 70), (8, 62), (9, 150), (10, 150)),
            wide=-1,
        )  # fmt: skip

    def _show_ways(self, picture: PathPicture | None) -> None:
        found = [(number, way, hop) for number, way in enumerate(picture.ways) for hop in way.hops] if picture is not None else []
        red = theme.current().red
        self.ways.show_columns(
            [
                Column("way", lambda r: str(found[r][0] + 1), [number for number, _, _ in found], figures=False),
                Column("exporter", lambda r: found[r][2].exporter, figures=False),
                Column("in", lambda r: found[r][2].ingress, figures=False),
                Column("out", lambda r: found[r][2].egress, figures=False),
                Column("flows", lambda r: count(found[r][2].flows), [hop.flows for _, _, hop in found]),
                Column("packets", lambda r: count(round(found[r][2].packets)), [hop.packets for _, _, hop in found]),
                Column(
                    "since the exporter before",
                    lambda r: found[r][2].words if found[r][1].ordered else f"{found[r][2].words} (nothing tells their order)",
                    figures=False,
                    colour=lambda r: red if found[r][2].lost > found[r][2].uncertainty else None,
                ),
            ],
            len(found),
            ((0, 44), (1, 190), (2, 90), (3, 90), (4, 50), (5, 70)),
            wide=6,
        )

    def _words_at(self, way: int, x: float) -> str:
        picture, segment = self.picture, self._segment
        if picture is None or segment is None:
            return ""
        k = int(np.searchsorted(picture.edges_ns, picture.edges_ns[0] + int(x * 1e9), "right")) - 1
        own = segment.ways[way]
        if not 0 <= k < own.middle.size or np.isnan(own.middle[k]):
            return ""
        return f" {moment(int(picture.edges_ns[k]))}  median {duration(own.middle[k])}, least {duration(own.floor[k])}, 95 % below {duration(own.high[k])} "

    def _enter(self, row: int) -> None:
        segment = self._segment
        if segment is not None and row < len(segment.lost) and segment.lost[row].connection >= 0:
            self.packet_wanted.emit(segment.lost[row].connection, segment.lost[row].time_ns)

    def dress(self) -> None:
        """Takes the colours of the theme."""
        for plot in self.plots:
            plot.dress()
        self.line.update()
        self._draw()
