"""What per-hop telemetry of some captures tells: nodes, flows with their ways and hops, queues, drops, other ways."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from yaffle.arrays import Structs
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.hops.edges import EdgeFlow
from yaffle.hops.paths import FlowPath, PathChange, ways
from yaffle.hops.queues import Congestion, Drops, drops, stood
from yaffle.hops.reports import ReportForm, datagrams_of, visits_of_reports
from yaffle.hops.traces import visits_of_traces
from yaffle.hops.visits import FlowKey, Visits
from yaffle.progress import Progress, go_on, step
from yaffle.quantiles import median, p95


@dataclass(frozen=True)
class FlowHop:
    """One flow at one node, by one way in and one out; -1 where these are not told. Times in ns."""

    node: int
    ingress: int
    egress: int
    least_ns: int
    median_ns: float
    p95_ns: float
    most_ns: int
    samples: int
    queue_max: int


@dataclass(frozen=True)
class TracedFlow:
    """One direction of a conversation, as nodes told of it."""

    key: FlowKey
    packets: int
    paths: tuple[FlowPath, ...]
    hops: tuple[FlowHop, ...]


@dataclass
class Telemetry:
    """All of it. What is costly is worked out when it is first asked for."""

    visits: Visits = field(default_factory=Visits)
    edges: list[EdgeFlow] = field(default_factory=list)  # what edges of a domain wrote for each other

    @property
    def is_empty(self) -> bool:
        """Whether nobody told anything."""
        return not self.visits.rows.size and not self.edges

    @cached_property
    def _ways(self) -> tuple[dict[int, list[FlowPath]], list[PathChange]]:
        return ways(self.visits)

    @property
    def path_changes(self) -> list[PathChange]:
        """Flows that went another way, in order of time."""
        return self._ways[1]

    @cached_property
    def nodes(self) -> list[tuple[int, int]]:
        """(node, packets that it told of), most first."""
        rows = self.visits.rows[self.visits.rows["node"] >= 0]
        pairs = np.unique(np.stack([rows["node"], rows["flow"].astype(np.int64), rows["packet"]], axis=1), axis=0)
        nodes, counts = np.unique(pairs[:, 0], return_counts=True)
        order = np.argsort(-counts, kind="stable")
        return [(int(nodes[k]), int(counts[k])) for k in order.tolist()]

    @cached_property
    def flows(self) -> list[TracedFlow]:
        """All flows that were told of, in order of their first packet."""
        rows, paths = self.visits.rows, self._ways[0]
        if not rows.size:
            return []
        begins = np.flatnonzero(np.concatenate([[True], np.diff(rows["flow"]) != 0]))
        found = []
        for begin, end in zip(begins.tolist(), [*begins.tolist()[1:], rows.size], strict=True):
            own = rows[begin:end]
            flow = int(own["flow"][0])
            key, packets = self.visits.flows[flow], int(np.unique(own["packet"]).size)
            told = TracedFlow(key, packets, tuple(paths.get(flow, ())), _hops(own))
            found.append((int(own["arrived_ns"].min()), told))
        return [one for _, one in sorted(found, key=lambda one: one[0])]

    @cached_property
    def congestion(self) -> list[Congestion]:
        """Queues that stood, in order of time."""
        return stood(self.visits)

    @cached_property
    def drops(self) -> list[Drops]:
        """What queues dropped, most first."""
        return drops(self.visits)


def _hops(own: Structs) -> tuple[FlowHop, ...]:
    known = own[(own["delay_ns"] >= 0) & (own["node"] >= 0)]
    if not known.size:
        return ()
    known = known[np.lexsort((known["egress"], known["ingress"], known["node"]))]
    other = np.zeros(known.size - 1, bool)
    for name in ("node", "ingress", "egress"):
        other |= np.diff(known[name]) != 0
    found = []
    for mine in np.split(known, np.flatnonzero(other) + 1):
        node, ingress, egress = (int(mine[name][0]) for name in ("node", "ingress", "egress"))
        delays = mine["delay_ns"]
        hop = FlowHop(node, ingress, egress, int(delays.min()), median(delays), p95(delays), int(delays.max()),
                      int(delays.size), int(mine["queue"].max()))  # fmt: skip
        found.append((int(mine["arrived_ns"].min()), float(mine["place"].mean()), hop))
    return tuple(hop for _, _, hop in sorted(found, key=lambda one: (one[1], one[0])))


def find_telemetry(
    capture: Capture, payload: Payload, progress: Progress = go_on, form: ReportForm | None = None
) -> Telemetry:
    """What nodes told in and of the packets of a capture. Raises Cancelled."""
    step(progress, 0.0, "reading per-hop telemetry")
    visits, edges = visits_of_traces(capture, payload)
    form = form or ReportForm()
    visits.add(visits_of_reports(datagrams_of(capture, payload, form.ports), form.int_dscp))
    return Telemetry(visits, edges)
