"""The demo's four weeks as a history: what its routers told, written as if it had been received then."""

import shutil
from pathlib import Path

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.reader import Progress, go_on
from yaffle.demo import weeks
from yaffle.errors import Cancelled
from yaffle.history.layout import HOUR_NS, is_history
from yaffle.history.writer import HistoryWriter
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
    for hour, told in enumerate(weeks.hours()):
        now_ns = weeks.START_NS + (hour + 1) * HOUR_NS - 1
        counters = Counters(
            devices=list(routers),
            names={(k, number): name for k in range(len(routers)) for number, name in weeks.INTERFACES.items()},
        )
        parts = []
        for one in told:
            number, speed = routers[one.router]
            parts.append(_rows(one.flows, number))
            readings = unknown_counters(one.counters["time_ns"].size)
            readings["device"], readings["speed_bps"] = (
                number,
                np.where(one.counters["interface"] == weeks.LINE, speed, 10**9),
            )
            for name in ("interface", "time_ns", "in_octets", "out_octets"):
                readings[name] = one.counters[name]
            counters.rows = np.concatenate([counters.rows, readings])
            exporters[number].flow_records += parts[-1].size
            exporters[number].records, exporters[number].datagrams = (
                exporters[number].flow_records,
                exporters[number].flow_records // 20,
            )
        writer.append(FlowRecords(np.concatenate(parts), exporters, counters=counters))
        if hour % 24 == 23:
            now_ns += _A_LITTLE_LATER_NS
            writer.tidy()
            if not progress((hour + 1) / (weeks.DAYS * 24), "writing four weeks of flow records"):
                writer.close()
                raise Cancelled
    writer.close()
    part.rename(folder)
    return folder
