"""Which way each packet went, and when a flow's way changed.

A way is the nodes in order; a router that only the hop limit tells of stands as None. A packet of which not everything
is known (a lost report, no room in the trace, dropped on the way) went a way that it fits into: the one that its flow
went at that time, else any.
"""

from collections import Counter
from dataclasses import dataclass

import numpy as np

from yaffle.hops.visits import REPORT, FlowKey, Visits

Way = tuple[int | None, ...]
_LEAST_SHARE = 0.02  # of a flow's packets that must have gone a way of reports that could be a part of another


@dataclass(frozen=True)
class FlowPath:
    """A way of a flow, and when packets entered it."""

    nodes: Way
    first_ns: int
    last_ns: int
    packets: int


@dataclass(frozen=True)
class PathChange:
    """A flow went another way: when the first packet on it entered its first node."""

    flow: FlowKey
    time_ns: int
    before: Way
    after: Way


def ways(visits: Visits) -> tuple[dict[int, list[FlowPath]], list[PathChange]]:
    """(the ways of each tracked flow, in order of their beginnings; all changes, in order of time)."""
    rows = visits.rows
    paths: dict[int, list[FlowPath]] = {}
    changes: list[PathChange] = []
    if not rows.size:
        return paths, changes
    begins = np.flatnonzero(np.concatenate([[True], np.diff(rows["flow"]) != 0]))
    for begin, end in zip(begins.tolist(), [*begins.tolist()[1:], rows.size], strict=True):
        own = rows[begin:end]
        flow = int(own["flow"][0])
        if not own["tracked"].any():
            continue
        taken = _taken(own)
        paths[flow], moved = _in_time(taken, visits.flows[flow])
        changes += moved
    return paths, sorted(changes, key=lambda one: one.time_ns)


def _taken(own: np.ndarray) -> list[tuple[int, Way, bool]]:
    """(when it entered, nodes, whether all of it must be known) of each packet of a flow, in order of time."""
    found = []
    begins = np.flatnonzero(np.concatenate([[True], np.diff(own["packet"]) != 0]))
    ends = [*begins.tolist()[1:], own.size]
    nodes, silent = own["node"].tolist(), own["silent"].tolist()
    arrived, dropped, cut = own["arrived_ns"].tolist(), own["dropped"], own["cut"]
    for begin, end in zip(begins.tolist(), ends, strict=True):
        way: list[int | None] = []
        for k in range(begin, end):
            way += [None] * silent[k]
            if nodes[k] >= 0 and (not way or way[-1] != nodes[k]):  # A drop is told beside the visit.
                way.append(nodes[k])
        if way:
            found.append((arrived[begin], tuple(way), not (dropped[begin:end].any() or cut[begin:end].any())))
    reported = bool((own["teller"] == REPORT).any())
    found.sort(key=lambda one: one[0])
    return found if not reported else _without_parts(found)


def _without_parts(found: list[tuple[int, Way, bool]]) -> list[tuple[int, Way, bool]]:
    """Reports get lost: a way that is a part of another one that more packets went is not known to be whole."""
    counts = Counter(way for _, way, _ in found)
    parts = {
        way for way in counts
        if any(other != way and fits(way, other) and counts[other] * _LEAST_SHARE <= counts[way] * 1.0
               and counts[other] > counts[way] for other in counts)
    }  # fmt: skip
    rare = {way for way in counts if any(other != way and fits(way, other) and counts[other] > counts[way]
                                         for other in counts)}  # fmt: skip
    return [(at, way, whole and way not in parts | rare) for at, way, whole in found]


def fits(part: Way, way: Way) -> bool:
    """Whether nodes stand in a way in this order."""
    rest = iter(way)
    return all(any(node == other for other in rest) for node in part if node is not None)


def _in_time(taken: list[tuple[int, Way, bool]], flow: FlowKey) -> tuple[list[FlowPath], list[PathChange]]:
    whole = list(dict.fromkeys(way for _, way, known in taken if known)) or [
        max((way for _, way, _ in taken), key=len, default=())
    ]
    held: list[list[int]] = []  # first, last, packets
    order: list[Way] = []
    changes = []
    now: Way | None = None
    for at, way, known in taken:
        if not known:
            if now is not None and fits(way, now):
                own = now
            else:
                own = next((one for one in whole if fits(way, one)), now if now is not None else whole[0])
        else:
            own = way
        if own != now:
            if now is not None and known:
                changes.append(PathChange(flow, at, now, own))
            elif now is not None:
                own = now
            if own != now:
                order.append(own)
                held.append([at, at, 0])
                now = own
        held[-1][1] = at
        held[-1][2] += 1
    return [FlowPath(way, *one) for way, one in zip(order, held, strict=True)], changes
