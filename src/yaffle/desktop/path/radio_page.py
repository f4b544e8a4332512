"""The air: stations worst first, one of them over time with its moves, and the access points."""

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.desktop.path.point_panel import PointPanel
from yaffle.desktop.path.station_plots import StationPlots, figure, share_of
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.findings.behind_moves import LEASE, NAMES, SIGN_ON, Asked
from yaffle.radio.elements import REASONS, STATUSES
from yaffle.radio.frames import address_text
from yaffle.radio.moves import KEYS, Failure, Roam
from yaffle.session.radio_course import StationCourse
from yaffle.session.radio_view import RadioPicture, SiteRow, StationRow
from yaffle.units import count, date_and_moment, day, duration, moment

_UNKNOWN = "–"
_SITE = "of its access point, as you named it under Sites; else of its address"
_BY_SERVER = "what the server was waited for, as captured behind the access points, by the station's address"
COURSE, EVENTS, POINTS, SITES = range(4)  # what stands below the stations
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
        self.drawn, self.points, self.sites = StationPlots(), PointPanel(), Listing("Sites")
        self.sites.setToolTip("Enter goes to the site's worst station")
        self.sites.entered.connect(self._enter_site)
        self._site_rows: list[SiteRow] = []
        self.stations.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.events.entered.connect(self._enter)
        self.events.setToolTip("Enter looks at that moment")
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in (
            (self.drawn, "over time"),
            (self.events, "moves and failures"),
            (self.points, "access points"),
            (self.sites, "sites"),
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
                f"{_of(len(rows), 'station')} at {_of(len(picture.access_points), 'access point')};"
                f" {_of(moves, 'move')}, {_of(failures, 'failure')} in this period.{notes}"
            )
        self._show_stations(rows)
        points, of_point = (picture.access_points, picture.site_of) if picture is not None else ([], {})
        self.points.show_points(points, of_point)
        self._show_sites(picture.sites if picture is not None else [])
        if rows:
            self.stations.selectRow(0)
        else:
            self.show_course(None)

    def _show_stations(self, rows: list[StationRow]) -> None:
        """The site only where one is known: the room is needed."""
        red = theme.current().red
        told = [row.station for row in rows]
        site = Column("site", lambda r: rows[r].site or "–", [row.site for row in rows], figures=False, meaning=_SITE)
        where = [site] if any(row.site for row in rows) else []
        widths = [122, 76, *(84 for _ in where), 0, 46, 54, 56, 46, 74, 72, 62, 54, 50]
        self.stations.show_columns(
            [
                Column("station", lambda r: told[r].address, [one.address for one in told], figures=False),
                Column("network", lambda r: told[r].ssid, [one.ssid for one in told], figures=False),
                *where,
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
            tuple((place, width) for place, width in enumerate(widths) if width),
            wide=2 + len(where),
        )  # fmt: skip

    def _show_sites(self, found: list[SiteRow]) -> None:
        self._site_rows = found
        self.sites.show_columns(
            [
                Column(
                    "site, worst first", lambda r: found[r].site or "not known: name access points under Sites",
                    [one.site for one in found], figures=False,
                ),
                Column("access points", lambda r: count(found[r].access_points), [o.access_points for o in found]),
                Column("stations", lambda r: count(found[r].stations), [one.stations for one in found]),
                Column("moves", lambda r: count(found[r].moves), [one.moves for one in found]),
                Column(
                    "failures", lambda r: count(found[r].failures), [one.failures for one in found],
                    color=lambda r: theme.current().red if found[r].failures else None,
                ),
                Column(
                    "retries", lambda r: figure(found[r].retries, "%"), [one.retries for one in found],
                    meaning="of the data frames there, in both directions, those that were sent again",
                ),
                Column(
                    "signal", lambda r: figure(found[r].signal_dbm, "dBm"), [one.signal_dbm for one in found],
                    meaning="median of what stations sent there",
                ),
                Column(
                    "busiest channel", lambda r: figure(found[r].busy_percent, "%"), [o.busy_percent for o in found],
                    meaning="the mean that its busiest access point told (BSS load)",
                ),
            ],
            len(found),
            ((1, 100), (2, 70), (3, 60), (4, 70), (5, 80), (6, 80), (7, 110)),
            wide=0,
        )  # fmt: skip

    def _enter_site(self, row: int) -> None:
        """The worst station of a site."""
        if self.picture is None or not 0 <= row < len(self._site_rows):
            return
        site, order = self._site_rows[row].site, self.stations.columns.order.tolist()
        at = [order.index(k) for k, one in enumerate(self.picture.stations) if one.site == site][:1]
        if at:
            self.stations.selectRow(at[0])
            self.stations.setFocus()

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
        row = found.row if found is not None else None
        self._show_events([*row.roams, *row.failures] if row else [], row.served if row else {})

    def _show_events(self, found: list[Roam | Failure], served: dict[int, dict[str, Asked]]) -> None:
        events = self._events = sorted(found, key=lambda one: one.time_ns)
        steps = (
            ("keys after", "sign-on and keys, from being let in", [_step(one, "keys_ns") for one in events], 70),
            ("of it RADIUS", _BY_SERVER, [_waited(one, served, SIGN_ON) for one in events], 84),
            ("address after", "from asking for it", [_step(one, "address_ns") for one in events], 84),
            ("DHCP", _BY_SERVER, [_waited(one, served, LEASE) for one in events], 60),
        )
        known = [step for step in steps if any(text != _UNKNOWN for text in step[2])]  # The room is needed.
        when = date_and_moment if len({day(one.time_ns) for one in events}) > 1 else partial(moment, digits=0)
        told = [Column(title, partial(_at, texts), meaning=meaning) for title, meaning, texts, _ in known]
        self.events.show_columns(
            [
                Column("when", lambda r: when(events[r].time_ns), [one.time_ns for one in events]),
                Column("what", lambda r: _what(events[r]), figures=False),
                Column("from", lambda r: self._name(events[r], new=False), figures=False),
                Column("to", lambda r: self._name(events[r], new=True), figures=False),
                Column("without data", lambda r: _gap(events[r]), figures=True),
                *told,
                Column("words", lambda r: _words(events[r], served), figures=False),
            ],
            len(events),
            ((0, 66), (1, 96), (2, 108), (3, 108), (4, 84), *((5 + k, step[3]) for k, step in enumerate(known))),
            wide=5 + len(known),
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


def _of(number: int, noun: str) -> str:
    return f"{count(number)} {noun}{'s' if number != 1 else ''}"


def _what(one: Roam | Failure) -> str:
    return one.kind if isinstance(one, Roam) else f"{one.stage} failed"


def _gap(one: Roam | Failure) -> str:
    return duration(one.gap_ns) if isinstance(one, Roam) and one.gap_ns >= 0 else "–"


def _at(texts: list[str], row: int) -> str:
    return texts[row]


def _step(one: Roam | Failure, name: str) -> str:
    took_ns = getattr(one, name, -1)
    return duration(took_ns) if took_ns >= 0 else _UNKNOWN


def _waited(one: Roam | Failure, served: dict[int, dict[str, Asked]], protocol: str) -> str:
    asked = served.get(one.time_ns, {}).get(protocol) if isinstance(one, Roam) else None
    return duration(asked.waited_ns) if asked is not None else _UNKNOWN


def _words(one: Roam | Failure, served: dict[int, dict[str, Asked]]) -> str:
    if isinstance(one, Roam):
        asked = served.get(one.time_ns, {}).values()
        servers = [f"{NAMES[own.protocol]} {own.server}, {own.counts}" for own in asked]
        return "; ".join(part for part in (one.before, *servers) if part)
    words = (REASONS if one.stage == KEYS else STATUSES).get(one.code, "")
    return words or (f"code {one.code}" if one.code >= 0 else "no answer")
