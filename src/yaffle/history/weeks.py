"""The demo's four weeks as a history: what its routers told, written as if it had been received then."""

import shutil
from itertools import chain, islice
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.demo import archive_server, kept_tests, weeks
from yaffle.errors import Cancelled
from yaffle.history.drawn_waits import DrawnWaits
from yaffle.history.layout import ADDRESSES, DAY_NS, NEIGHBOURS, PROBES, READINGS, TABLE, TEXTS, WAITS, is_history
from yaffle.history.probe_rows import rows_of
from yaffle.history.writer import HistoryWriter
from yaffle.progress import Progress, go_on
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.flow_table import IPFIX, Exporter, FlowRecords, empty_flows

_A_LITTLE_LATER_NS = 600 * 10**9


def _rows(columns: dict[str, Array], exporter: int) -> Array:
    rows = empty_flows(columns["src"].size)
    rows["exporter"], rows["protocol"] = exporter, IPFIX
    for name, values in columns.items():
        rows[f"{name}_lo" if name in ("src", "dst") else name] = values
    rows["arrived_ns"] = rows["last_ns"]
    return rows


def _readings(columns: dict[str, Array], device: int, speed_bps: int) -> Array:
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
    """Writes the history; found again if it is there already.

    Raises HistoryError; Cancelled when `progress` says so.
    """
    if is_history(folder):
        return folder
    routers = {router: (k, speed) for k, (_, router, speed) in enumerate(weeks.SITES.values())}
    exporters = [Exporter(router, 1, IPFIX, interfaces=dict(weeks.INTERFACES)) for router in routers]
    now_ns = weeks.START_NS
    part = folder.with_name(folder.name + ".part")
    shutil.rmtree(part, ignore_errors=True)  # Of a run that was killed.
    writer = HistoryWriter(part, now_ns=lambda: now_ns, settle=False)
    names = {(k, number): name for k in range(len(routers)) for number, name in weeks.INTERFACES.items()}
    hours, waits = weeks.hours(), DrawnWaits(part)
    for day in range(weeks.DAYS):
        now_ns = weeks.START_NS + (day + 1) * DAY_NS - 1
        flows, readings = [], []
        tests: list[tuple[str, dict[str, Any]]] = []
        for one in chain.from_iterable(islice(hours, 24)):
            number, speed = routers[one.router]
            waits.take(one)
            tests += kept_tests.tests_of(one)
            flows.append(_rows(one.flows, number))
            readings.append(_readings(one.counters, number, speed))
            exporters[number].flow_records += flows[-1].size
        for exporter in exporters:
            exporter.records, exporter.datagrams = exporter.flow_records, exporter.flow_records // 20
        counters = Counters(devices=list(routers), names=names, rows=np.concatenate(readings))
        writer.append(FlowRecords(np.concatenate(flows), exporters, counters=counters))
        writer.append_rows(READINGS, _told(list(archive_server.readings(day))))
        writer.append_rows(PROBES, _results(tests))
        if (minutes := waits.end_day(day)).num_rows:
            writer.append_rows(WAITS, minutes)
        now_ns += _A_LITTLE_LATER_NS
        writer.tidy()
        if not progress((day + 1) / weeks.DAYS, "writing four weeks of flow records"):
            writer.close()
            raise Cancelled
    _held(writer)
    writer.close()
    part.rename(folder)
    return folder
