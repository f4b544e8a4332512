"""Four weeks at Harbourline Ferries as its routers saw them: flow records and counters of four sites, Monday 2026-02-16
to Sunday 2026-03-15.

Desks work from 05:30 to 21:00, sailings fill the quarter of an hour before them, Sundays are quiet. Every night
Saltmarsh copies its archive to Quay House from 01:00 on; the archive grows, until in the third week its 20 GB over a
line of 10 Mbit/s still run when the desks open. On the Saturday of the third week that was mended: the copy takes what
is new only.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache

import numpy as np

START_NS = int(datetime(2026, 2, 16, tzinfo=UTC).timestamp()) * 10**9
DAYS = 28
MENDED_DAY = 19  # Saturday 2026-03-07
HOUR_NS = 3600 * 10**9
_STEP_NS = 600 * 10**9  # of the records, and of what a line carried meanwhile
_STEPS = 6  # an hour
_READ_NS = 60 * 10**9  # between two readings of counters
SITES = {  # name: (range, router, line in bit/s)
    "Northpoint": ("198.51.100.0/25", "203.0.113.241", 50_000_000),
    "Saltmarsh": ("198.51.100.128/26", "203.0.113.242", 10_000_000),
    "Isle of Wren": ("198.51.100.192/26", "203.0.113.243", 20_000_000),
    "Quay House": ("192.0.2.0/24", "203.0.113.244", 200_000_000),
}
DATA_CENTRE = "203.0.113.0/26"
SERVICES = {  # name: (server, port, share of a desk's bytes, bytes out of the site per byte into it)
    "ticket desk": ("203.0.113.22", 443, 0.42, 0.15),
    "ticket database": ("203.0.113.21", 5432, 0.12, 0.30),
    "timetable": ("203.0.113.30", 80, 0.30, 0.05),
    "manifest": ("203.0.113.24", 9100, 0.10, 2.00),
    "names": ("203.0.113.53", 53, 0.06, 0.60),
}
ARCHIVE = ("198.51.100.180", "203.0.113.35", 873)
ARCHIVE_NAME = "archive copy"
_DESKS = {"Northpoint": 24, "Saltmarsh": 10, "Isle of Wren": 12, "Quay House": 40}
_DESK_BPS = 60_000.0  # of a desk at work, into the site
LAN, LINE = 1, 2  # interfaces of every router
INTERFACES = {LAN: "desks", LINE: "line"}
SAILINGS = (6, 8, 10, 12, 14, 16, 18, 20)  # twenty to these hours boarding begins


@dataclass(frozen=True)
class HourOfSite:
    """What one router told in one hour: columns of its flow records, and readings of its counters."""

    router: str
    start_ns: int
    flows: dict[str, np.ndarray]
    counters: dict[str, np.ndarray]


@cache
def _number(address: str) -> int:
    parts = [int(part) for part in address.split(".")]
    return parts[0] << 24 | parts[1] << 16 | parts[2] << 8 | parts[3]


def archive_bytes(day: int) -> float:
    """What the copy of a night carries: all of it until it was mended, only what is new afterwards."""
    return 3.0e9 * 1.145**day if day < MENDED_DAY else 0.25e9


def _busy(hour_of_day: float, weekday: int) -> float:
    """How many of the desks work, 0 to about 1.6 while a sailing boards."""
    if not 5.5 <= hour_of_day < 21:
        return 0.03
    boarding = any(sailing - 1 / 3 <= hour_of_day < sailing for sailing in SAILINGS)
    return (0.55 if weekday == 6 else 1.0) * (
        0.55 + 0.2 * math.sin((hour_of_day - 5.5) / 15.5 * math.pi) + (0.8 if boarding else 0.0)
    )


def hours() -> Iterator[list[HourOfSite]]:
    """The four weeks, hour by hour, all four routers at a time."""
    rng = np.random.default_rng(20260216)
    left = 0.0  # of the copy that runs
    totals = {name: np.zeros((2, 2)) for name in SITES}  # bytes by interface and direction, since the beginning
    for hour in range(DAYS * 24):
        day, hour_of_day = divmod(hour, 24)
        if hour_of_day == 1:
            left = archive_bytes(day)
        found = []
        for name in SITES:
            begin = START_NS + hour * HOUR_NS
            busy = np.array([_busy(hour_of_day + step / _STEPS, day % 7) for step in range(_STEPS)])
            desks, carried = _desks(rng, name, busy, begin)
            rows = [desks]
            readings = []
            for step in range(_STEPS):
                start = begin + step * _STEP_NS
                into, out = carried[step].tolist()
                if name == "Saltmarsh" and left > 0:
                    free = max(0.0, SITES[name][2] * 0.95 - out * 8 / (_STEP_NS / 1e9)) / 8 * _STEP_NS / 1e9
                    taken = min(left, free)
                    left -= taken
                    out += taken
                    _copied(taken, start, rows)
                readings.append(_read(rng, SITES[name][2], totals[name], (into, out), start))
            found.append(_told(name, START_NS + hour * HOUR_NS, rows, readings))
        yield found


_FLOW = (
    "src",
    "dst",
    "src_port",
    "dst_port",
    "transport",
    "dscp",
    "ingress",
    "egress",
    "first_ns",
    "last_ns",
    "octets",
    "packets",
)
_READING = ("interface", "time_ns", "in_octets", "out_octets")


def _told(name: str, start_ns: int, rows: list[np.ndarray], readings: list[np.ndarray]) -> HourOfSite:
    flows, counters = np.concatenate(rows), np.concatenate(readings)
    return HourOfSite(
        SITES[name][1], start_ns, dict(zip(_FLOW, flows.T, strict=True)), dict(zip(_READING, counters.T, strict=True))
    )


_PARTS, _BACK = (np.array([one[k] for one in SERVICES.values()]) for k in (2, 3))
_SERVED = tuple(
    np.array(column)
    for column in zip(
        *(
            (_number(server), port, 17 if name == "names" else 6, 18 if name.startswith("ticket") else 0)
            for name, (server, port, _, _) in SERVICES.items()
        ),
        strict=True,
    )
)


def _block(*columns: int | np.ndarray) -> np.ndarray:
    """Records by their columns; a number stands for all of them."""
    return np.stack(np.broadcast_arrays(*(np.atleast_1d(column) for column in columns)), axis=1).astype(np.int64)


def _desks(rng: np.random.Generator, name: str, busy: np.ndarray, start: int) -> tuple[np.ndarray, np.ndarray]:
    """Records of the desks at work in one hour, busy so much in each of its steps; and the bytes that went into the
    site and out of it over its line, (steps, 2).
    """
    first, desks = _number(SITES[name][0].partition("/")[0]) + 10, _DESKS[name]
    step, service = (part.ravel() for part in np.indices((_STEPS, len(SERVICES))))
    at_work = np.maximum(1, np.round(np.minimum(1.0, busy) * desks / 3)).astype(np.int64)[step]
    whole = _DESK_BPS / 8 * desks * busy[step] * _PARTS[service] * _STEP_NS / 1e9
    whole = whole * rng.lognormal(0, 0.12, whole.size)
    group = np.repeat(np.arange(at_work.size), at_work)
    weights = rng.gamma(3.0, size=group.size)
    shares = weights / np.bincount(group, weights)[group]
    chosen = np.argsort(rng.random((at_work.size, desks)), axis=1)  # A desk once each.
    number = np.arange(group.size) - np.repeat(np.cumsum(at_work) - at_work, at_work)
    host, own_port = first + chosen[group, number], rng.integers(33_000, 60_000, group.size)
    begin = start + step[group] * _STEP_NS + rng.integers(0, _STEP_NS // 3, group.size)
    end = start + (step[group] + 1) * _STEP_NS - rng.integers(1, _STEP_NS // 3, group.size)
    down = np.maximum(80, (whole[group] * shares).astype(np.int64))
    up = np.maximum(80, (whole[group] * shares * _BACK[service[group]]).astype(np.int64))
    there, port, transport, dscp = (column[service[group]] for column in _SERVED)
    rows = np.concatenate(
        [
            _block(there, host, port, own_port, transport, dscp, LINE, LAN, begin, end, down, down // 900 + 1),
            _block(host, there, own_port, port, transport, dscp, LAN, LINE, begin, end, up, up // 300 + 1),
        ]
    )
    carried = np.stack([np.bincount(step[group], octets, _STEPS) for octets in (down, up)], axis=1)
    return rows, carried


def _copied(octets: float, start: int, rows: list[np.ndarray]) -> None:
    source, target, port = ARCHIVE
    sent = int(octets)
    there, here, end = _number(target), _number(source), start + _STEP_NS - 1
    rows.append(_block(here, there, 51_873, port, 6, 0, LAN, LINE, start, end, sent, sent // 1400 + 1))
    rows.append(_block(there, here, port, 51_873, 6, 0, LINE, LAN, start, end, sent // 40, sent // 2800 + 1))


def _read(
    rng: np.random.Generator, line_bps: int, totals: np.ndarray, step: tuple[float, float], start: int
) -> np.ndarray:
    """Readings of the counters within one step: what the line carried, with a little unevenness, and the same on the
    desks' side. `totals` is bytes by interface and direction, and goes on by it.
    """
    pieces = _STEP_NS // _READ_NS
    full = max(step) * 8 / (_STEP_NS / 1e9) > 0.8 * line_bps
    weights = rng.dirichlet(np.full(pieces, 1e5 if full else 60.0))  # A full line carries evenly.
    carried = np.outer(weights, step) * 1.03  # 3 % is what no record tells: frames, and what is not IP.
    found = np.empty((pieces, 2, len(_READING)), np.int64)
    found[:, :, 1] = (start + (np.arange(pieces) + 1) * _READ_NS)[:, np.newaxis]
    for place, interface in enumerate((LAN, LINE)):
        moved = carried[:, ::-1] if interface == LAN else carried
        course = np.cumsum(np.vstack([totals[place], moved]), axis=0)[1:]
        totals[place] = course[-1]
        found[:, place, 0], found[:, place, 2:] = interface, course.astype(np.int64)
    return found.reshape(-1, len(_READING))
