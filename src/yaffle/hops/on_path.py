"""Delay on the path as exporters tell it of flows (IPFIX: mean, least, most and sum from where packets entered the
domain to the exporter), in one form with what nodes tell of packets.
"""

import json
from collections.abc import Iterator
from dataclasses import dataclass

import pyarrow as pa

from yaffle.capture.addresses import address_text
from yaffle.hops.hop_rows import ON_PATH, table_of
from yaffle.hops.visits import FlowKey
from yaffle.records.elements import DELAY_MAX, DELAY_MEAN, DELAY_MIN, DELAY_SUM
from yaffle.records.flow_table import FlowRecords
from yaffle.units import transport_name

_MOST = 4096  # of what is told at once


@dataclass(frozen=True)
class PathDelay:
    """Of one flow record. Delays in us, NaN where they are not told."""

    exporter: str
    flow: FlowKey
    first_ns: int
    last_ns: int
    packets: int
    least_us: float
    mean_us: float
    most_us: float


def path_delays(found: FlowRecords) -> Iterator[PathDelay]:
    """What records tell of delay on the path, in order."""
    nan = float("nan")
    for row, own in sorted(found.own.items()):
        told = {name: float(value) for name, value in own.items() if name in _NAMES and isinstance(value, int)}
        if not told:
            continue
        one = found.rows[row]
        v6, packets = bool(one["ipv6"]), int(one["packets"])
        mean = told.get(DELAY_MEAN, told[DELAY_SUM] / packets if DELAY_SUM in told and packets else nan)
        flow = FlowKey(
            transport_name(int(one["transport"])).lower(), address_text(int(one["src_hi"]), int(one["src_lo"]), v6),
            int(one["src_port"]), address_text(int(one["dst_hi"]), int(one["dst_lo"]), v6), int(one["dst_port"]),
        )  # fmt: skip
        yield PathDelay(
            found.exporters[int(one["exporter"])].address, flow, int(one["first_ns"]), int(one["last_ns"]), packets,
            told.get(DELAY_MIN, nan), mean, told.get(DELAY_MAX, nan),
        )  # fmt: skip


_NAMES = (DELAY_MEAN, DELAY_MIN, DELAY_MAX, DELAY_SUM)


def path_delay_rows(found: FlowRecords) -> pa.Table | None:
    """The same as rows of the table `hops`; None where nobody told any."""
    if not found.own:
        return None
    rows = []
    for one in path_delays(found):
        row = {
            "time_ns": one.first_ns, "to_ns": one.last_ns, "what": ON_PATH, "exporter": one.exporter,
            "packets": one.packets, "flow": json.dumps(vars(one.flow)),
        }  # fmt: skip
        figures = {"delay_min_us": one.least_us, "delay_mean_us": one.mean_us, "delay_max_us": one.most_us}
        rows.append(row | {name: value for name, value in figures.items() if value == value})
        if len(rows) == _MOST:
            break
    return table_of(rows) if rows else None
