"""Flow records as columns, whoever exported them."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.arrays import Array, Structs
from yaffle.records.counter_table import Counters
from yaffle.units import count, size

PROTOCOLS = ("netflow-v5", "netflow-v9", "ipfix", "sflow-v5", "packets", "sockets")
V5, V9, IPFIX, SFLOW, PACKETS, SOCKETS = range(6)  # The last two: made of a capture, by its point; by a host's kernel.
EXACT, SCALED, UNKNOWN = "exact", "scaled", "unknown"

# What a sender's kernel measured of its direction; -1 where nobody did. Sums of many records, first those that add up:
# segments sent again, retransmission timeouts; the time in which something was under way, and how much of that the
# receiver's window or the sender's own buffer held it up.
ADDITIVE = ("retransmissions", "timeouts", "busy_ns", "receiver_limited_ns", "sender_limited_ns")
ROUND_TRIP, FLOOR = "round_trip_ns", "floor_ns"  # smoothed, a mean by packets; the least since the connection began
MEASURED = (*ADDITIVE, ROUND_TRIP, FLOOR)
# One row a record, or a sum of so many `records`. Addresses as everywhere: two halves, IPv4 in the low one. Times ns,
# in the collector's clock.
FLOW = np.dtype(
    [
        ("exporter", np.int32), ("protocol", np.uint8), ("transport", np.uint8), ("ipv6", np.uint8), ("dscp", np.uint8),
        ("post_dscp", np.int16), ("direction", np.int8), ("flags", np.uint8), ("src_port", np.uint16),
        ("dst_port", np.uint16),
        ("src_hi", np.uint64), ("src_lo", np.uint64), ("dst_hi", np.uint64), ("dst_lo", np.uint64),
        ("ingress", np.int64), ("egress", np.int64), ("application", np.int64), ("next_hop", np.int64),
        ("highest_ttl", np.int16), ("sampled", np.uint8),
        ("first_ns", np.int64), ("last_ns", np.int64), ("packets", np.int64), ("octets", np.int64),
        ("sampling", np.int64), ("arrived_ns", np.int64),
        ("records", np.int64),
        *((name, np.int64) for name in MEASURED),
    ],
    align=True,
)  # fmt: skip


Columns = dict[str, Array]  # of rows of FLOW, each by itself: what is sorted and picked lies close together


def empty_flows(count: int) -> Structs:
    """Rows in which nothing is known: -1 where a number could be 0."""
    rows = np.zeros(count, FLOW)
    for name in (
        "post_dscp",
        "direction",
        "ingress",
        "egress",
        "application",
        "next_hop",
        "highest_ttl",
        "first_ns",
        "last_ns",
        *MEASURED,
    ):
        rows[name] = -1
    rows["sampling"] = rows["records"] = 1
    return rows


@dataclass
class Exporter:
    """One exporting process: an address, a domain of its own numbers, a protocol."""

    address: str
    domain: int
    protocol: int  # index into PROTOCOLS
    records: int = 0  # of data, options among them
    flow_records: int = 0
    datagrams: int = 0
    lost_records: int = 0
    lost_datagrams: int = 0
    estimated: bool = False  # its numbers count datagrams: how many records those held is not known
    sampling: int = 1
    sampling_known: bool = True
    clock_offset_ns: int = 0  # of the exporter's clock, ahead of the collector's
    boots: int = 1
    undecoded: int = 0  # bytes of sets whose template never came
    interfaces: dict[int, str] = field(default_factory=dict)
    applications: dict[int, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    @property
    def counts(self) -> str:
        """How its counts are to be taken: exact, scaled, or unknown."""
        return self.counts_of(self.sampling)

    def counts_of(self, sampling: int) -> str:
        """The same of one record."""
        if not self.sampling_known:
            return UNKNOWN
        return SCALED if sampling > 1 else EXACT

    @property
    def sentence(self) -> str:
        """What it told, and how far that can be trusted."""
        parts = [f"{count(self.flow_records)} flow records"]
        if self.counts == SCALED:
            parts.append(f"sampling 1:{self.sampling}, counts scaled")
        elif self.counts == UNKNOWN:
            parts.append("it names a sampler and never told its rate: counts may be too low")
        if self.lost_records:
            parts.append(f"{'about ' if self.estimated else ''}{count(self.lost_records)} records missing")
        if self.undecoded:
            parts.append(f"{size(self.undecoded)} could not be read: no template received")
        if self.boots > 1:
            parts.append(f"booted {self.boots - 1} time{'s' if self.boots > 2 else ''}")
        return f"{self.address}, domain {self.domain}, {PROTOCOLS[self.protocol]}: {'; '.join([*parts, *self.notes])}"


def exporter_of(told: dict[str, Any]) -> Exporter:
    """An exporter from JSON, which made texts of the numbers of what it names.

    Raises KeyError, TypeError or ValueError.
    """
    named = {
        part: {int(number): str(name) for number, name in told[part].items()} for part in ("interfaces", "applications")
    }
    return Exporter(**{**told, **named})


@dataclass
class FlowRecords:
    """All records, their exporters, and what was told beside them."""

    rows: Structs = field(default_factory=lambda: np.zeros(0, FLOW))
    exporters: list[Exporter] = field(default_factory=list)
    own: dict[int, dict[str, int | str]] = field(
        default_factory=dict
    )  # by row: elements of enterprises, "ENTERPRISE/NUMBER", or the number alone
    counters: Counters = field(default_factory=Counters)  # of interfaces
