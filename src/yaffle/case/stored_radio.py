"""What radios heard, as part of a case: frames as columns, access points and stations as JSON."""

from dataclasses import asdict
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.radio.held_up import SPAN, HeldUp
from yaffle.radio.moves import Association, Course, Failure, Note, Roam
from yaffle.radio.radio import HEARD, AccessPoint, Radio, Spread, Station

_ADDED = ("air_ns", "dozes")  # columns that cases of former versions lack


def heard_columns(told: Radio) -> dict[str, Array]:
    """The frames by column; Arrow keeps no single bits that can be mapped."""
    rows = told.heard
    return {
        name: rows[name].astype(np.uint8) if rows[name].dtype == bool else np.ascontiguousarray(rows[name])
        for name in HEARD.names or ()
    }


def beside_heard(told: Radio) -> dict[str, Any]:
    """What columns do not hold."""
    return {
        "access_points": [asdict(one) for one in told.access_points],
        "stations": [asdict(one) for one in told.stations],
        "notes": told.notes,
        "held": {
            "spans": [row.tolist() for row in told.held.spans],
            "carried": [[flow, station] for flow, station in told.held.carried.items()],
            "answered": sorted(told.held.answered),
        },
    }


def read_radio(columns: dict[str, Array], told: dict[str, Any]) -> Radio:
    """The reverse. Raises KeyError, TypeError, ValueError where it makes no sense."""
    rows = np.zeros(columns["time_ns"].size, HEARD)
    for name in HEARD.names or ():
        if name in columns or name not in _ADDED:
            rows[name] = columns[name]
    points = [AccessPoint(**one) for one in told["access_points"]]
    stations = [_station(one) for one in told["stations"]]
    if rows.size and not (0 <= int(rows["station"].min()) <= int(rows["station"].max()) < len(stations)
                          and int(rows["access_point"].max()) < len(points)):  # fmt: skip
        raise ValueError("a frame is of no station")
    return Radio(points, stations, rows, [str(note) for note in told["notes"]], _held(told, len(stations)))


def _held(told: dict[str, Any], stations: int) -> HeldUp:
    """When stations were held up; nothing in cases of former versions."""
    held = told.get("held", {"spans": [], "carried": []})
    spans = np.array([tuple(one) for one in held["spans"]], SPAN)
    carried = {int(flow): int(station) for flow, station in held["carried"]}
    numbers = [*spans["station"].tolist(), *carried.values()]
    if numbers and not 0 <= min(numbers) <= max(numbers) < stations:
        raise ValueError("a stretch is of no station")
    return HeldUp(spans, carried, frozenset(int(flow) for flow in held.get("answered", [])))


def _station(told: dict[str, Any]) -> Station:
    course = told["course"]
    return Station(
        **{
            **told,
            "signal": Spread(**told["signal"]),
            "snr": Spread(**told["snr"]),
            "course": Course(
                [Association(**one) for one in course["associations"]],
                [Roam(**one) for one in course["roams"]],
                [Failure(**one) for one in course["failures"]],
                [Note(**one) for one in course["sent_away"]],
            ),
        }
    )
