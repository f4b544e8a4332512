"""How a history lies on disk: a folder a level, in it a folder an hour (of arrival), in it Parquet files.

    history.json                      what this is, and for how long each level is kept
    exporters.json                    who told, by number
    service_levels.json, flow_sets.json   what the collector's configuration promised and watched
    rings.json                        where captures keep the packets of which waits are kept
    records/2026-11-25T14/LO-HI.parquet    as they came; LO and HI number the flushes a file holds
    1min/2026-11-25T14/sums.parquet   the same in sums, for closed hours; LO-HI.parquet of blocks while it is open
    15min/2026-11-25/sums.parquet     coarser sums for closed days; 1h, 1day
    counters/2026-11-25T14/LO-HI.parquet   and other tables (TABLES) the same way

A history that lies in a store and is written by several collectors is a folder a collector (`by/NAME`), each as above.

Every file appears whole, under its name, or not at all. A file whose numbers lie inside those of another was merged
into it: it does not count, whether or not somebody came to remove it.
"""

import json
import os
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

from yaffle.errors import YaffleError
from yaffle.records.counter_table import Counters
from yaffle.records.flow_table import PROTOCOLS, Exporter, exporter_of

FORMAT, VERSION = "yaffle-history", 1
MANIFEST, EXPORTERS, RINGS = "history.json", "exporters.json", "rings.json"
SERVICE_LEVELS, FLOW_SETS = "service_levels.json", "flow_sets.json"
BESIDE = (EXPORTERS, SERVICE_LEVELS, FLOW_SETS)  # what a history needs beside its tables to be understood elsewhere
SUMS = "sums.parquet"
BRANCHES = "by"  # the folder of the folders of several collectors
RECORDS, COUNTERS, READINGS, ADDRESSES = "records", "counters", "readings", "addresses"
NEIGHBOURS, TEXTS = "neighbours", "texts"
WAITS, QUESTIONS, PROBES, EVENTS, HOPS = "waits", "questions", "probes", "events", "hops"
RADIO, CYCLIC = "radio", "cyclic"
HOUR_NS, DAY_NS = 3600 * 10**9, 86_400 * 10**9


class HistoryError(YaffleError):
    """A history that cannot be used, with the reason."""


@dataclass(frozen=True)
class Level:
    """One fineness. most: sums that one exporter keeps of one interval; the rest of it is put together without
    addresses.
    """

    name: str
    words: str
    width_ns: int
    folder_ns: int  # the stretch that one folder holds
    days: int  # kept for so long unless the user says otherwise
    most: int = 0
    longest_ns: int = 0  # a period up to which it is asked without being told to


LEVELS = (
    Level(RECORDS, "single records", 0, HOUR_NS, 30),
    Level("1min", "sums of 1 min", 60 * 10**9, HOUR_NS, 90, 500),
    Level("15min", "sums of 15 min", 900 * 10**9, DAY_NS, 400, 1000),
    Level("1h", "sums of 1 h", HOUR_NS, DAY_NS, 1200, 2000),
    Level("1day", "sums of 1 day", DAY_NS, DAY_NS, 3650, 5000),
)
COUNTER_DAYS = 400
WAIT_DAYS = 90
WAIT_LEVELS = (
    Level(WAITS, "minutes of waits by client", 60 * 10**9, HOUR_NS, WAIT_DAYS, longest_ns=8 * DAY_NS),
    Level("waits_1h", "hours of waits", HOUR_NS, DAY_NS, 1200, longest_ns=100 * DAY_NS),
    Level("waits_1day", "days of waits", DAY_NS, DAY_NS, 3650),
)
PROBE_LEVELS = (
    Level(PROBES, "results of tests on purpose", 0, HOUR_NS, COUNTER_DAYS),
    Level("probes_1h", "hours of tests on purpose", HOUR_NS, DAY_NS, 1200),
    Level("probes_1day", "days of tests on purpose", DAY_NS, DAY_NS, 3650),
)
TABLE_SUMS = (*WAIT_LEVELS[1:], *PROBE_LEVELS[1:])  # of tables beside flow records
REFRESH_NS = 300 * 10**9  # So often it is written of an interval that it still lasts.


