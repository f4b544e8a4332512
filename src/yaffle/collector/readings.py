"""Numbers of hosts and devices as rows of the table `readings`."""

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa

from yaffle.records.measure import Measure

SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        ("device", pa.string()),
        ("object", pa.string()),
        ("measure", pa.string()),
        ("value", pa.float64()),
        ("unit", pa.string()),
    ]
)


@dataclass(frozen=True)
class Reading:
    """One number."""

    object: str  # processor, IP version, interface, sensor; empty of the host itself
    measure: Measure
    value: float
    time_ns: int = 0  # when it was read; 0: at the moment of all


def readings_table(device: str, found: Sequence[Reading], time_ns: int) -> pa.Table:
    """Numbers read at a moment."""
    return pa.table(
        [
            pa.array([one.time_ns or time_ns for one in found], pa.int64()),
            pa.array([device] * len(found), pa.string()),
            pa.array([one.object for one in found], pa.string()),
            pa.array([one.measure.name for one in found], pa.string()),
            pa.array([one.value for one in found], pa.float64()),
            pa.array([one.measure.unit for one in found], pa.string()),
        ],
        schema=SCHEMA,
    )
