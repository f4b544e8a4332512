"""The archive server of the demo as it told of itself over the four weeks: a machine with four cores on which one
process
checks the whole archive after each night's copy.

The check takes one core; it grows with the archive, until in the third week it still runs when the desks open. On the
Saturday of the third week it was told to check what is new only. Beside it, the machine rests.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yaffle.demo.weeks import ARCHIVE, DAYS, HOUR_NS, MENDED_DAY, START_NS, archive_bytes

ADDRESS, NAME = ARCHIVE[1], "archive"
CORES = 4
EVERY_NS = 300 * 10**9
_CHECK_BYTES_PER_S = 1.1e6  # of one core
_CHECK_AT = 3  # o'clock
MEMORY_BYTES = 16 << 30


@dataclass(frozen=True)
class Told:
    """One number at one moment."""

    time_ns: int
    object: str
    measure: str
    value: float


def check_ends_ns(day: int) -> int:
    """When the check of a night ended."""
    seconds = archive_bytes(day) / _CHECK_BYTES_PER_S
    return START_NS + (day * 24 + _CHECK_AT) * HOUR_NS + int(seconds * 1e9)


def readings(day: int) -> Iterator[Told]:
    """What it told on one day, every five minutes."""
    rng = np.random.default_rng(20260216 + day)
    begin = START_NS + day * 24 * HOUR_NS
    checked_from, checked_to = begin + _CHECK_AT * HOUR_NS, check_ends_ns(day)
    for step in range(24 * HOUR_NS // EVERY_NS):
        now = begin + step * EVERY_NS
        checks = checked_from <= now < checked_to
        for core in range(1, CORES + 1):
            load = 97 + rng.random() * 3 if checks and core == 2 else 2 + rng.random() * 6
            yield Told(now, f"processor {core}", "processor load", round(load))
        yield Told(now, "", "uptime", (now - START_NS) / 1e9 + 4_000_000)
        used = 3.1e9 + 2.4e9 * checks + rng.random() * 2e8
        yield Told(now, "Physical memory", "storage used", round(used))
        yield Told(now, "Physical memory", "storage total", MEMORY_BYTES)


_DESK_OFFICE = "198.51.100.140"  # of the purser at Saltmarsh
_OLD_DESK, _NEW_DESK, _PRINTER = "02:00:5e:10:00:41", "02:00:5e:10:00:7c", "02:00:5e:10:00:77"
CHANGED_NS = START_NS + (MENDED_DAY * 24 + 9) * HOUR_NS
END_NS = START_NS + DAYS * 24 * HOUR_NS


def addresses() -> Iterator[tuple[str, str, str, str, int, int]]:
    """(device, interface, address, hardware address, from, to): who had which address at Saltmarsh. On the Saturday of
    the third week another machine took the purser's.
    """
    router = "203.0.113.242"
    yield router, "desks", _DESK_OFFICE, _OLD_DESK, START_NS, CHANGED_NS
    yield router, "desks", _DESK_OFFICE, _NEW_DESK, CHANGED_NS, END_NS
    yield router, "desks", "198.51.100.141", _PRINTER, START_NS, END_NS
    for desk in range(10):
        yield router, "desks", f"198.51.100.{146 + desk}", f"02:00:5e:10:01:{desk:02x}", START_NS, END_NS


def neighbours() -> Iterator[tuple[str, str, str, str, int, int]]:
    """(device, interface, neighbour, its port, from, to): where they were plugged in."""
    switch = "198.51.100.130"
    yield switch, "port 4", _OLD_DESK, "", START_NS, CHANGED_NS
    yield switch, "port 11", _NEW_DESK, "", CHANGED_NS, END_NS
    yield switch, "port 5", _PRINTER, "", START_NS, END_NS
    yield switch, "uplink", "saltmarsh-router", "desks", START_NS, END_NS
    yield "203.0.113.242", "desks", "saltmarsh-switch", "uplink", START_NS, END_NS
    for desk in range(10):
        yield switch, f"port {20 + desk}", f"02:00:5e:10:01:{desk:02x}", "", START_NS, END_NS


TEXTS = (
    (START_NS, ADDRESS, "name", NAME),
    (START_NS, ADDRESS, "description", "archive server, 4 cores, 16 GiB"),
    (START_NS, "198.51.100.130", "name", "saltmarsh-switch"),
    (START_NS, "203.0.113.242", "name", "saltmarsh-router"),
    (START_NS, "198.51.100.130", "configuration", "port 4 purser\nport 5 printer\nport 11 spare\n"),
    (CHANGED_NS, "198.51.100.130", "configuration", "port 4 spare\nport 5 printer\nport 11 purser\n"),
)
