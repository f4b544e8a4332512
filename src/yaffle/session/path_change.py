"""A flow before it went another path and after: its packets' delay, and each node of both paths."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.hops.paths import PathChange
from yaffle.hops.visits import FlowKey, Visits
from yaffle.quantiles import median, p95
from yaffle.session.scene import Scene

_MOST_POINTS = 20_000
_AROUND_NS = 10_000_000_000  # so much before and after, unless the path changed again


@dataclass(frozen=True)
class NodeSide:
    """One node of a path. Delays in ns, NaN where none was told; None: a router that only the hop limit tells of."""

    node: int | None
    packets: int
    median_ns: float
    p95_ns: float


@dataclass(frozen=True)
class ChangeCourse:
    """Both sides of a change. delay_ns: of each packet, in all nodes that told of it."""

    change: PathChange
    first_ns: int
    last_ns: int
    arrived_ns: Array
    delay_ns: Array
    before: list[NodeSide]
    after: list[NodeSide]

    def median_ns(self, *, after: bool) -> float:
        """Of one side's packets."""
        side = (self.arrived_ns >= self.change.time_ns) == after
        return median(self.delay_ns[side])


def change_course(scene: Scene, change: PathChange) -> ChangeCourse:
    """A change with what lies between the changes before it and after it."""
    told = scene.evidence.analysis.telemetry
    own = _own(told.visits, change.flow)
    others = [one.time_ns for one in told.path_changes if one.flow == change.flow and one.time_ns != change.time_ns]
    first = max([change.time_ns - _AROUND_NS, *(at for at in others if at < change.time_ns)])
    last = min([change.time_ns + _AROUND_NS, *(at - 1 for at in others if at > change.time_ns)])
    own = own[(own["arrived_ns"] >= first) & (own["arrived_ns"] <= last) & ~own["dropped"]]
    entered, delay = _by_packet(own)
    parts = [own[np.isin(own["packet"], own["packet"][side])] for side in _sides(own, change)]
    if entered.size:
        first, last = max(first, int(entered.min())), min(last, int(entered.max()))
    shown = slice(None, None, max(1, entered.size // _MOST_POINTS))
    before, after = (
        [_node(node, part) for node in nodes] for nodes, part in zip((change.before, change.after), parts, strict=True)
    )
    return ChangeCourse(change, first, last, entered[shown], delay[shown], before, after)


def _own(visits: Visits, flow: FlowKey) -> Array:
    number = next((k for k, key in enumerate(visits.flows) if key == flow), -1)
    return np.asarray(visits.rows[visits.rows["flow"] == number])


def _sides(own: Array, change: PathChange) -> tuple[Array, Array]:
    """Visits of packets that entered before the change, and of those that came after."""
    entered = np.zeros(own.size, np.int64)
    _, place = np.unique(own["packet"], return_inverse=True)
    if own.size:
        least = np.full(int(place.max()) + 1, np.iinfo(np.int64).max)
        np.minimum.at(least, place, own["arrived_ns"])
        entered = least[place]
    return entered < change.time_ns, entered >= change.time_ns


def _by_packet(own: Array) -> tuple[Array, Array]:
    """(when each packet entered, its delay in all nodes that told one), in order of time."""
    if not own.size:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    _, place = np.unique(own["packet"], return_inverse=True)
    entered = np.full(int(place.max()) + 1, np.iinfo(np.int64).max)
    np.minimum.at(entered, place, own["arrived_ns"])
    delay = np.bincount(place, np.maximum(0, own["delay_ns"])).astype(np.int64)
    order = np.argsort(entered, kind="stable")
    return entered[order], delay[order]


def _node(node: int | None, part: Array) -> NodeSide:
    own = part[part["node"] == node] if node is not None else part[:0]
    delay = own["delay_ns"][own["delay_ns"] >= 0]
    return NodeSide(node, int(own.size), median(delay), p95(delay))
