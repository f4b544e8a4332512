"""Segments of the path: the points as a line, the chosen segment over time in both directions, what it lost, cost and
translated.
"""

from functools import partial

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import QLabel, QScrollArea, QSizePolicy, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.path.path_line import PathLine, way_words
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.findings.location import WaitedAt
from yaffle.path.translations import PairedEnds
from yaffle.session.path_view import ClockPicture, PathPicture, SegmentPicture
from yaffle.units import count, duration, moment, share, size

_NOTHING = (
    "The path is told by captures of the same packets at two or more points: open them together (Ctrl+O, choose"
    " several; or add one with Ctrl+Shift+O). Then each segment's delay, loss, reordering and marking stand here, to"
    " the packet."
)


def _split_words(picture: PathPicture) -> str:
    """What something on the way answers itself."""
    return "".join(
        f" Something between {one.near} and {one.far} proxies {one.server}: {count(one.connections)}"
        " connections have other sequence numbers on either side."
        for one in picture.split[:3]
    )


def _part_of(waited: list[WaitedAt], cause: str, row: int) -> str:
    spent = waited[row].by_cause_ns.get(cause)
    return duration(spent) if spent is not None else "–"


def _uncertain(clock: ClockPicture) -> str:
    return "one direction only" if clock.uncertainty_ns is None else f"± {clock.uncertainty_ns / 1e6:.3g} ms"


