"""The demo's four weeks as a history: what its routers told, written as if it had been received then."""

import shutil
import subprocess
import sys
import time
from itertools import chain, islice
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Structs
from yaffle.demo import archive_server, kept_tests, weeks
from yaffle.errors import Cancelled
from yaffle.history.drawn_waits import DrawnWaits
from yaffle.history.layout import (
    ADDRESSES,
    DAY_NS,
    EXPORTERS,
    LEVELS,
    NEIGHBOURS,
    PROBES,
    READINGS,
    TABLE,
    TEXTS,
    WAITS,
    HistoryError,
    is_history,
)
from yaffle.history.probe_rows import rows_of
from yaffle.history.writer import HistoryWriter
from yaffle.progress import Progress, go_on
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.flow_table import IPFIX, Exporter, FlowRecords, empty_flows

_A_LITTLE_LATER_NS = 600 * 10**9
_LOOK_S = 0.05
_KEPT_DAYS = {LEVELS[1].name: 0}  # Its records are of ten minutes: sums of one would be ten times as many.


def _rows(columns: dict[str, Array], exporter: int) -> Array:
    rows = empty_flows(columns["src"].size)
    rows["exporter"], rows["protocol"] = exporter, IPFIX
    for name, values in columns.items():
        rows[f"{name}_lo" if name in ("src", "dst") else name] = values
    rows["arrived_ns"] = rows["last_ns"]
    return rows


def _readings(columns: dict[str, Array], device: int, speed_bps: int) -> Structs:
    rows = unknown_counters(columns["time_ns"].size)
    rows["device"], rows["speed_bps"] = device, np.where(columns["interface"] == weeks.LINE, speed_bps, 10**9)
    for name in ("interface", "time_ns", "in_octets", "out_octets"):
        rows[name] = columns[name]
    for name in ("in_errors", "out_errors", "in_discards"):  # They have good cables.
        rows[name] = 0
    return rows


def _told(found: list[archive_server.Told]) -> pa.Table:
    """Rows of the table `readings`."""
    units = {"processor load": "%", "uptime": "s"}
    return pa.table(
        {
            "time_ns": pa.array([one.time_ns for one in found], pa.int64()),
            "device": pa.array([archive_server.ADDRESS] * len(found), pa.string()),
            "object": pa.array([one.object for one in found], pa.string()),
            "measure": pa.array([one.measure for one in found], pa.string()),
            "value": pa.array([one.value for one in found], pa.float64()),
            "unit": pa.array([units.get(one.measure, "bytes") for one in found], pa.string()),
        }
    )


def _results(found: list[tuple[str, dict[str, Any]]]) -> pa.Table:
    """Rows of the table `probes`."""
    by_name: dict[str, list[dict[str, Any]]] = {}
    for name, own in found:
        by_name.setdefault(name, []).append(own)
    return pa.concat_tables([rows_of(name, own) for name, own in by_name.items()])


def _held(writer: HistoryWriter) -> None:
    """Who had which address and was behind which port, and what devices said of themselves."""
    for name, rows in ((ADDRESSES, archive_server.addresses()), (NEIGHBOURS, archive_server.neighbours())):
        columns = zip(*rows, strict=True)
        names = (*TABLE[name].same, "to_ns")
        writer.append_rows(name, pa.table({key: pa.array(values) for key, values in zip(names, columns, strict=True)}))
    told = dict(zip(("time_ns", "device", "name", "text"), zip(*archive_server.TEXTS, strict=True), strict=True))
    writer.append_rows(TEXTS, pa.table(told))


def write_weeks(folder: Path, progress: Progress = go_on) -> Path:
    """Writes the history, its second half in a process of its own; found again if it is there already.

    Raises HistoryError; Cancelled when `progress` says so.
    """
    if is_history(folder):
        return folder
    part, later = (folder.with_name(f"{folder.name}.{end}") for end in ("part", "later.part"))
    for one in (part, later):  # Of a run that was killed.
        shutil.rmtree(one, ignore_errors=True)
    half = weeks.DAYS // 2 + 1  # The other process has to simulate these days, too.
    beside = subprocess.Popen([sys.executable, "-m", "yaffle.history.weeks", str(later), str(half), str(weeks.DAYS)])
    try:
        write_days(part, 0, half, lambda share, words: progress(0.9 * share, words))
        while beside.poll() is None:
            _go_on_or_end(progress, 0.95)
            time.sleep(_LOOK_S)
    finally:
        beside.kill()  # It has ended, or nobody waits for it any more.
        beside.wait()
    if beside.returncode:
        raise HistoryError(f"{later}: the later weeks could not be written")
    _move_hours(later, part)
    now_ns = weeks.START_NS + weeks.DAYS * DAY_NS + _A_LITTLE_LATER_NS
    writer = HistoryWriter(part, now_ns=lambda: now_ns, settle=False)
    writer.tidy()  # The last reading of one half lies in the first hour of the other.
    _held(writer)
    writer.close()
    part.rename(folder)
    return folder


def write_days(folder: Path, first: int, last: int, progress: Progress = go_on) -> None:
    """Writes a history of some of the days. Raises HistoryError; Cancelled when `progress` says so."""
    routers = {router: (k, speed) for k, (_, router, speed) in enumerate(weeks.SITES.values())}
    exporters = [Exporter(router, 1, IPFIX, interfaces=dict(weeks.INTERFACES)) for router in routers]
    now_ns = weeks.START_NS
    writer = HistoryWriter(folder, _KEPT_DAYS, now_ns=lambda: now_ns, settle=False)
    names = {(k, number): name for k in range(len(routers)) for number, name in weeks.INTERFACES.items()}
    hours, waits = weeks.hours(), DrawnWaits(folder)
    try:
        for day in range(last):
            own = list(chain.from_iterable(islice(hours, 24)))
            for one in own:
                exporters[routers[one.router][0]].flow_records += one.flows["src"].size
            if day < first:
                continue
            now_ns = weeks.START_NS + (day + 1) * DAY_NS - 1
            for exporter in exporters:
                exporter.records, exporter.datagrams = exporter.flow_records, exporter.flow_records // 20
            readings = np.concatenate([_readings(one.counters, *routers[one.router]) for one in own])
            counters = Counters(devices=list(routers), names=names, rows=readings)
            flows = np.concatenate([_rows(one.flows, routers[one.router][0]) for one in own])
            writer.append(FlowRecords(flows, exporters, counters=counters))
            writer.append_rows(READINGS, _told(list(archive_server.readings(day))))
            writer.append_rows(PROBES, _results([test for one in own for test in kept_tests.tests_of(one)]))
            for one in own:
                waits.take(one)
            if (minutes := waits.end_day(day)).num_rows:
                writer.append_rows(WAITS, minutes)
            now_ns += _A_LITTLE_LATER_NS
            writer.tidy()
            _go_on_or_end(progress, (day + 1 - first) / (last - first))
    finally:
        writer.close()


def _go_on_or_end(progress: Progress, share: float) -> None:
    if not progress(share, "writing four weeks of flow records"):
        raise Cancelled


def _move_hours(later: Path, into: Path) -> None:
    """Puts the hours and days of a history to another that holds others, and what was told of who told."""
    for file in later.glob("*/*/*.parquet"):
        own = into / file.relative_to(later)
        own.parent.mkdir(parents=True, exist_ok=True)
        file.rename(own)
    (later / EXPORTERS).replace(into / EXPORTERS)
    shutil.rmtree(later)


if __name__ == "__main__":
    write_days(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))
