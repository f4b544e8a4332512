"""Access points, and one of them over time."""

import numpy as np
from PySide6.QtCore import Qt, Signal

from yaffle.desktop.path.station_plots import draw, figure, place, share_of
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key
from yaffle.desktop.shared.plots import Plot
from yaffle.radio.radio import AccessPoint
from yaffle.session.radio_course import PointCourse
from yaffle.units import count, moment

_NOTHING = "an access point over time stands here"


class PointPanel(Panes):
    """`chosen` carries the number of an access point whose course is wanted."""

    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__("path radio page: points", Qt.Orientation.Vertical)
        self.course: PointCourse | None = None
        self.listing, self.plot = Listing("Access points"), Plot(_NOTHING, "%")
        self.listing.selectionModel().currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        self.plot.read_with(self._read)
        self.arrange([self.listing, self.plot], [150, 150])

    def show_points(self, found: list[AccessPoint], sites: dict[str, str]) -> None:
        """Lists access points, with the site of each."""
        self.listing.show_columns(
            [
                Column("access point", lambda r: found[r].bssid, [one.bssid for one in found], figures=False),
                Column("network", lambda r: found[r].ssid or "hidden", [one.ssid for one in found], figures=False),
                Column(
                    "site", lambda r: sites.get(found[r].bssid) or "–", [sites.get(o.bssid, "") for o in found],
                    figures=False, meaning="as you named it under Sites, or by the addresses of its stations",
                ),
                Column("band", lambda r: found[r].band or "–", [one.band for one in found], figures=False),
                Column("channel", lambda r: str(found[r].channel), [one.channel for one in found]),
                Column(
                    "width", lambda r: f"{found[r].width_mhz} MHz" if found[r].width_mhz else "–",
                    [one.width_mhz for one in found],
                ),
                Column(
                    "stations", lambda r: count(found[r].stations) if found[r].stations >= 0 else "–",
                    [one.stations for one in found], meaning="the most that it told",
                ),
                Column(
                    "channel busy", lambda r: figure(found[r].busy_percent, "%"), [o.busy_percent for o in found],
                    meaning="the mean that it told (BSS load)",
                ),
                Column(
                    "airtime", lambda r: share_of(found[r].air_ns, found[r].heard_ns), [one.air_ns for one in found],
                    meaning="of the time: its frames and those to it, where their rates are told; without waiting",
                ),
                Column("open", lambda r: "open" if found[r].is_open else "protected", figures=False),
            ],
            len(found),
            ((0, 150), (2, 120), (3, 60), (4, 60), (5, 60), (6, 70), (7, 90), (8, 70), (9, 80)),
            wide=1,
        )  # fmt: skip
        if found:
            self.listing.selectRow(0)

    def _choose(self, row: int) -> None:
        order = self.listing.columns.order
        if 0 <= row < order.size:
            self.chosen.emit(int(order[row]))

    def show_course(self, found: PointCourse | None) -> None:
        """Draws one access point over time."""
        self.course = found
        self.plot.getPlotItem().clear()
        if found is None:
            self.plot.set_quantity(_NOTHING)
            return
        look, first = theme.current(), int(found.starts_ns[0])
        seconds = (found.starts_ns - first) / 1e9
        draw(self.plot, seconds, found.retries, look.moss)
        draw(self.plot, seconds, found.airtime, look.network)
        most = count(int(found.stations.max(initial=0)))
        self.plot.set_quantity(f"{found.point.ssid or 'hidden'} at {found.point.bssid}, up to {most} stations", "%")
        self.plot.set_keys(Key("retries", look.moss), Key("airtime of its frames", look.network))
        known = np.concatenate([found.retries, found.airtime])
        self.plot.show_values(max(10.0, float(known[np.isfinite(known)].max(initial=0.0))))
        place(self.plot, first, seconds)

    def _read(self, x: float, _y: float) -> str:
        found = self.course
        if found is None:
            return ""
        k = int(np.argmin(np.abs((found.starts_ns - found.starts_ns[0]) / 1e9 - x)))
        told = f"{figure(float(found.retries[k]), '%')} retries, {figure(float(found.airtime[k]), '%')} airtime"
        return f" {moment(int(found.starts_ns[k]))}  {told}, {count(int(found.stations[k]))} stations "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self.show_course(self.course)
