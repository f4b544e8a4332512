"""This host's own links on the air, as its kernel tells them (nl80211): rates, frames sent again, the access point."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from yaffle.collector.devices.watch import texts_table
from yaffle.collector.readings import Reading, readings_table
from yaffle.history.layout import READINGS, TEXTS
from yaffle.records.host_measures import RADIO_LINK

_TENTHS = 10  # Rates are told in units of 100 kbit/s.
_NET = Path("/sys/class/net")


@dataclass
class OwnLink:
    """One wireless interface. point: the access point, empty without; figures by their names in nl80211."""

    interface: str
    point: str
    figures: dict[str, float] = field(default_factory=dict)

    def readings(self) -> Iterator[Reading]:
        """As readings of its interface."""
        for measure in RADIO_LINK:
            if measure.kernel in self.figures:
                yield Reading(self.interface, measure, self.figures[measure.kernel])


class RadioWatch:
    """Looks at the wireless interfaces of one host: readings, and which access point each is at when that changes."""

    def __init__(self, device: str, net: Path = _NET) -> None:
        self._device, self._net = device, net
        self._points: dict[str, str] = {}
        self.trouble = ""

    def look(self, time_ns: int) -> dict[str, pa.Table]:
        """Rows by table of the history; nothing where there is no wireless interface."""
        try:
            links = own_links(wireless(self._net))
            self.trouble = ""
        except OSError as error:
            self.trouble, links = str(error.strerror or error), []
        return self.told(links, time_ns)

    def told(self, links: list[OwnLink], time_ns: int) -> dict[str, pa.Table]:
        """The same of what was read."""
        found = {}
        readings = [reading for one in links for reading in one.readings()]
        if readings:
            found[READINGS] = readings_table(self._device, readings, time_ns)
        moved = {f"access point of {one.interface}": one.point or "none" for one in links}
        if changed := {name: point for name, point in moved.items() if self._points.get(name) != point}:
            self._points |= changed
            found[TEXTS] = texts_table(self._device, changed, time_ns)
        return found


def wireless(net: Path = _NET) -> dict[str, int]:
    """The wireless interfaces of this host with their numbers."""
    return {path.parent.name: int((path.parent / "ifindex").read_text()) for path in sorted(net.glob("*/phy80211"))}


def own_links(interfaces: dict[str, int]) -> list[OwnLink]:
    """What the kernel says of some wireless interfaces. Raises OSError where it cannot be asked."""
    if not interfaces:
        return []
    from pyroute2 import IW
    from pyroute2.netlink.exceptions import NetlinkError

    try:
        with IW() as kernel:
            return [link_of(name, kernel.get_stations(number)) for name, number in interfaces.items()]
    except NetlinkError as error:
        raise OSError(error.code, f"wireless interfaces cannot be read: {error}") from error


def link_of(interface: str, stations: Iterable[Any]) -> OwnLink:
    """An interface with its access point: the first of the stations that the kernel knows there."""
    for one in stations:
        told = one.get_attr("NL80211_ATTR_STA_INFO")
        link = OwnLink(interface, str(one.get_attr("NL80211_ATTR_MAC") or ""))
        if told is not None:
            link.figures = dict(_figures(told))
        return link
    return OwnLink(interface, "")


def _figures(told: Any) -> Iterator[tuple[str, float]]:
    for measure in RADIO_LINK:
        value = told.get_attr(f"NL80211_STA_INFO_{measure.kernel}")
        if measure.kernel.endswith("BITRATE") and value is not None:
            wide = value.get_attr("NL80211_RATE_INFO_BITRATE32") or value.get_attr("NL80211_RATE_INFO_BITRATE")
            value = wide / _TENTHS if wide else None
        if value is not None:
            yield measure.kernel, float(value)
