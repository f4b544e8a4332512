"""Cyclic streams: each with its period and how steady it was, and one of them over time."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.cyclic.streams import Cyclic, Stretch
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.cyclic_view import CyclicPicture, CyclicRow
from yaffle.units import count, duration, moment, share

_NOTHING = (
    "No stream with a steady period in this period. Cyclic data of industrial Ethernet (EtherType 0x8892), sensors,"
    " multicast feeds and stations on the air are found by the regularity of their packets, from 24 packets on."
)
_LEAST_OF_PERIOD = 0.05  # Jitter far below the period is drawn as small as it is.


class CyclicPage(QWidget):
    """Shows what it is given. `moment_wanted` carries a moment to look at."""

    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: CyclicPicture | None = None
        self.shown: Cyclic | None = None
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setObjectName("faint")
        self.streams = Listing("Cyclic streams")
        self.streams.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.streams.entered.connect(self._enter)
        self.streams.setToolTip("Enter looks at where the stream was rough first")
        self.jitter, self.missed = Plot("jitter", "s"), Plot("cycles missed", "cycles")
        for plot in (self.jitter, self.missed):
            plot.share_cursor([self.jitter, self.missed])
            plot.read_with(self._words_at)
        self._body = Panes("path cyclic page: body", Qt.Orientation.Vertical)
        self._body.arrange([self.streams, self.jitter, self.missed], [280, 160, 110])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self._body, 1)
        self.show_picture(None)

    def show_picture(self, picture: CyclicPicture | None) -> None:
        """Shows another picture."""
        former, self.picture = self.shown, picture
        rows = picture.rows if picture is not None else []
        self._body.setVisible(bool(rows))
        rough = sum(row.trouble is not None for row in rows)
        missed = sum(row.stream.missed for row in rows)
        self.words.setText(
            f"{count(len(rows))} cyclic streams, {count(rough)} of them steady but for a time; {count(missed)} cycles"
            " missed in all."
            if rows
            else _NOTHING
        )
        self._show_rows(rows)
        self._draw(None)
        if rows:
            again = next((k for k, row in enumerate(rows) if row.stream == former), 0)
            self.streams.selectRow(again)

    def _show_rows(self, rows: list[CyclicRow]) -> None:
        red = theme.current().red
        told = [row.stream for row in rows]
        seen_at = Column("seen at", lambda r: rows[r].point, [row.point for row in rows], figures=False)
        several = len({row.point for row in rows}) > 1
        self.streams.show_columns(
            [
                Column("from", lambda r: rows[r].source, [row.source for row in rows], figures=False),
                Column("to", lambda r: rows[r].destination, [row.destination for row in rows], figures=False),
                Column(
                    "kind", lambda r: told[r].kind, [one.kind for one in told], figures=False,
                    meaning="with the identifier of its frames, where they have one",
                ),
                Column("period", lambda r: duration(round(told[r].period_ns)), [one.period_ns for one in told]),
                Column("cycles", lambda r: count(told[r].cycles), [one.cycles for one in told]),
                Column(
                    "missed", lambda r: f"{count(told[r].missed)} ({share(told[r].missed_share)})",
                    [one.missed for one in told], color=lambda r: red if rows[r].trouble else None,
                    meaning="cycles without a packet; interruptions left out",
                ),
                Column(
                    "3+ cycles", lambda r: count(told[r].watchdogs), [one.watchdogs for one in told],
                    color=lambda r: red if told[r].watchdogs else None,
                    meaning="gaps of three cycles or more, after which devices usually give up",
                ),
                Column(
                    "longest gap", lambda r: duration(told[r].longest_gap_ns), [one.longest_gap_ns for one in told],
                ),
                Column(
                    "jitter p95", lambda r: duration(round(told[r].jitter_ns[1])), [one.jitter_ns[1] for one in told],
                    meaning="how far packets lie from the moments that the period gives",
                ),
                Column("doubled", lambda r: count(told[r].doubled), [one.doubled for one in told]),
                Column(
                    "never sent", lambda r: count(told[r].unsent) if told[r].unsent >= 0 else "–",
                    [one.unsent for one in told],
                    meaning="of the missed ones: left out by the sender itself, by the counter in its packets",
                ),
                *([seen_at] if several else []),
            ],
            len(rows),
            ((1, 124), (2, 168), (3, 60), (4, 56), (5, 84), (6, 64), (7, 78), (8, 68), (9, 58), (10, 72)),
            wide=0,
        )  # fmt: skip

    def _choose(self, row: int) -> None:
        if self.picture is not None and 0 <= row < self.streams.columns.order.size:
            self._draw(self.picture.rows[int(self.streams.columns.order[row])].stream)

    def _enter(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.rows):
            one = self.picture.rows[row]
            self.moment_wanted.emit(one.trouble.first_ns if one.trouble is not None else one.stream.first_ns)

    def _draw(self, stream: Cyclic | None) -> None:
        self.shown = stream
        for plot in (self.jitter, self.missed):
            plot.getPlotItem().clear()
        if stream is None:
            return
        look, parts = theme.current(), stream.course
        seconds = np.array([part.start_ns - stream.first_ns for part in parts]) / 1e9
        jitter = np.array([part.jitter_ns if part.packets else np.nan for part in parts]) / 1e9
        top = max(_LEAST_OF_PERIOD * stream.period_ns / 1e9, float(np.nanmax(jitter)))
        self.jitter.plot(seconds, jitter, pen=pg.mkPen(look.network, width=1.4), connect="finite", symbol="o",
                         symbolSize=3, symbolBrush=look.network, symbolPen=None)  # fmt: skip
        self.jitter.set_quantity("jitter, p95 of each part", "s")
        self.jitter.setYRange(0, top * 1.15, padding=0)
        width = float(seconds[1] - seconds[0]) if seconds.size > 1 else 1.0
        for values, color in (
            ([part.missed for part in parts], look.red),
            ([part.doubled for part in parts], look.ink),
        ):
            bars = pg.BarGraphItem(x0=seconds, width=width, height=np.array(values), brush=pg.mkColor(color), pen=None)
            self.missed.addItem(bars)
        most = max(1, *(part.missed for part in parts), *(part.doubled for part in parts))
        self.missed.set_quantity("missed and doubled", "cycles")
        self.missed.set_keys(Key("missed", look.red, Mark.SQUARE), Key("doubled", look.ink, Mark.SQUARE))
        self.missed.setYRange(0, most * 1.15, padding=0)
        for plot in (self.jitter, self.missed):
            plot.axis.base_ns = stream.first_ns
            plot.axis.picture = None
            plot.setXRange(0, max(1e-3, float(seconds[-1]) + width), padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        stream = self.shown
        if stream is None or not stream.course:
            return ""
        starts = np.array([part.start_ns - stream.first_ns for part in stream.course]) / 1e9
        return _told(stream.course[max(0, int(np.searchsorted(starts, x, "right")) - 1)])

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.jitter, self.missed):
            plot.dress()
        self._draw(self.shown)


def _told(part: Stretch) -> str:
    jitter = f"jitter {duration(round(part.jitter_ns))}" if part.packets else "no packet"
    missed = f"{count(part.missed)} missed, {count(part.doubled)} doubled"
    return f" {moment(part.start_ns)}  {jitter}, {missed}, longest gap {duration(part.longest_gap_ns)} "