@dataclass(frozen=True)
class Table:
    """One table beside flow records and their sums: a folder of its own, in it a folder an hour."""

    name: str
    words: str
    days: int  # kept for so long unless the user says otherwise
    time: str = "time_ns"  # the column by which a row belongs to an hour
    same: tuple[str, ...] = ()  # of intervals: columns of what is one thing; of its rows the one that ends last counts


TABLES = (
    Table(COUNTERS, "readings of interfaces' counters", COUNTER_DAYS),
    Table(READINGS, "readings of hosts and devices", COUNTER_DAYS),
    Table(
        ADDRESSES,
        "which hardware address had which IP address, from when to when",
        COUNTER_DAYS,
        "to_ns",
        ("device", "interface", "address", "hardware", "from_ns"),
    ),
    Table(
        NEIGHBOURS,
        "what was behind which interface, from when to when",
        COUNTER_DAYS,
        "to_ns",
        ("device", "interface", "neighbour", "neighbour_port", "from_ns"),
    ),
    Table(TEXTS, "what devices say of themselves, when it changed", COUNTER_DAYS),
    Table(WAITS, "minutes of waits by client", WAIT_DAYS),
    Table(PROBES, "results of tests on purpose", COUNTER_DAYS, "at_ns"),
    Table(EVENTS, "what was noticed, told and done about it", COUNTER_DAYS),
    Table(HOPS, "what nodes told of packets on their way: delay, queues, drops, other ways", COUNTER_DAYS),
    Table(RADIO, "what radios heard of stations and access points, by the minute", COUNTER_DAYS),
    Table(CYCLIC, "how steady cyclic streams were, by the minute", COUNTER_DAYS),
    Table(QUESTIONS, "look-ups, leases and sign-ons", COUNTER_DAYS),
)
USUAL_DAYS = {one.name: one.days for one in (*LEVELS, *TABLES, *TABLE_SUMS)}
TABLE = {table.name: table for table in TABLES}


def least_days(name: str) -> int:
    """Of a level: the finest sums of flow records may be kept for no days, and are not made then."""
    return 0 if name == LEVELS[1].name else 1


