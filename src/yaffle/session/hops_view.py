"""Queues in the network in a period: which stood, who filled them, which path flows took, what edges and
exporters told, and one queue over time."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.findings.queues import flow_words, node_words
from yaffle.hops.edges import EdgeFlow
from yaffle.hops.on_path import PathDelay, path_delays
from yaffle.hops.paths import PathChange
from yaffle.hops.queues import Congestion
from yaffle.hops.telemetry import FlowHop, TracedFlow
from yaffle.session.scene import Scene

_MOST_POINTS = 20_000
_MOST_DELAYS = 2000
_MARGIN = 0.5  # of a stretch, before it and after it
_LEAST_MARGIN_NS = 2_000_000


@dataclass(frozen=True)
class FlowAtHop:
    """A flow at one node of its path."""

    flow: TracedFlow
    name: str
    hop: FlowHop
    path: str


@dataclass(frozen=True)
class HopsPicture:
    """What telemetry tells of a period."""

    queues: list[Congestion]
    flows: list[FlowAtHop]
    changes: list[PathChange]
    names: dict[tuple[str, int, str, int], str]  # of flows, by their ends
    notes: list[str]
    edges: list[EdgeFlow]
    delays: list[PathDelay]  # as exporters told them, longest first
    nodes: dict[int, str]  # what nodes are called

    def queue_name(self, node: int, egress: int) -> str:
        """A queue as people name it."""
        return self.nodes[node] + (f", egress {egress}" if egress >= 0 else "")

    def name(self, one: "Congestion | PathChange", place: int = 0) -> str:
        """The flow of a change, or a queue's culprit."""
        key = one.flow if isinstance(one, PathChange) else one.culprits[place].flow
        return self.names[key.src, key.src_port, key.dst, key.dst_port]


@dataclass(frozen=True)
class QueueCourse:
    """One queue around a stretch: each packet's arrival, delay and depth before it; who filled it by time."""

    one: Congestion
    first_ns: int
    last_ns: int
    arrived_ns: Array
    delay_ns: Array
    queue: Array
    dropped_ns: Array
    edges_ns: Array  # of the intervals of `octets`
    octets: Array  # (culprits and all others, intervals): octets that came
    fillers: list[str]
    name: str  # of the queue


@dataclass(frozen=True)
class EdgeRow:
    """A flow as edges or exporters told of it. -1 and NaN where they do not."""

    flow: str
    teller: str
    packets: int
    lost: int
    reordered: int
    doubled: int
    middle_ns: float
    most_ns: float


def edge_rows(picture: HopsPicture) -> list[EdgeRow]:
    """What edges told, then what exporters did."""
    names, nan = picture.names, float("nan")
    found = [
        EdgeRow(
            names[one.key.src, one.key.src_port, one.key.dst, one.key.dst_port],
            f"{one.kind}, namespace {one.namespace}", one.packets, one.lost, one.reordered, one.doubled, one.over_ns[0],
            one.over_ns[2],
        )
        for one in picture.edges
    ]  # fmt: skip
    return found + [
        EdgeRow(
            names[one.flow.src, one.flow.src_port, one.flow.dst, one.flow.dst_port], f"exporter {one.exporter}",
            one.packets, -1, -1, -1, one.mean_us * 1e3 if one.mean_us == one.mean_us else nan, one.most_us * 1e3,
        )
        for one in picture.delays
    ]  # fmt: skip


