"""Visits of packets at nodes, whoever told of them: one form for traces in packets and for reports about them."""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Structs

TRACE, REPORT = 0, 1  # who told
# One row a packet at a node. flow: row of Visits.flows; packet: the same number for all visits of one packet; place:
# its order along the way; node, ingress, egress: -1 where it is not told; port: the egress, also where only others'
# traces tell it; arrived_ns: at the node, in one clock for all nodes; delay_ns: at the node and on the wire behind it
# (traces), or at the node alone (reports); queue: octets that waited before it; silent: routers before this node that
# only the hop limit tells of.
VISIT = np.dtype(
    [
        ("flow", np.int32), ("packet", np.int64), ("place", np.int32), ("teller", np.int8), ("node", np.int64),
        ("ingress", np.int64), ("egress", np.int64), ("port", np.int64), ("arrived_ns", np.int64),
        ("delay_ns", np.int64), ("queue", np.int64), ("octets", np.int64), ("silent", np.int16),
        ("dropped", np.bool_), ("tracked", np.bool_), ("cut", np.bool_), ("timed", np.bool_),
    ]
)  # fmt: skip


@dataclass(frozen=True)
class FlowKey:
    """One direction of a conversation."""

    transport: str
    src: str
    src_port: int
    dst: str
    dst_port: int


@dataclass
class Visits:
    """All that was told, ordered by flow, packet and place along the way."""

    rows: Structs = field(default_factory=lambda: np.zeros(0, VISIT))
    flows: list[FlowKey] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def add(self, other: "Visits") -> None:
        """Takes in what others told; flows of the same ends are one."""
        known = {key: k for k, key in enumerate(self.flows)}
        place = np.array([known.setdefault(key, len(known)) for key in other.flows], np.int32)
        self.flows = list(known)
        rows = other.rows.copy()
        if rows.size:
            rows["flow"] = place[rows["flow"]]
            rows["packet"] += int(self.rows["packet"].max()) + 1 if self.rows.size else 0
        self.rows = np.concatenate([self.rows, rows])
        self.rows = self.rows[np.lexsort((self.rows["place"], self.rows["packet"], self.rows["flow"]))]
        self.notes += other.notes


def blank(count: int) -> Structs:
    """Rows of which nothing is known."""
    rows = np.zeros(count, VISIT)
    for name in ("node", "ingress", "egress", "port", "arrived_ns", "delay_ns", "queue"):
        rows[name] = -1
    rows["timed"] = True
    return rows
