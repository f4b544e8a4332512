"""The air in a period: access points, stations and sites, worst first."""

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Structs
from yaffle.findings.behind_moves import Asked, Questions
from yaffle.quantiles import median
from yaffle.radio.frames import address_text
from yaffle.radio.moves import Failure, Roam
from yaffle.radio.radio import NOT_HEARD, AccessPoint, Radio, Station
from yaffle.session.radio_sites import RadioSites, radio_sites
from yaffle.session.scene import Scene


@dataclass(frozen=True)
class StationRow:
    """A station with what happened to it in the period."""

    number: int
    station: Station
    at: str  # the access point where it was last
    roams: list[Roam]
    failures: list[Failure]
    site: str  # empty where nothing tells
    served: dict[int, dict[str, Asked]]  # by the time of a move, by kind: what servers were asked for it

    @property
    def trouble(self) -> tuple[float, ...]:
        """Worst first: failures, moves, retries, weakness."""
        retry = np.nanmax([self.station.retry_from, self.station.retry_to, 0.0])
        weak = -self.station.signal.median if not math.isnan(self.station.signal.median) else 0.0
        return -len(self.failures), -len(self.roams), -float(retry), -weak


@dataclass(frozen=True)
class RadioPicture:
    """What was heard in a period."""

    access_points: list[AccessPoint]
    stations: list[StationRow]
    names: dict[str, str]  # of access points by BSSID
    sites: list["SiteRow"]
    site_of: dict[str, str]  # of access points by BSSID; empty where nothing tells
    notes: list[str]


@dataclass(frozen=True)
class SiteRow:
    """One site on the air in a period. stations: heard there; moves: to its access points; retries: of data frames in
    both directions, %; NaN without data.
    """

    site: str
    access_points: int
    stations: int
    moves: int
    failures: int
    retries: float
    signal_dbm: float  # median of its stations' frames
    busy_percent: float  # the busiest of its access points

    @property
    def trouble(self) -> tuple[float, ...]:
        """Worst first: failures, retries, how busy, weakness."""
        known = [value if not math.isnan(value) else 0.0 for value in (self.retries, self.busy_percent)]
        weak = self.signal_dbm if not math.isnan(self.signal_dbm) else 0.0
        return -self.failures, -known[0], -known[1], weak


def radio_picture(scene: Scene) -> RadioPicture | None:
    """Stations worst first; None where no radio heard anything."""
    radio = scene.evidence.analysis.radio
    if radio.is_empty:
        return None
    low, high = scene.first_ns, scene.last_ns
    names = {one.bssid: f"{one.bssid[-5:]}, channel {one.channel}" for one in radio.access_points}
    sites = radio_sites(scene.evidence.analysis, scene.evidence.places)
    questions = Questions(scene.evidence.analysis.lookups.rows)
    rows = []
    for number, station in enumerate(radio.stations):
        course = station.course
        here = [one for one in course.associations if one.from_ns <= high and one.to_ns >= low]
        at = address_text(here[-1].bssid) if here else ""
        roams = [one for one in course.roams if low <= one.time_ns <= high]
        failures = [one for one in course.failures if low <= one.time_ns <= high]
        served = {one.time_ns: questions.during(station.address, one) for one in roams}
        rows.append(StationRow(number, station, names.get(at, at), roams, failures, sites.of_station[number], served))
    rows.sort(key=lambda one: one.trouble)
    within = (radio.heard["time_ns"] >= low) & (radio.heard["time_ns"] <= high)
    by_site = site_rows(sites, radio, rows, radio.heard[within])
    return RadioPicture(radio.access_points, rows, names, by_site, sites.of_point, radio.notes)


def site_rows(found: RadioSites, radio: Radio, rows: Sequence[StationRow], heard: Structs) -> list[SiteRow]:
    """All sites, worst first, by what was heard at their access points (rows of HEARD); what belongs to none stands
    under an empty name.
    """
    names = sorted({*found.of_point.values(), *found.of_station.values()})
    number = {name: k for k, name in enumerate(names)}
    of_point = np.array([number[found.of_point[one.bssid]] for one in radio.access_points], np.int64)
    of_station = np.array([number[found.of_station[k]] for k in range(len(radio.stations))], np.int64)
    site = of_station[heard["station"]] if heard.size else np.zeros(0, np.int64)
    known = heard["access_point"] >= 0
    site[known] = of_point[heard["access_point"][known]]
    moves = Counter(found.of_point.get(address_text(one.new), "") for row in rows for one in row.roams)
    failures = Counter(found.of_point.get(address_text(one.bssid), "") for row in rows for one in row.failures)
    told = []
    for name in names:
        here = [one for one in radio.access_points if found.of_point[one.bssid] == name]
        busy = [one.busy_percent for one in here if not math.isnan(one.busy_percent)]
        own = heard[site == number[name]]
        data = own["retry"][own["data"]]
        signal = own["signal"][(own["way"] == 0) & (own["signal"] != NOT_HEARD)]
        told.append(
            SiteRow(
                name, len(here), int(np.unique(own["station"]).size), moves[name], failures[name],
                100 * float(data.mean()) if data.size else math.nan, median(signal.astype(np.float64)),
                max(busy, default=math.nan),
            )
        )  # fmt: skip
    return sorted(told, key=lambda one: (one.trouble, one.site))
