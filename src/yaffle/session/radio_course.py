"""One station, and one access point, over a period."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.findings.behind_moves import NAMES, Questions
from yaffle.media.calls import ends_of
from yaffle.radio.radio import NOT_HEARD, AccessPoint
from yaffle.session.radio_view import StationRow
from yaffle.session.scene import Scene

_INTERVALS = 120
_MOST_VOICE = 4  # streams that are drawn


@dataclass(frozen=True)
class StationCourse:
    """One station over the period: medians of equal intervals, NaN where it was not heard; retries, %, both ways."""

    row: StationRow
    starts_ns: Array
    signal: Array
    noise: Array
    rate_mbps: Array
    retry_from: Array
    retry_to: Array
    waits: "StationWaits"
    asked: dict[str, tuple[Array, Array]]  # RADIUS and DHCP for it in the period: when, and how long, ns


@dataclass(frozen=True)
class StationWaits:
    """What came by a station in open frames: when exchanges began and how long they took, ns; voice and video to it or
    from it, each with the times and the greatest jitter of its stretches, ns.
    """

    began_ns: Array
    wait_ns: Array
    voice: list[tuple[str, Array, Array]]


@dataclass(frozen=True)
class PointCourse:
    """One access point over the period: equal intervals; shares in %, NaN where nothing was heard."""

    point: AccessPoint
    starts_ns: Array
    retries: Array  # of data frames, both ways
    airtime: Array  # of frames between it and its stations, of the time
    stations: Array


def station_course(scene: Scene, row: StationRow) -> StationCourse:
    """A station over the period."""
    heard = scene.evidence.analysis.radio.heard
    own = heard[
        (heard["station"] == row.number) & (heard["time_ns"] >= scene.first_ns) & (heard["time_ns"] <= scene.last_ns)
    ]
    edges = np.linspace(scene.first_ns, scene.last_ns + 1, _INTERVALS + 1).astype(np.int64)
    place = np.clip(np.searchsorted(edges, own["time_ns"], "right") - 1, 0, _INTERVALS - 1)
    sent = own["way"] == 0
    return StationCourse(
        row,
        edges[:-1],
        _medians(place, own["signal"], sent & (own["signal"] != NOT_HEARD)),
        _medians(place, own["noise"], sent & (own["noise"] != NOT_HEARD)),
        _medians(place, own["rate"], own["data"] & (own["rate"] > 0)) / 1000,
        _shares(place, own["retry"], own["data"] & sent),
        _shares(place, own["retry"], own["data"] & ~sent),
        _waits_of(scene, row.number),
        _asked_for(scene, row.station.address),
    )


def _asked_for(scene: Scene, station: str) -> dict[str, tuple[Array, Array]]:
    rows = Questions(scene.evidence.analysis.lookups.rows).of(station)
    own = [one for one in rows if scene.first_ns <= one.asked_ns <= scene.last_ns]
    found = {}
    for protocol, name in NAMES.items():
        told = [(one.asked_ns, max(one.latency_ns, one.latest_ns - one.asked_ns)) for one in own
                if one.protocol == protocol]  # fmt: skip
        if told:
            found[name] = np.array([at for at, _ in told]), np.array([waited for _, waited in told])
    return found


def point_course(scene: Scene, number: int) -> PointCourse:
    """An access point over the period, by what was heard between it and its stations."""
    radio = scene.evidence.analysis.radio
    heard = radio.heard
    own = heard[
        (heard["access_point"] == number) & (heard["time_ns"] >= scene.first_ns) & (heard["time_ns"] <= scene.last_ns)
    ]
    edges = np.linspace(scene.first_ns, scene.last_ns + 1, _INTERVALS + 1).astype(np.int64)
    place = np.clip(np.searchsorted(edges, own["time_ns"], "right") - 1, 0, _INTERVALS - 1)
    air = np.bincount(place, own["air_ns"], _INTERVALS)
    pairs = np.unique(place.astype(np.int64) << 32 | own["station"])
    stations = np.bincount(pairs >> 32, minlength=_INTERVALS)
    airtime = np.where(stations > 0, 100 * air / np.diff(edges), np.nan)
    retries = _shares(place, own["retry"], own["data"])
    return PointCourse(radio.access_points[number], edges[:-1], retries, airtime, stations)


def _waits_of(scene: Scene, station: int) -> StationWaits:
    evidence, carried = scene.evidence, scene.evidence.analysis.radio.held.carried
    analysis = evidence.analysis
    flows = [flow for flow, number in carried.items() if number == station]
    connections = np.flatnonzero(np.isin(analysis.account.flow, flows))
    waits = evidence.waits
    own = (
        np.isin(waits.connection, connections) & (waits.first_ns >= scene.first_ns) & (waits.first_ns <= scene.last_ns)
    )
    ends = {end for flow in flows for end in ends_of(analysis.capture.conversations, flow, False)}
    voice = []
    for one in analysis.media:
        if {one.source, one.destination} <= ends and one.course:
            times, jitter, _ = (np.array(column) for column in zip(*one.course, strict=True))
            voice.append((f"{one.codec or one.kind or 'voice'}, jitter", times, jitter))
    return StationWaits(waits.first_ns[own], waits.wait_ns[own], voice[:_MOST_VOICE])


def _medians(place: Array, values: Array, which: Array) -> Array:
    found = np.full(_INTERVALS, np.nan)
    order = np.flatnonzero(which)
    for k in np.unique(place[order]).tolist():
        found[k] = float(np.median(values[order][place[order] == k]))
    return found


def _shares(place: Array, flags: Array, which: Array) -> Array:
    count = np.bincount(place[which], minlength=_INTERVALS)
    again = np.bincount(place[which & flags], minlength=_INTERVALS)
    return np.where(count > 0, 100 * again / np.maximum(1, count), np.nan)
