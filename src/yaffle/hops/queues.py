"""Queues that stood: from when to when, who filled them, who waited for them, who was dropped there.

A packet waited when it spent more than a bound, and more than three times the least that any packet spent there. Such
packets with gaps under 20 ms between one's departure and the next one's arrival are one stretch.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Structs
from yaffle.hops.visits import REPORT, FlowKey, Visits

BOUND_NS = {False: 1_000_000, True: 100_000}  # by trace, by report
_FLOORS, _GAP_NS = 3, 20_000_000
_LEAST_PACKETS = 3
CULPRIT = 0.1  # share of the octets


@dataclass(frozen=True)
class Culprit:
    """Who filled a queue, and its share of the octets in it."""

    flow: FlowKey
    share: float


@dataclass(frozen=True)
class Victim:
    """Who else waited for it: packets that spent more than the bound over their own least, and the most that was."""

    flow: FlowKey
    packets: int
    added_ns: int


@dataclass(frozen=True)
class Congestion:
    """One stretch of one queue. peak_queue: octets, -1 where no depth was told."""

    node: int
    egress: int
    first_ns: int
    last_ns: int
    peak_queue: int
    peak_delay_ns: int
    packets: int
    culprits: tuple[Culprit, ...]
    victims: tuple[Victim, ...]
    dropped: int


@dataclass(frozen=True)
class Drops:
    """Packets of a flow that a queue dropped."""

    node: int
    egress: int
    flow: FlowKey
    packets: int


def stood(visits: Visits) -> list[Congestion]:
    """All stretches in which a queue stood, in order of their beginnings."""
    rows = visits.rows
    found: list[Congestion] = []
    known = rows[(rows["delay_ns"] >= 0) & (rows["node"] >= 0)]
    known = known[np.lexsort((known["arrived_ns"], known["port"], known["node"]))]
    lost = rows[rows["dropped"]]
    gone_at = by_queue(lost)
    for queue, own in by_queue(known).items():
        found += _of_queue(visits, own, gone_at.get(queue, lost[:0]), *queue)
    return sorted(found, key=lambda one: one.first_ns)


def by_queue(rows: Structs) -> dict[tuple[int, int], Array]:
    """Visits by (node, port), in the order in which they come."""
    if not rows.size:
        return {}
    rows = rows[np.lexsort((rows["port"], rows["node"]))]
    other = (np.diff(rows["node"]) != 0) | (np.diff(rows["port"]) != 0)
    return {(int(own["node"][0]), int(own["port"][0])): own for own in np.split(rows, np.flatnonzero(other) + 1)}


def _of_queue(visits: Visits, own: Structs, gone: Structs, node: int, egress: int) -> list[Congestion]:
    reported = bool((own["teller"] == REPORT).any())
    usual = own["tracked"] if own["tracked"].any() else np.zeros(own.size, bool)
    floor = int(own["delay_ns"][usual].min()) if usual.any() else 0
    bound = max(BOUND_NS[reported], _FLOORS * floor)
    waited = np.flatnonzero((own["delay_ns"] > bound) | (reported & ~usual & ~own["tracked"] & ~usual.any()))
    if not waited.size:
        return []
    ends = np.maximum.accumulate(own["arrived_ns"][waited] + own["delay_ns"][waited])
    apart = np.flatnonzero(own["arrived_ns"][waited][1:] - ends[:-1] >= _GAP_NS) + 1
    floors, gone_ns = _floors(own, floor), np.sort(gone["arrived_ns"])
    found = []
    for part in np.split(waited, apart):
        if part.size < _LEAST_PACKETS:
            continue
        first = int(own["arrived_ns"][part[0]])
        last = int((own["arrived_ns"][part] + own["delay_ns"][part]).max())
        inside = own[slice(*np.searchsorted(own["arrived_ns"], (first, own["arrived_ns"][part[-1]] + 1)))]
        culprits = _culprits(visits, inside)
        victims = _victims(visits, own[part], floors, bound, {one.flow for one in culprits})
        dropped = int(np.searchsorted(gone_ns, last, "right") - np.searchsorted(gone_ns, first))
        depth = int(inside["queue"].max())
        found.append(Congestion(node, egress, first, last, depth, int(own["delay_ns"][part].max()), part.size,
                                culprits, victims, dropped))  # fmt: skip
    return found


def _floors(own: Structs, floor: int) -> dict[int, int]:
    """The least that each flow spent there; of flows of which only what waited is told, the least of any."""
    order = np.argsort(own["flow"], kind="stable")
    mine = own[order]
    begins = np.flatnonzero(np.concatenate([[True], np.diff(mine["flow"]) != 0]))
    least = np.minimum.reduceat(mine["delay_ns"], begins)
    tracked = np.logical_or.reduceat(mine["tracked"], begins)
    return dict(zip(mine["flow"][begins].tolist(), np.where(tracked, least, floor).tolist(), strict=True))


def _culprits(visits: Visits, inside: Structs) -> tuple[Culprit, ...]:
    flows, row = np.unique(inside["flow"], return_inverse=True)
    octets = np.bincount(row, inside["octets"].astype(np.float64), flows.size)
    shares = octets / max(1.0, float(octets.sum()))
    order = np.argsort(-shares, kind="stable")
    return tuple(Culprit(visits.flows[int(flows[k])], float(shares[k])) for k in order.tolist() if shares[k] >= CULPRIT)


def _victims(
    visits: Visits, part: Structs, floors: dict[int, int], bound: int, culprits: set[FlowKey]
) -> tuple[Victim, ...]:
    part = part[np.argsort(part["flow"], kind="stable")]
    found = []
    for own in np.split(part, np.flatnonzero(np.diff(part["flow"])) + 1):
        flow = int(own["flow"][0])
        added = own["delay_ns"] - floors[flow]
        late = added[added > bound]
        if late.size and visits.flows[flow] not in culprits:
            found.append(Victim(visits.flows[flow], int(late.size), int(late.max())))
    return tuple(sorted(found, key=lambda one: -one.added_ns))


def drops(visits: Visits) -> list[Drops]:
    """What queues dropped, by flow, most first."""
    rows = visits.rows[visits.rows["dropped"]]
    kinds, counts = np.unique(rows[["node", "port", "flow"]], return_counts=True)
    found = [
        Drops(node, egress, visits.flows[flow], count)
        for (node, egress, flow), count in zip(kinds.tolist(), counts.tolist(), strict=True)
    ]
    return sorted(found, key=lambda one: -one.packets)