def folder_name(start_ns: int, width_ns: int) -> str:
    """Of the hour or day that begins at a moment (UTC)."""
    start = datetime.fromtimestamp(start_ns // 10**9, UTC)
    return start.strftime("%Y-%m-%d" if width_ns == DAY_NS else "%Y-%m-%dT%H")


@lru_cache(1 << 16)
def folder_start(name: str) -> int | None:
    """The reverse, ns; None for other names."""
    for form in ("%Y-%m-%dT%H", "%Y-%m-%d"):
        try:
            return int(datetime.strptime(name, form).replace(tzinfo=UTC).timestamp()) * 10**9
        except ValueError:
            continue
    return None


def part_name(low: int, high: int) -> str:
    """A file that holds the flushes from one number to another."""
    return f"{low:020d}-{high:020d}.parquet"


def part_range(name: str) -> tuple[int, int] | None:
    """The reverse; None for other names."""
    low, dash, high = name.removesuffix(".parquet").partition("-")
    return (int(low), int(high)) if dash and name.endswith(".parquet") and low.isdigit() and high.isdigit() else None


def counting(folder: Path) -> list[Path]:
    """The files of an hour that count, in order: those that were not merged into others."""
    try:
        names = os.listdir(folder)
    except (FileNotFoundError, NotADirectoryError):
        return []
    named = sorted(
        ((r, name) for name in names if (r := part_range(name)) is not None), key=lambda one: (one[0][0], -one[0][1])
    )
    found: list[Path] = []
    reached = -1
    for (_, high), name in named:
        if high > reached:
            found.append(folder / name)
            reached = high
    return found


def sums_of(folder: Path) -> list[Path]:
    """The file with the sums of an hour or day, if they were made."""
    return [path] if (path := folder / SUMS).exists() else []


def branches(root: Path) -> list[Path]:
    """The folders that are each written by one collector: the history's own, or those of several."""
    try:
        with os.scandir(root / BRANCHES) as entries:
            return sorted(Path(entry.path) for entry in entries if entry.is_dir())
    except FileNotFoundError:
        return [root]


def files_between(root: Path, table: str, first_ns: int, last_ns: int = 1 << 62) -> list[Path]:
    """The files of a table's hours that touch a period, in order."""
    return [
        path
        for start, folder in folders(root / table)
        if start <= last_ns and start + HOUR_NS > first_ns
        for path in counting(folder)
    ]


def folders(level: Path) -> list[tuple[int, Path]]:
    """The hours (or days) of a level, in order: start, folder; one for each collector that told of it."""
    named: list[tuple[int, Path]] = []
    for branch in branches(level.parent):
        own = branch / level.name
        try:
            with os.scandir(own) as entries:
                names = [entry.name for entry in entries if entry.is_dir()]
        except FileNotFoundError:
            continue
        named += [(start, own / name) for name in names if (start := folder_start(name)) is not None]
    return sorted(named)


def ends_of(level: Path, last: int) -> list[Path]:
    """The folders of the first and of the last hours (or days) of a level."""
    held = folders(level)
    starts = sorted({start for start, _ in held})
    chosen = {*starts[:1], *starts[-last:]}
    return [folder for start, folder in held if start in chosen]


def is_history(path: Path) -> bool:
    """Whether a folder holds a history."""
    return (path / MANIFEST).is_file()


def manifest_of(folder: Path) -> dict[str, Any]:
    """What a history says of itself. Raises HistoryError where it is none, or of another version."""
    try:
        told = json.loads((folder / MANIFEST).read_text())
        if told["format"] != FORMAT or not isinstance(told["days"], dict):
            raise HistoryError(f"{folder} is no history")
        if told["version"] != VERSION:
            raise HistoryError(f"{folder} was written by another version ({told['version']}; this one reads {VERSION})")
        days = {str(name): int(count) for name, count in told["days"].items()}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise HistoryError(f"{folder} is no history: {error}") from error
    return {"format": FORMAT, "version": VERSION, "days": days}


@dataclass
class Tellers:
    """Who told."""

    exporters: list[Exporter] = field(default_factory=list)  # by number
    counters: Counters = field(default_factory=Counters)  # devices and interfaces, without readings
    longest_ns: int = 0  # the most that a record's beginning was before its arrival
    reception: dict[str, int | str] = field(default_factory=dict)  # how receiving went last


def tellers_told(tellers: Tellers) -> dict[str, Any]:
    """As it is written."""
    return {
        "exporters": [asdict(one) for one in tellers.exporters],
        "devices": list(tellers.counters.devices),
        "ports": [[*key, name] for key, name in tellers.counters.names.items()],
        "longest_ns": tellers.longest_ns,
        "reception": dict(tellers.reception),
    }


def tellers_of(folder: Path) -> Tellers:
    """Who told of a history. Raises HistoryError."""
    path = folder / EXPORTERS
    if not path.exists():
        return Tellers()
    try:
        told = json.loads(path.read_text())
        found = [exporter_of(e) for e in told["exporters"]]
        counters = Counters(devices=[str(name) for name in told["devices"]])
        counters.names = {(int(device), int(interface)): str(name) for device, interface, name in told["ports"]}
        if any(not 0 <= e.protocol < len(PROTOCOLS) for e in found):
            raise ValueError("an exporter speaks nothing that is known")
        return Tellers(found, counters, int(told["longest_ns"]), dict(told["reception"]))
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise HistoryError(f"{path} cannot be read: {error}") from error


def rings_of(folder: Path) -> list[Path]:
    """The rings into which captures of a history write their packets. Raises HistoryError."""
    try:
        return [Path(ring) for ring in dict.fromkeys(json.loads((folder / RINGS).read_text()).values())]
    except FileNotFoundError:
        return []
    except (OSError, ValueError, TypeError, AttributeError) as error:
        raise HistoryError(f"{folder / RINGS} cannot be read: {error}") from error
