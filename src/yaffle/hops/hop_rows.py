"""Rows of the table `hops`: what nodes told of a stretch of time, by node and egress, with the queues that stood, what
was dropped, and flows that went another way. What has parts of its own stands there as JSON.
"""

import json
from collections.abc import Container, Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.hops.queues import by_queue
from yaffle.hops.telemetry import Telemetry
from yaffle.hops.visits import TRACE, FlowKey, Visits
from yaffle.quantiles import median, p95

PASSED, STOOD, DROPPED, MOVED, ON_PATH = "passed", "queue stood", "dropped", "other way", "on path"
_WHOLE = ("node", "egress", "packets", "queue_max_bytes")
_FIGURES = ("delay_min_us", "delay_median_us", "delay_p95_us", "delay_max_us", "delay_mean_us")
_PARTS = ("culprits", "victims", "flow", "way_before", "way_after", "exporter")
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        ("to_ns", pa.int64()),
        ("run", pa.int64()),  # of what a capture's accounting told; null of what was received
        ("capture", pa.string()),
        ("what", pa.string()),
        *((name, pa.int64()) for name in _WHOLE),
        *((name, pa.float64()) for name in _FIGURES),
        *((name, pa.string()) for name in _PARTS),
    ]
)
MINUTE_NS = 60 * 10**9
MOST_QUEUES = 4096  # of one stretch of time, busiest first
_MOST_EVENTS = 1024
_US = 1e3


def rows_of(told: Telemetry, from_ns: int, to_ns: int) -> pa.Table:
    """What was told from one moment to another. Delays in us; egress null where it is not told."""
    rows = [*_passed(told.visits.rows, from_ns, to_ns), *_stood(told), *_dropped(told, from_ns, to_ns), *_moved(told)]
    return table_of(rows)


def minutes_of(told: Telemetry, from_ns: int, until_ns: int, known: Container[object] = ()) -> Iterator[dict[str, Any]]:
    """What nodes wrote into packets (IOAM), minute by minute, of the minutes that end before a moment; known: numbers
    of minutes that are left out.
    """
    rows = told.visits.rows
    rows = rows[(rows["teller"] == TRACE) & (rows["arrived_ns"] >= from_ns)]
    minute = rows["arrived_ns"] // MINUTE_NS
    for number in np.unique(minute).tolist():
        begin, end = number * MINUTE_NS, (number + 1) * MINUTE_NS
        if end <= until_ns and number not in known:
            own = Telemetry(Visits(rows[minute == number], told.visits.flows))
            yield from rows_of(own, begin, end).to_pylist()


def moved_row(time_ns: int, flow: FlowKey, before: tuple[int | None, ...], after: tuple[int | None, ...]) -> pa.Table:
    """Of one flow that went another way than in the stretch before."""
    return table_of([_moved_row(time_ns, flow, before, after)])


def table_of(rows: Sequence[Mapping[str, Any]]) -> pa.Table:
    """Rows by the columns of the table."""
    columns = {field.name: pa.array([row.get(field.name) for row in rows], field.type) for field in SCHEMA}
    return pa.table(columns, schema=SCHEMA)


def _passed(visits: Array, from_ns: int, to_ns: int) -> Iterator[dict[str, Any]]:
    busiest = sorted(by_queue(visits[visits["node"] >= 0]).items(), key=lambda one: -one[1].size)
    for queue, own in busiest[:MOST_QUEUES]:
        row: dict[str, Any] = {
            "time_ns": from_ns, "to_ns": to_ns, "what": PASSED, **_at(*queue),
            "packets": int(own.size), "queue_max_bytes": _known(int(own["queue"].max())),
        }  # fmt: skip
        delays = own["delay_ns"][own["delay_ns"] >= 0]
        if delays.size:
            row |= {
                "delay_min_us": float(delays.min()) / _US, "delay_median_us": median(delays) / _US,
                "delay_p95_us": p95(delays) / _US, "delay_max_us": float(delays.max()) / _US,
            }  # fmt: skip
        yield row


def _stood(told: Telemetry) -> Iterator[dict[str, Any]]:
    for one in told.congestion[:_MOST_EVENTS]:
        culprits = [{**vars(own.flow), "share": own.share} for own in one.culprits]
        victims = [{**vars(own.flow), "packets": own.packets, "added_us": own.added_ns / _US} for own in one.victims]
        yield {
            "time_ns": one.first_ns, "to_ns": one.last_ns, "what": STOOD, **_at(one.node, one.egress),
            "packets": one.packets, "queue_max_bytes": _known(one.peak_queue),
            "delay_max_us": one.peak_delay_ns / _US, "culprits": json.dumps(culprits), "victims": json.dumps(victims),
        }  # fmt: skip


def _dropped(told: Telemetry, from_ns: int, to_ns: int) -> Iterator[dict[str, Any]]:
    for one in told.drops[:_MOST_EVENTS]:
        yield {
            "time_ns": from_ns, "to_ns": to_ns, "what": DROPPED, **_at(one.node, one.egress),
            "packets": one.packets, "flow": json.dumps(vars(one.flow)),
        }  # fmt: skip


def _moved(told: Telemetry) -> Iterator[dict[str, Any]]:
    for one in told.path_changes[:_MOST_EVENTS]:
        yield _moved_row(one.time_ns, one.flow, one.before, one.after)


def _moved_row(
    time_ns: int, flow: FlowKey, before: tuple[int | None, ...], after: tuple[int | None, ...]
) -> dict[str, Any]:
    return {
        "time_ns": time_ns, "to_ns": time_ns, "what": MOVED, "flow": json.dumps(vars(flow)),
        "way_before": json.dumps(before), "way_after": json.dumps(after),
    }  # fmt: skip


def _at(node: int, egress: int) -> dict[str, int | None]:
    return {"node": node, "egress": _known(egress)}


def _known(value: int) -> int | None:
    return value if value >= 0 else None