class SegmentsPage(QWidget):
    """`packet_wanted` carries the connection and the moment of a lost packet; `parted` conversations that the user
    says are not the same, or are again.
    """

    packet_wanted = Signal(int, object)
    parted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: PathPicture | None = None
        self.fresh = True
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setObjectName("faint")
        self.line = PathLine()
        self.line.chosen.connect(lambda _row: self._draw())
        held = QScrollArea()
        held.setWidgetResizable(True)
        held.setWidget(self.line)
        held.setMaximumHeight(300)
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
            plot.read_with(partial(self.words_at, way))
        self.plots[0].share_cursor(list(self.plots))
        self.plots[1].share_cursor(list(self.plots))
        self.plots[1].setXLink(self.plots[0])
        self.table = Listing("Packets that this segment lost")
        self.model = self.table.columns
        self.table.setToolTip("Enter shows the connection at that moment")
        self.table.entered.connect(self._enter)
        self.waits = Listing("Network delay by segment")
        self.waits.setToolTip("The network's part of all waits in focus, by segment; every row adds up")
        self.addresses = Listing("Addresses that change on the path")
        self.addresses.setToolTip(
            "Learnt from packets that are the same. Enter says that they are not the same conversations, or takes that"
            " back"
        )
        self.addresses.entered.connect(self._part)
        self._ends: list[PairedEnds] = []
        self.clocks = Listing("Clocks of the capture points")
        self.right = QTabWidget()
        self.right.setDocumentMode(True)
        for table, name in (
            (self.table, "lost packets"),
            (self.waits, "delay by segment"),
            (self.addresses, "NAT"),
            (self.clocks, "clocks"),
        ):
            self.right.addTab(table, name)
        lower = Panes("path segments page: lower", Qt.Orientation.Horizontal)
        lower.arrange([drawn, self.right], [500, 410])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 4, 0, 0)
        whole.addWidget(self.words)
        whole.addWidget(held)
        whole.addWidget(lower, 1)
        self._lower = lower

    def show_picture(self, picture: PathPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        some = picture is not None and bool(picture.segments)
        self._held.setVisible(some)
        self._lower.setVisible(some or bool(picture is not None and picture.apart))
        self.line.show_picture(picture)
        if self.fresh and picture is not None and some:  # The segment that lost most is what is looked for.
            lost = [sum(way.lost for way in segment.ways) for segment in picture.segments]
            self.line.current = int(np.argmax(lost))
            self.line.update()
        self.fresh = False
        if picture is not None:
            self._fill_waits(picture)
            self._fill_addresses(picture)
            self._fill_clocks(picture)
        if picture is None or not some:
            self.words.setText(_NOTHING if picture is None or not picture.split else _split_words(picture))
            return
        self.words.setText(
            f"{count(len(picture.points))} capture points, {', '.join(picture.points)}." + _split_words(picture)
        )
        self._held.setFixedHeight(min(300, len(picture.segments) * 98 + 4))
        self._draw()

    @property
    def segment(self) -> SegmentPicture | None:
        """The chosen one."""
        picture = self.picture
        return picture.segments[self.line.current] if picture is not None and picture.segments else None

    def _draw(self) -> None:
        picture, segment = self.picture, self.segment
        if picture is None or segment is None:
            return
        look, base = theme.current(), int(picture.edges_ns[0])
        middles = ((picture.edges_ns[:-1] + picture.edges_ns[1:]) // 2 - base) / 1e9
        highest = [float(np.nanmax(way.high)) for way in segment.ways if (~np.isnan(way.high)).any()]
        top = max(highest, default=1e6) / 1e9  # One scale, so that the directions can be compared.
        for plot, title, way in zip(self.plots, self._titles, segment.ways, strict=True):
            title.setText(
                f"{way.start} → {way.end}: {way_words(way)}; jitter {duration(way.variation_ns)}, p95"
                f" {duration(way.p95_ns)}"
            )
            item = plot.getPlotItem()
            item.clear()
            some = ~np.isnan(way.middle)
            band = QColor(look.network)
            band.setAlpha(70)
            low, high = (
                pg.PlotDataItem(middles[some], curve[some] / 1e9, pen=pg.mkPen(look.line))
                for curve in (way.floor, way.high)
            )
            for part in (low, high, pg.FillBetweenItem(low, high, brush=pg.mkBrush(band))):
                item.addItem(part)
            plot.plot(middles[some], way.middle[some] / 1e9, pen=pg.mkPen(look.network, width=1.6))
            plot.set_quantity("one-way delay", "s")
            plot.set_keys(
                Key("median", look.network),
                Key("min to p95", look.network, Mark.AREA, (QBrush(band),)),
                Key("packet lost", look.red, Mark.CROSS),
            )
            if way.lost_at_ns.size:
                x = (way.lost_at_ns - base) / 1e9
                plot.plot(
                    x,
                    np.full(x.size, top * 1.08),
                    pen=None,
                    symbol="x",
                    symbolSize=7,
                    symbolPen=pg.mkPen(look.red, width=1.4),
                )
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
                Column("direction", lambda r: lost[r].way, [one.way for one in lost], figures=False),
                Column("from", lambda r: lost[r].sender, [one.sender for one in lost], figures=False),
                Column("to", lambda r: lost[r].receiver, [one.receiver for one in lost], figures=False),
                Column("sequence", lambda r: str(lost[r].seq) if lost[r].seq >= 0 else "–", [one.seq for one in lost]),
                Column("payload", lambda r: size(lost[r].octets), [one.octets for one in lost]),
            ],
            len(lost),
            ((0, 96), (1, 100), (3, 130), (4, 90), (5, 66)),
            wide=2,
        )

    def _fill_waits(self, picture: PathPicture) -> None:
        waited = picture.waited
        whole = sum(one.ns for one in waited) or 1
        parts = list(dict.fromkeys(cause for one in waited for cause in one.by_cause_ns))
        self.waits.show_columns(
            [
                Column("segment", lambda r: waited[r].words, [one.words for one in waited], figures=False),
                Column("network", lambda r: duration(waited[r].ns), [one.ns for one in waited]),
                Column("of it", lambda r: share(waited[r].ns / whole), [one.ns for one in waited]),
                *(
                    Column(
                        cause,
                        partial(_part_of, waited, cause),
                        [one.by_cause_ns.get(cause, 0) for one in waited],
                    )
                    for cause in parts
                ),
            ],
            len(waited),
            ((0, 300), (1, 76), (2, 60), *((3 + k, 80) for k in range(len(parts)))),
            wide=-1,
        )

    def _fill_addresses(self, picture: PathPicture) -> None:
        known = [
            (one.ends, f"{count(one.conversations)} of them", f"{count(one.packets)} packets are the same")
            for one in picture.translations
        ]
        rows = known + [(ends, "–", "marked as different (Enter undoes)") for ends in picture.apart]
        self._ends = [ends for ends, _, _ in rows]
        self.addresses.show_columns(
            [
                Column(
                    "client",
                    lambda r: f"{rows[r][0].client_near} → {rows[r][0].client_far}",
                    [ends.client_near for ends in self._ends],
                    figures=False,
                ),
                Column(
                    "server",
                    lambda r: f"{rows[r][0].server_near} → {rows[r][0].server_far}",
                    [ends.server_near for ends in self._ends],
                    figures=False,
                ),
                Column("conversations", lambda r: rows[r][1]),
                Column("matched by", lambda r: rows[r][2], figures=False),
                Column("between", lambda r: f"{rows[r][0].near} and {rows[r][0].far}", figures=False),
            ],
            len(rows),
            ((0, 210), (1, 210), (2, 90), (3, 200), (4, 260)),
            wide=-1,
        )
        self.right.setTabText(2, f"NAT ({count(len(rows))})" if rows else "NAT")

    def _fill_clocks(self, picture: PathPicture) -> None:
        rows = picture.clocks
        self.clocks.show_columns(
            [
                Column("capture point", lambda r: rows[r].point, [one.point for one in rows], figures=False),
                Column("clock against", lambda r: rows[r].against, figures=False),
                Column("offset", lambda r: f"{rows[r].offset_ns / 1e6:+.3f} ms", [one.offset_ns for one in rows]),
                Column("drift", lambda r: f"{rows[r].drift_ppm:+.1f} ppm", [one.drift_ppm for one in rows]),
                Column(
                    "uncertainty",
                    lambda r: _uncertain(rows[r]),
                    [one.uncertainty_ns or 0.0 for one in rows],
                    meaning="what an asymmetry of the path could hide",
                ),
                Column(
                    "timestamps",
                    lambda r: "corrected everywhere" if rows[r].corrected else "corrected on this page",
                    figures=False,
                ),
                Column("set meanwhile", lambda r: rows[r].steps or "no", figures=False),
            ],
            len(rows),
            (),
            6,
        )

    def _part(self, row: int) -> None:
        if row < len(self._ends):
            self.parted.emit(self._ends[row])

    def words_at(self, way: int, x: float, _y: float = 0.0) -> str:
        """What the crosshair says."""
        picture, segment = self.picture, self.segment
        if picture is None or segment is None:
            return ""
        k = int(np.searchsorted(picture.edges_ns, picture.edges_ns[0] + int(x * 1e9), "right")) - 1
        own = segment.ways[way]
        if not 0 <= k < own.middle.size or np.isnan(own.middle[k]):
            return ""
        return (
            f" {moment(int(picture.edges_ns[k]))}  median {duration(own.middle[k])}, min {duration(own.floor[k])}, p95"
            f" {duration(own.high[k])} "
        )

    def _enter(self, row: int) -> None:
        segment = self.segment
        if segment is not None and row < len(segment.lost) and segment.lost[row].connection >= 0:
            self.packet_wanted.emit(segment.lost[row].connection, segment.lost[row].time_ns)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in self.plots:
            plot.dress()
        self.line.update()
        self._draw()
