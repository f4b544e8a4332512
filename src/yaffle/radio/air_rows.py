"""Rows of the table `radio`: what was heard of each station and each access point, minute by minute."""

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Structs
from yaffle.quantiles import median
from yaffle.radio.frames import address_text
from yaffle.radio.radio import NOT_HEARD, AccessPoint, Radio

STATION, POINT = "station", "access point"
_COUNTS = (
    "frames", "octets", "data_from", "retries_from", "data_to", "retries_to", "air_ns", "dozed_ns", "stations", "moves",
    "failures",
)  # fmt: skip
_FIGURES = ("signal_dbm", "noise_dbm", "rate_mbps", "busy_percent")
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        ("to_ns", pa.int64()),
        ("run", pa.int64()),
        *((name, pa.string()) for name in ("capture", "what", "address", "network", "bssid")),
        ("channel", pa.int64()),
        *((name, pa.int64()) for name in _COUNTS),
        *((name, pa.float64()) for name in _FIGURES),
    ]
)
MINUTE_NS = 60 * 10**9


def minutes_of(radio: Radio, from_ns: int) -> Iterator[dict[str, Any]]:
    """A row for each station and access point in each minute in which it was heard, of what was heard from a moment on.
    Of an access point: all its stations; how busy it told to be is a mean over all that was heard.
    """
    heard = radio.heard[radio.heard["time_ns"] >= from_ns]
    minute = heard["time_ns"] // MINUTE_NS
    events = _events(radio, from_ns)
    for kind, column in ((STATION, "station"), (POINT, "access_point")):
        known = np.flatnonzero(heard[column] >= 0)
        key = heard[column][known].astype(np.int64) << 40 | minute[known]
        order = known[np.argsort(key, kind="stable")]
        key = heard[column][order].astype(np.int64) << 40 | minute[order]
        for own in np.split(order, np.flatnonzero(np.diff(key)) + 1):
            if own.size:
                number, start_ns = int(heard[column][own[0]]), int(minute[own[0]]) * MINUTE_NS
                ends = {"time_ns": start_ns, "to_ns": start_ns + MINUTE_NS, "what": kind}
                names = _station(radio, number, heard[own]) if kind == STATION else _point(radio, number)
                moves, failures = events.get((kind, names["address"], start_ns), (0, 0))
                yield {**ends, **names, **_sums(heard[own]), "moves": moves, "failures": failures}


def _events(radio: Radio, from_ns: int) -> dict[tuple[str, str, int], tuple[int, int]]:
    """(moves, failures) by kind, address and minute: a move counts for the access point that it goes to."""
    found: dict[tuple[str, str, int], tuple[int, int]] = {}
    for station in radio.stations:
        told = [(one.time_ns, one.new, 1, 0) for one in station.course.roams]
        told += [(one.time_ns, one.bssid, 0, 1) for one in station.course.failures]
        for time_ns, bssid, moved, failed in told:
            if time_ns < from_ns:
                continue
            for kind, address in ((STATION, station.address), (POINT, address_text(bssid))):
                key = (kind, address, time_ns // MINUTE_NS * MINUTE_NS)
                moves, failures = found.get(key, (0, 0))
                found[key] = moves + moved, failures + failed
    return found


def _station(radio: Radio, number: int, own: Structs) -> dict[str, Any]:
    one = radio.stations[number]
    at = own["access_point"][own["access_point"] >= 0]
    point = radio.access_points[int(at[-1])] if at.size else None
    return {
        "address": one.address, "network": one.ssid, "bssid": point.bssid if point else "",
        "channel": point.channel if point and point.channel >= 0 else None, "busy_percent": _busy(point),
    }  # fmt: skip


def _point(radio: Radio, number: int) -> dict[str, Any]:
    one = radio.access_points[number]
    return {
        "address": one.bssid, "network": one.ssid, "bssid": one.bssid,
        "channel": one.channel if one.channel >= 0 else None, "busy_percent": _busy(one),
    }  # fmt: skip


def _busy(one: AccessPoint | None) -> float | None:
    return None if one is None or np.isnan(one.busy_percent) else one.busy_percent


def _sums(own: Structs) -> dict[str, Any]:
    sent, data = own[own["way"] == 0], own[own["data"]]
    up, down = data[data["way"] == 0], data[data["way"] == 1]
    told: dict[str, Any] = {
        "frames": own.size, "octets": int(own["octets"].sum(dtype=np.int64)), "data_from": up.size,
        "retries_from": int(up["retry"].sum()), "data_to": down.size, "retries_to": int(down["retry"].sum()),
        "air_ns": int(own["air_ns"].sum(dtype=np.int64)), "stations": int(np.unique(own["station"]).size),
        "dozed_ns": _dozed_ns(sent),
    }  # fmt: skip
    for name, values in (
        ("signal_dbm", sent["signal"][sent["signal"] != NOT_HEARD]),
        ("noise_dbm", sent["noise"][sent["noise"] != NOT_HEARD]),
        ("rate_mbps", data["rate"][data["rate"] > 0] / 1000),
    ):
        told[name] = float(median(values)) if values.size else None
    return told


def _dozed_ns(sent: Structs) -> int:
    """From frames that say so to the next one of the same station in the minute."""
    if sent.size < 2:
        return 0
    same = sent["station"][1:] == sent["station"][:-1]
    return int(np.diff(sent["time_ns"])[sent["dozes"][:-1] & same].sum())
