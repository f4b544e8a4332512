"""The air: stations worst first, one of them over time with its moves, and the access points."""

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.radio.elements import REASONS, STATUSES
from yaffle.radio.frames import address_text
from yaffle.radio.moves import KEYS, Failure, Roam
from yaffle.radio.radio import AccessPoint
from yaffle.session.radio_view import RadioPicture, StationCourse, StationRow
from yaffle.units import count, date_and_moment, duration, moment, share

_NOTHING = (
    "No radio heard anything here. A capture of 802.11 frames (with radiotap or per-packet information, or the frames"
    " alone) shows who was heard how well, what was sent again, who moved from where to where, and what failed."
)


def _figure(value: float, unit: str) -> str:
    return "–" if math.isnan(value) else f"{value:,.0f} {unit}" if abs(value) >= 10 else f"{value:,.1f} {unit}"


class RadioPage(QWidget):
    """`chosen` carries a station whose course is wanted; `moment_wanted` a moment to look at."""

    chosen = Signal(object)
    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: RadioPicture | None = None
        self._course: StationCourse | None = None
        self._events: list[Roam | Failure] = []
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.stations, self.points, self.events = (
            Listing("Stations"),
            Listing("Access points"),
            Listing("What happened"),
        )
        self.stations.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.events.entered.connect(self._enter)
        self.events.setToolTip("Enter looks at that moment")
        self.signal, self.retries = Plot("signal", "dBm"), Plot("sent again", "%")
        for plot in (self.signal, self.retries):
            plot.share_cursor([self.signal, self.retries])
        self.signal.read_with(self._read)
        drawn = Panes("path radio page: drawn", Qt.Orientation.Vertical)
        drawn.arrange([self.signal, self.retries], [150, 100])
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in ((drawn, "over time"), (self.events, "moves and failures"), (self.points, "access points")):
            self.below.addTab(part, name)
        self._body = Panes("path radio page: body", Qt.Orientation.Vertical)
        self._body.arrange([self.stations, self.below], [220, 310])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self._body, 1)
        self.show_picture(None)

    def show_picture(self, picture: RadioPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        self._body.setVisible(picture is not None)
        rows = picture.stations if picture is not None else []
        if picture is None:
            self.words.setText(_NOTHING)
        else:
            notes = "".join(f" {note[:1].upper()}{note[1:]}." for note in picture.notes)
            moves, failures = sum(len(one.roams) for one in rows), sum(len(one.failures) for one in rows)
            self.words.setText(
                f"{count(len(rows))} stations at {count(len(picture.access_points))} access points; {count(moves)}"
                f" moves, {count(failures)} failures in this period.{notes}"
            )
        self._show_stations(rows)
        self._show_points(picture.access_points if picture is not None else [])
        if rows:
            self.stations.selectRow(0)
        else:
            self.show_course(None)

    def _show_stations(self, rows: list[StationRow]) -> None:
        red = theme.current().red
        told = [row.station for row in rows]
        self.stations.show_columns(
            [
                Column("station", lambda r: told[r].address, [one.address for one in told], figures=False),
                Column("network", lambda r: told[r].ssid, [one.ssid for one in told], figures=False),
                Column("last at", lambda r: rows[r].at, [row.at for row in rows], figures=False),
                Column("signal", lambda r: _figure(told[r].signal.median, "dBm"), [o.signal.median for o in told]),
                Column("SNR", lambda r: _figure(told[r].snr.median, "dB"), [one.snr.median for one in told]),
                Column("rate", lambda r: _figure(told[r].rate_mbps, "Mbit/s"), [one.rate_mbps for one in told]),
                Column(
                    "retries from", lambda r: _figure(told[r].retry_from, "%"), [one.retry_from for one in told],
                    meaning="of the station's data frames, those that were sent again",
                ),
                Column(
                    "retries to", lambda r: _figure(told[r].retry_to, "%"), [one.retry_to for one in told],
                    meaning="of the data frames to the station, those that were sent again",
                ),
                Column(
                    "airtime", lambda r: _share(told[r].air_from_ns + told[r].air_to_ns, told[r].heard_ns),
                    [one.air_from_ns + one.air_to_ns for one in told],
                    meaning="of the time: its frames and those to it, where their rates are told; without waiting",
                ),
                Column(
                    "asleep", lambda r: _share(told[r].dozed_ns, told[r].heard_ns), [one.dozed_ns for one in told],
                    meaning="of the time, by its power management bit: asleep, or listening elsewhere",
                ),
                Column("moves", lambda r: count(len(rows[r].roams)), [len(row.roams) for row in rows]),
                Column(
                    "failures", lambda r: count(len(rows[r].failures)), [len(row.failures) for row in rows],
                    color=lambda r: red if rows[r].failures else None,
                ),
            ],
            len(rows),
            ((0, 126), (1, 84), (3, 62), (4, 50), (5, 78), (6, 60), (7, 56), (8, 58), (9, 54), (10, 50), (11, 56)),
            wide=2,
        )  # fmt: skip

    def _show_points(self, found: list[AccessPoint]) -> None:
        self.points.show_columns(
            [
                Column("access point", lambda r: found[r].bssid, [one.bssid for one in found], figures=False),
                Column("network", lambda r: found[r].ssid or "hidden", [one.ssid for one in found], figures=False),
                Column("channel", lambda r: str(found[r].channel), [one.channel for one in found]),
                Column(
                    "stations", lambda r: count(found[r].stations) if found[r].stations >= 0 else "–",
                    [one.stations for one in found], meaning="the most that it told",
                ),
                Column(
                    "channel busy", lambda r: _figure(found[r].busy_percent, "%"), [o.busy_percent for o in found],
                    meaning="the mean that it told (BSS load)",
                ),
                Column(
                    "airtime", lambda r: _share(found[r].air_ns, found[r].heard_ns), [one.air_ns for one in found],
                    meaning="of the time: its frames and those to it, where their rates are told; without waiting",
                ),
                Column("open", lambda r: "open" if found[r].is_open else "protected", figures=False),
            ],
            len(found),
            ((0, 150), (2, 60), (3, 70), (4, 90), (5, 70), (6, 80)),
            wide=1,
        )  # fmt: skip

    def _choose(self, row: int) -> None:
        order = self.stations.columns.order
        if self.picture is not None and 0 <= row < order.size:
            self.chosen.emit(self.picture.stations[int(order[row])])

    def _enter(self, row: int) -> None:
        if row < len(self._events):
            self.moment_wanted.emit(self._events[row].time_ns)

    def show_course(self, found: StationCourse | None) -> None:
        """Draws one station over time, and lists what happened to it."""
        self._course = found
        for plot in (self.signal, self.retries):
            plot.getPlotItem().clear()
        self._show_events([*found.row.roams, *found.row.failures] if found is not None else [])
        if found is None or not found.starts_ns.size:
            self.signal.set_quantity("a station over time stands here")
            self.retries.set_quantity("")
            return
        look, first = theme.current(), int(found.starts_ns[0])
        seconds = (found.starts_ns - first) / 1e9
        _draw(self.signal, seconds, found.signal, look.moss)
        _draw(self.signal, seconds, found.noise, look.faint)
        keys = [Key("signal", look.moss), Key("noise", look.faint)]
        for roam in found.row.roams:
            line = pg.InfiniteLine((roam.time_ns - first) / 1e9, 90, pen=pg.mkPen(look.ink, style=Qt.PenStyle.DotLine))
            self.signal.addItem(line, ignoreBounds=True)
        if found.row.roams:
            keys.append(Key("a move", look.ink, Mark.DOTTED))
        for failure in found.row.failures:
            line = pg.InfiniteLine((failure.time_ns - first) / 1e9, 90, pen=pg.mkPen(look.red))
            self.signal.addItem(line, ignoreBounds=True)
        if found.row.failures:
            keys.append(Key("a failure", look.red))
        known = np.concatenate([found.signal, found.noise])
        known = known[np.isfinite(known)]
        self.signal.set_quantity(f"{found.row.station.address} as it was heard", "dBm")
        self.signal.set_keys(*keys)
        low, high = (float(known.min()), float(known.max())) if known.size else (-100.0, -30.0)
        self.signal.setYRange(low - 3, high + 3, padding=0)
        _draw(self.retries, seconds, found.retry_from, look.moss)
        _draw(self.retries, seconds, found.retry_to, look.ink)
        self.retries.set_quantity("data frames sent again", "%")
        self.retries.set_keys(Key("from it", look.moss), Key("to it", look.ink))
        self.retries.setYRange(0, 100, padding=0)
        span = max(1e-3, float(seconds[-1] + (seconds[1] - seconds[0] if seconds.size > 1 else 1.0)))
        for plot in (self.signal, self.retries):
            plot.axis.base_ns = first
            plot.axis.picture = None
            plot.setXRange(0, span, padding=0)

    def _show_events(self, found: list[Roam | Failure]) -> None:
        events = self._events = sorted(found, key=lambda one: one.time_ns)
        self.events.show_columns(
            [
                Column("when", lambda r: date_and_moment(events[r].time_ns)[:23], [one.time_ns for one in events]),
                Column("what", lambda r: _what(events[r]), figures=False),
                Column("from", lambda r: self._name(events[r], new=False), figures=False),
                Column("to", lambda r: self._name(events[r], new=True), figures=False),
                Column("without data", lambda r: _gap(events[r]), figures=True),
                Column("words", lambda r: _words(events[r]), figures=False),
            ],
            len(events),
            ((0, 170), (1, 120), (2, 190), (3, 190), (4, 80)),
            wide=5,
        )

    def _name(self, one: Roam | Failure, *, new: bool) -> str:
        if isinstance(one, Failure):
            bssid = one.bssid if new else -1
        else:
            bssid = one.new if new else one.old
        text = address_text(bssid) if bssid >= 0 else ""
        return self.picture.names.get(text, text) if self.picture is not None else text

    def _read(self, x: float, _y: float) -> str:
        found = self._course
        if found is None or not found.starts_ns.size:
            return ""
        k = int(np.argmin(np.abs((found.starts_ns - found.starts_ns[0]) / 1e9 - x)))
        snr = float(found.signal[k] - found.noise[k])
        parts = [_figure(float(found.signal[k]), "dBm"), f"SNR {_figure(snr, 'dB')}"]
        parts.append(_figure(float(found.rate_mbps[k]), "Mbit/s"))
        return f" {moment(int(found.starts_ns[k]))}  {', '.join(parts)} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.signal, self.retries):
            plot.dress()
        self.show_course(self._course)


def _share(part_ns: int, of_ns: int) -> str:
    return share(part_ns / of_ns) if part_ns and of_ns > 0 else "–"


def _draw(plot: Plot, seconds: Array, values: Array, color: str) -> None:
    """A line where it was heard, and dots, so that what was heard for a moment shows, too."""
    plot.plot(seconds, values, pen=pg.mkPen(color, width=1.3), connect="finite", symbol="o", symbolSize=3,
              symbolBrush=color, symbolPen=None)  # fmt: skip


def _what(one: Roam | Failure) -> str:
    return one.kind if isinstance(one, Roam) else f"{one.stage} failed"


def _gap(one: Roam | Failure) -> str:
    return duration(one.gap_ns) if isinstance(one, Roam) and one.gap_ns >= 0 else "–"


def _words(one: Roam | Failure) -> str:
    if isinstance(one, Roam):
        late = f"address after {duration(one.address_ns)}" if one.address_ns >= 0 else ""
        return "; ".join(part for part in (one.before, late) if part)
    words = (REASONS if one.stage == KEYS else STATUSES).get(one.code, "")
    return words or (f"code {one.code}" if one.code >= 0 else "no answer")
