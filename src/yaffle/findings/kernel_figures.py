"""What senders' kernels measured of flow records, put together by label: retransmissions, timeouts, RTT, and a ledger
of
the time with data outstanding.

The ledger's parts add up: receive-window-limited, send-buffer-limited, and the rest, which was the network's (RTT, loss
recovery, congestion).
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Int64s, Structs
from yaffle.records.flow_table import ADDITIVE, FLOOR, ROUND_TRIP
from yaffle.units import share


@dataclass(frozen=True)
class KernelFigures:
    """Of some records. Times ns; round trips -1 where not known."""

    segments: int  # sent, of records that tell repeats
    retransmissions: int
    timeouts: int
    busy_ns: int
    receiver_limited_ns: int
    sender_limited_ns: int
    round_trip_ns: int
    floor_ns: int

    @property
    def retransmission_rate(self) -> float:
        """Retransmitted segments, of all that were sent."""
        return self.retransmissions / max(1, self.segments)

    @property
    def network_ns(self) -> int:
        """The rest of the time with something under way."""
        return max(0, self.busy_ns - self.receiver_limited_ns - self.sender_limited_ns)

    @property
    def words(self) -> str:
        """The ledger."""
        if not self.busy_ns:
            return ""
        parts = (
            ("network", self.network_ns),
            ("receive window", self.receiver_limited_ns),
            ("send buffer", self.sender_limited_ns),
        )
        return ", ".join(f"{name} {share(part / self.busy_ns)}" for name, part in parts if part)


def kernel_figures(rows: Structs, codes: Int64s, count: int) -> dict[int, KernelFigures]:
    """By label, of those with records that a kernel measured. rows: of FLOW; codes: the label of each."""
    told = rows[ADDITIVE[0]] >= 0
    if not told.any():
        return {}
    rows, codes = rows[told], codes[told]

    def sums(values: Array) -> Array:
        return np.bincount(codes, values.astype(np.float64), count)

    added = {name: sums(np.maximum(0, rows[name])) for name in ADDITIVE}
    segments, records = sums(rows["packets"]), sums(np.ones(rows.size))
    known = rows[ROUND_TRIP] >= 0
    weight = np.where(known, np.maximum(1, rows["packets"]), 0)
    weights, trips = sums(weight), sums(weight * np.maximum(0, rows[ROUND_TRIP]).astype(np.float64))
    floors = np.full(count, np.iinfo(np.int64).max)
    np.minimum.at(floors, codes[rows[FLOOR] >= 0], rows[FLOOR][rows[FLOOR] >= 0])
    return {
        k: KernelFigures(
            segments=int(segments[k]),
            round_trip_ns=int(trips[k] / weights[k]) if weights[k] else -1,
            floor_ns=int(floors[k]) if floors[k] < np.iinfo(np.int64).max else -1,
            **{name: int(added[name][k]) for name in ADDITIVE},
        )
        for k in np.flatnonzero(records).tolist()
    }
