"""Where stations and access points of a radio capture are: the site that the user gave access points, else the site of
the addresses that stations have.
"""

from collections import Counter, defaultdict
from dataclasses import dataclass

from yaffle.analysis import Analysis
from yaffle.capture.addresses import address_of
from yaffle.inventory.places import Places
from yaffle.media.calls import ends_of
from yaffle.radio.frames import address_text
from yaffle.radio.radio import Station

_LEASE = "dhcp"


@dataclass(frozen=True)
class RadioSites:
    """Sites by the number of the station, and by BSSID; empty where nothing tells."""

    of_station: dict[int, str]
    of_point: dict[str, str]


def radio_sites(analysis: Analysis, places: Places) -> RadioSites:
    """Who is where."""
    radio = analysis.radio
    addresses = _addresses(analysis)
    own = {number: sites for number, found in addresses.items() if (sites := {places.site(one) for one in found})}
    votes: dict[str, Counter[str]] = defaultdict(Counter)
    for number, sites in own.items():
        for bssid in {one.bssid for one in radio.stations[number].course.associations}:
            votes[address_text(bssid)].update(sites)
    points = {}
    for one in radio.access_points:
        told = votes[one.bssid].most_common(1)
        points[one.bssid] = places.radio_site(one.bssid) or (told[0][0] if told else "")
    stations = {}
    for number, station in enumerate(radio.stations):
        here = points.get(_last_at(station), "")
        stations[number] = here or min(own.get(number, {""}))
    return RadioSites(stations, points)


def _addresses(analysis: Analysis) -> dict[int, set[str]]:
    """Network addresses of stations: their ends of connections in open frames, and as leased."""
    radio, flows = analysis.radio, analysis.capture.conversations
    found: dict[int, set[str]] = defaultdict(set)
    leased = {one.client: one.name for one in analysis.lookups.rows if one.protocol == _LEASE and one.name}
    for number, station in enumerate(radio.stations):
        if station.address in leased:
            found[number].add(leased[station.address])
    for flow, number in radio.held.carried.items():
        found[number].add(address_of(ends_of(flows, flow, flow in radio.held.answered)[0]))
    return found


def _last_at(station: Station) -> str:
    course = station.course
    found = course.associations or course.failures
    return address_text(found[-1].bssid) if found else ""