def hops_picture(scene: Scene) -> HopsPicture | None:
    """Queues that stood, most painful first, and flows; None where nobody told anything."""
    analysis = scene.evidence.analysis
    told = analysis.telemetry
    if told.is_empty and not any(True for _ in path_delays(analysis.flows)):
        return None
    low, high = scene.first_ns, scene.last_ns
    queues = [one for one in told.congestion if one.last_ns >= low and one.first_ns <= high]
    queues.sort(key=lambda one: (-max((v.added_ns for v in one.victims), default=0), -one.dropped, -one.peak_delay_ns))
    names = {(key.src, key.src_port, key.dst, key.dst_port): flow_words(analysis, key) for key in told.visits.flows}
    nodes = {node: analysis.node_name(node) for node, _ in told.nodes}
    flows = [
        FlowAtHop(
            flow, names[flow.key.src, flow.key.src_port, flow.key.dst, flow.key.dst_port], hop, _paths(flow, nodes)
        )
        for flow in told.flows
        for hop in flow.hops
    ]
    flows.sort(key=lambda one: -one.hop.p95_ns)
    changes = [one for one in told.path_changes if low <= one.time_ns <= high]
    delays = [one for one in path_delays(analysis.flows) if one.first_ns <= high and one.last_ns >= low]
    delays.sort(key=lambda one: -np.nan_to_num(np.nanmax([one.most_us, one.mean_us, 0.0])))
    keys = [*(one.key for one in told.edges), *(one.flow for one in delays[:_MOST_DELAYS])]
    names |= {(key.src, key.src_port, key.dst, key.dst_port): flow_words(analysis, key) for key in keys}
    return HopsPicture(queues, flows, changes, names, told.visits.notes, told.edges, delays[:_MOST_DELAYS], nodes)


def path_words(nodes: "tuple[int | None, ...]", names: Mapping[int, str]) -> str:
    """A path as people read it: numbers alone where nodes have no other name."""
    return " → ".join("silent" if node is None else names.get(node, str(node)).removeprefix("node ") for node in nodes)


def _paths(flow: TracedFlow, names: Mapping[int, str]) -> str:
    return "; then ".join(path_words(path.nodes, names) for path in flow.paths[:3]) + (
        "; …" if len(flow.paths) > 3 else ""
    )


def along_path(flow: TracedFlow) -> list[FlowHop]:
    """A flow's nodes along the path that most of its packets took, each by the interfaces that most of them took there;
    where no path is told, each node once.
    """
    most: dict[int, FlowHop] = {}
    for hop in flow.hops:
        if hop.node not in most or hop.samples > most[hop.node].samples:
            most[hop.node] = hop
    usual = max(flow.paths, key=lambda path: path.packets).nodes if flow.paths else tuple(most)
    return [most[node] for node in usual if node is not None and node in most]


def queue_course(scene: Scene, one: Congestion) -> QueueCourse:
    """A queue around one stretch of it."""
    visits = scene.evidence.analysis.telemetry.visits
    margin = max(_LEAST_MARGIN_NS, int(_MARGIN * (one.last_ns - one.first_ns)))
    first, last = one.first_ns - margin, one.last_ns + margin
    rows = visits.rows
    own = rows[(rows["node"] == one.node) & (rows["port"] == one.egress) & (rows["arrived_ns"] >= first)
               & (rows["arrived_ns"] <= last)]  # fmt: skip
    own = own[np.argsort(own["arrived_ns"], kind="stable")]
    gone = own["arrived_ns"][own["dropped"]]
    own = own[~own["dropped"] & (own["delay_ns"] >= 0)]
    shown = own[:: max(1, own.size // _MOST_POINTS)]
    edges = np.linspace(first, last, 81).astype(np.int64)
    place = np.clip(np.searchsorted(edges, own["arrived_ns"], "right") - 1, 0, 79)
    keys = [culprit.flow for culprit in one.culprits]
    number = {key: k for k, key in enumerate(keys)}
    group = np.array([number.get(key, len(keys)) for key in visits.flows], np.int64)[own["flow"]]
    octets = np.zeros((len(keys) + 1, 80))
    np.add.at(octets, (group, place), own["octets"])
    fillers = [flow_words(scene.evidence.analysis, key) for key in keys] + ["all others"]
    return QueueCourse(one, first, last, shown["arrived_ns"], shown["delay_ns"], shown["queue"], gone, edges, octets,
                       fillers, node_words(scene.evidence.analysis, one.node, one.egress))  # fmt: skip
