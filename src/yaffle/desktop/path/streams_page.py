"""Voice and video: each stream from point to point with how it may have sounded, and the calls that set them up."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.findings.streams import StreamAt
from yaffle.media.streams import Media
from yaffle.session.path_view import PathPicture
from yaffle.units import count, duration, moment, rate, share

_NOTHING = (
    "No voice and no video in this period: streams by RTP and MPEG transport streams are found by what they carry, and"
    " by the calls (SIP) that announce them."
)

LEAST_SCALE_S = 0.020  # The frame of most voice codecs: jitter far below it is drawn as small as it is.


def _name(at: StreamAt) -> str:
    if isinstance(at.media, Media):
        return f"{at.media.ssrc:#010x}"
    return f"program, {count(len(at.media.pids))} PIDs"


def _carries(at: StreamAt) -> str:
    if isinstance(at.media, Media):
        return at.media.codec or (at.media.kind or f"type {at.media.payload_type}")
    return rate(at.media.rate_bps)


def _said(at: StreamAt) -> str:
    """What the ends said of it by RTCP."""
    media = at.media
    if not isinstance(media, Media) or (media.said_packets < 0 and not media.reports):
        return "no RTCP"
    parts = [f"sent {count(media.said_packets)}"] if media.said_packets >= 0 else []
    if media.reports:
        parts.append(f"lost {count(media.reported_lost)}, jitter up to {duration(media.reported_jitter_ns)}")
    if media.round_trip_ns >= 0:
        parts.append(f"{duration(media.round_trip_ns)} to the receiver and back")
    return "; ".join(parts)


def _drift(at: StreamAt) -> float | None:
    return at.media.sender_ppm if isinstance(at.media, Media) else at.media.drift_ppm


def _bursts(at: StreamAt) -> str:
    if not isinstance(at.media, Media) or not at.media.bursts:
        return "none" if isinstance(at.media, Media) else "–"
    return f"{count(at.media.bursts)} of {duration(at.media.burst_ns)}, {share(at.media.burst_density)}"


def _gaps(at: StreamAt) -> str:
    return count(at.media.gaps) if isinstance(at.media, Media) else "–"


class StreamsPage(QWidget):
    """Shows what it is given; below the table the course of the chosen stream."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setObjectName("faint")
        self.streams, self.calls = Listing("Voice and video, from sender to receiver"), Listing("Calls")
        self.plot = Plot("jitter", "s")
        self.plot.read_with(self._words_at)
        self._found: list[StreamAt] = []
        self.shown: Media | None = None
        self.streams.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self._body = Panes("path streams page: body", Qt.Orientation.Vertical)
        self._body.arrange([self.streams, self.plot, self.calls], [300, 170, 110])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self._body, 1)
        self.show_picture(None)

    def show_picture(self, picture: PathPicture | None) -> None:
        """Shows another picture."""
        found = picture.streams if picture is not None else []
        calls = picture.calls if picture is not None else []
        self._body.setVisible(bool(found or calls))
        self.calls.setVisible(bool(calls))
        hurt = sum(1 for at in found if at.media.lost)
        places = len({at.point for at in found})
        assumed = next((at.voice.assumptions for at in found if at.voice), "")
        self.words.setText(
            f"{count(len(found))} stream observations at {count(places)} points, {count(hurt)} of them with losses"
            + (f". Estimates: {assumed}." if assumed else ".")
            if found
            else _NOTHING
        )
        former = self.shown
        self._found = found
        self._draw(None)
        self._show_streams(found)
        self._show_calls(picture)
        again = next(
            (k for k, at in enumerate(found) if former is not None and at.media == former),
            next((k for k, at in enumerate(found) if at.media.lost), 0),
        )
        if found:
            self.streams.selectRow(again)

    def _choose(self, row: int) -> None:
        if 0 <= row < self.streams.columns.order.size:
            media = self._found[int(self.streams.columns.order[row])].media
            self._draw(media if isinstance(media, Media) else None)

    def _draw(self, media: Media | None) -> None:
        """The course of a stream: jitter, and where packets were missing."""
        self.shown = media
        item, look = self.plot.getPlotItem(), theme.current()
        item.clear()
        self.plot.setVisible(media is not None and len(media.course) > 1)
        if media is None or len(media.course) < 2:
            return
        times, jitter, missing = (np.array(column) for column in zip(*media.course, strict=True))
        seconds = (times - times[0]) / 1e9
        self.plot.plot(seconds, jitter / 1e9, pen=pg.mkPen(look.network, width=1.4))
        top = max(LEAST_SCALE_S, float(jitter.max()) / 1e9)
        self.plot.set_keys(Key("max jitter in the interval", look.network), Key("packets lost", look.red, Mark.CROSS))
        x = seconds[missing > 0]
        if x.size:
            self.plot.plot(
                x,
                np.full(x.size, top * 1.08),
                pen=None,
                symbol="x",
                symbolSize=7,
                symbolPen=pg.mkPen(look.red, width=1.4),
            )
        self.plot.axis.base_ns = int(times[0])
        self.plot.axis.picture = None
        self.plot.setXRange(0, float(seconds[-1]), padding=0.01)
        self.plot.setYRange(0, top * 1.2, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        media = self.shown
        if media is None or not media.course:
            return ""
        at_ns = media.course[0][0] + int(x * 1e9)
        time_ns, jitter, missing = min(media.course, key=lambda one: abs(one[0] - at_ns))
        return f" {moment(time_ns)}  jitter up to {duration(jitter)}" + (
            f", {count(missing)} missing " if missing else " "
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._draw(self.shown)

    def _show_streams(self, found: list[StreamAt]) -> None:
        red = theme.current().red
        self.streams.show_columns(
            [
                Column(
                    "stream",
                    lambda r: _name(found[r]),
                    [_name(at) for at in found],
                    figures=False,
                    meaning="of RTP the SSRC: one sender's stream (RFC 3550)",
                ),
                Column("from", lambda r: found[r].media.source, [at.media.source for at in found], figures=False),
                Column(
                    "to", lambda r: found[r].media.destination, [at.media.destination for at in found], figures=False
                ),
                Column("at", lambda r: found[r].point, [at.point for at in found], figures=False),
                Column(
                    "lost",
                    lambda r: f"{count(found[r].media.lost)} of {count(found[r].media.expected)}",
                    [at.media.lost for at in found],
                ),
                Column(
                    "jitter",
                    lambda r: duration(found[r].media.jitter_ns[1]),
                    [at.media.jitter_ns[1] for at in found],
                    meaning="mean (RFC 3550); of programs the greatest of their clock references",
                ),
                Column(
                    "max jitter",
                    lambda r: duration(max(found[r].media.jitter_ns)),
                    [max(at.media.jitter_ns) for at in found],
                    meaning="greatest jitter",
                ),
                Column(
                    "MOS (est.)",
                    lambda r: f"{voice.mos:.1f}" if (voice := found[r].voice) is not None else "codec unknown",
                    [at.voice.mos if at.voice else 0.0 for at in found],
                    meaning="mean opinion score, 1 to 4.5, estimated by the E-model (ITU-T G.107) for known codecs",
                ),
                Column(
                    "vs. previous point",
                    lambda r: found[r].words,
                    figures=False,
                    color=lambda r: red if "lost" in found[r].words else None,
                ),
                Column("codec", lambda r: _carries(found[r]), [_carries(at) for at in found], figures=False),
                Column("DSCP", lambda r: str(found[r].media.dscp), [at.media.dscp for at in found], meaning="DSCP"),
                Column(
                    "loss events",
                    lambda r: count(found[r].media.loss_events),
                    [at.media.loss_events for at in found],
                    meaning="runs of losses",
                ),
                Column(
                    "bursts",
                    lambda r: _bursts(found[r]),
                    figures=False,
                    meaning="bursts of loss (RFC 3611): number, mean length, share lost",
                ),
                Column(
                    "audible dropouts", lambda r: _gaps(found[r]), meaning="silence of 40 ms or longer at the listener"
                ),
                Column(
                    "clock skew",
                    lambda r: "too short" if (ppm := _drift(found[r])) is None else f"{ppm:+.1f} ppm",
                    [_drift(at) or 0.0 for at in found],
                    meaning="how fast the sender's clock runs against that of the capture",
                ),
                Column("RTCP reports", lambda r: _said(found[r]), figures=False, meaning="by RTCP (RFC 3550)"),
                Column("began", lambda r: moment(found[r].media.first_ns), [at.media.first_ns for at in found]),
            ],
            len(found),
            (
                (0, 90),
                (1, 60),
                (2, 140),
                (3, 76),
                (4, 250),
                (5, 56),
                (6, 140),
                (7, 84),
                (8, 48),
                (9, 66),
                (10, 66),
                (11, 104),
                (12, 230),
                (13, 66),
                (14, 150),
                (15, 150),
                (16, 96),
            ),
            wide=-1,
        )

    def _show_calls(self, picture: PathPicture | None) -> None:
        calls = picture.calls if picture is not None else []
        points = picture.points if picture is not None else []

        def after(moment_ns: int, asked_ns: int) -> str:
            return duration(moment_ns - asked_ns) if moment_ns >= 0 else "–"

        self.calls.show_columns(
            [
                Column("INVITE at", lambda r: moment(calls[r].asked_ns), [call.asked_ns for call in calls]),
                Column("from", lambda r: calls[r].caller, [call.caller for call in calls], figures=False),
                Column("to", lambda r: calls[r].callee, [call.callee for call in calls], figures=False),
                Column("outcome", lambda r: calls[r].outcome, [call.outcome for call in calls], figures=False),
                Column("tries", lambda r: count(calls[r].tries), [call.tries for call in calls]),
                Column(
                    "ring delay",
                    lambda r: after(calls[r].ringing_ns, calls[r].asked_ns),
                    [call.ringing_ns for call in calls],
                ),
                Column(
                    "answer delay",
                    lambda r: after(calls[r].answered_ns, calls[r].asked_ns),
                    [call.answered_ns for call in calls],
                ),
                Column(
                    "duration",
                    lambda r: after(calls[r].ended_ns, calls[r].asked_ns),
                    [call.ended_ns for call in calls],
                ),
                Column("seen at", lambda r: points[calls[r].point], [call.point for call in calls], figures=False),
            ],
            len(calls),
            ((0, 96), (1, 160), (2, 160), (3, 130), (4, 50), (5, 80), (6, 96), (7, 80), (8, 160)),
            wide=-1,
        )
