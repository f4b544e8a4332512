"""The air: stations worst first, one of them over time with its moves, and the access points."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.path.point_panel import PointPanel
from yaffle.desktop.path.station_plots import StationPlots, figure, share_of
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.radio.elements import REASONS, STATUSES
from yaffle.radio.frames import address_text
from yaffle.radio.moves import KEYS, Failure, Roam
from yaffle.session.radio_view import RadioPicture, StationCourse, StationRow
from yaffle.units import count, date_and_moment, duration

COURSE, EVENTS, POINTS = range(3)  # what stands below the stations
_NOTHING = (
    "No radio heard anything here. A capture of 802.11 frames (with radiotap or per-packet information, or the frames"
    " alone) shows who was heard how well, what was sent again, who moved from where to where, and what failed."
)


class RadioPage(QWidget):
    """`chosen` carries a station whose course is wanted; `moment_wanted` a moment to look at."""

    chosen = Signal(object)
    moment_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: RadioPicture | None = None
        self._events: list[Roam | Failure] = []
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.stations, self.events = Listing("Stations"), Listing("What happened")
        self.drawn, self.points = StationPlots(), PointPanel()
        self.stations.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.events.entered.connect(self._enter)
        self.events.setToolTip("Enter looks at that moment")
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in (
            (self.drawn, "over time"),
            (self.events, "moves and failures"),
            (self.points, "access points"),
        ):
            self.below.addTab(part, name)
        self._body = Panes("path radio page: body", Qt.Orientation.Vertical)
        self._body.arrange([self.stations, self.below], [170, 400])
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
        self.points.show_points(picture.access_points if picture is not None else [])
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
                Column("moves", lambda r: count(len(rows[r].roams)), [len(row.roams) for row in rows]),
                Column(
                    "failures", lambda r: count(len(rows[r].failures)), [len(row.failures) for row in rows],
                    color=lambda r: red if rows[r].failures else None,
                ),
                Column("signal", lambda r: figure(told[r].signal.median, "dBm"), [o.signal.median for o in told]),
                Column("SNR", lambda r: figure(told[r].snr.median, "dB"), [one.snr.median for one in told]),
                Column("rate", lambda r: figure(told[r].rate_mbps, "Mbit/s"), [one.rate_mbps for one in told]),
                Column(
                    "retries from", lambda r: figure(told[r].retry_from, "%"), [one.retry_from for one in told],
                    meaning="of the station's data frames, those that were sent again",
                ),
                Column(
                    "retries to", lambda r: figure(told[r].retry_to, "%"), [one.retry_to for one in told],
                    meaning="of the data frames to the station, those that were sent again",
                ),
                Column(
                    "airtime", lambda r: share_of(told[r].air_from_ns + told[r].air_to_ns, told[r].heard_ns),
                    [one.air_from_ns + one.air_to_ns for one in told],
                    meaning="of the time: its frames and those to it, where their rates are told; without waiting",
                ),
                Column(
                    "asleep", lambda r: share_of(told[r].dozed_ns, told[r].heard_ns), [one.dozed_ns for one in told],
                    meaning="of the time, by its power management bit: asleep, or listening elsewhere",
                ),
            ],
            len(rows),
            ((0, 122), (1, 92), (3, 46), (4, 54), (5, 60), (6, 46), (7, 74), (8, 72), (9, 62), (10, 56), (11, 50)),
            wide=2,
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
        self.drawn.show_course(found)
        self._show_events([*found.row.roams, *found.row.failures] if found is not None else [])

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

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.drawn.dress()
        self.points.dress()


def _what(one: Roam | Failure) -> str:
    return one.kind if isinstance(one, Roam) else f"{one.stage} failed"


def _gap(one: Roam | Failure) -> str:
    return duration(one.gap_ns) if isinstance(one, Roam) and one.gap_ns >= 0 else "–"


def _words(one: Roam | Failure) -> str:
    if isinstance(one, Roam):
        late = f"address after {duration(one.address_ns)}" if one.address_ns >= 0 else ""
        keys = f"keys after {duration(one.keys_ns)}" if one.keys_ns >= 0 else ""
        return "; ".join(part for part in (one.before, keys, late) if part)
    words = (REASONS if one.stage == KEYS else STATUSES).get(one.code, "")
    return words or (f"code {one.code}" if one.code >= 0 else "no answer")
