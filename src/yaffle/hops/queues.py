"""Queues that stood: from when to when, who filled them, who waited for them, who was dropped there.

A packet waited when it spent more than a bound, and more than three times the least that any packet spent there. Such
packets with gaps under 20 ms between one's departure and the next one's arrival are one stretch.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
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
    lost = rows[rows["dropped"]]
    for node, egress in np.unique(known[["node", "port"]]).tolist():
        own = known[(known["node"] == node) & (known["port"] == egress)]
        own = own[np.argsort(own["arrived_ns"], kind="stable")]
        gone = lost[(lost["node"] == node) & (lost["port"] == egress)]
        found += _of_queue(visits, own, gone, node, egress)
    return sorted(found, key=lambda one: one.first_ns)


def _of_queue(visits: Visits, own: Array, gone: Array, node: int, egress: int) -> list[Congestion]:
    reported = bool((own["teller"] == REPORT).any())
    usual = own["tracked"] if own["tracked"].any() else np.zeros(own.size, bool)
    floor = int(own["delay_ns"][usual].min()) if usual.any() else 0
    bound = max(BOUND_NS[reported], _FLOORS * floor)
    waited = np.flatnonzero((own["delay_ns"] > bound) | (reported & ~usual & ~own["tracked"] & ~usual.any()))
    if not waited.size:
        return []
    ends = np.maximum.accumulate(own["arrived_ns"][waited] + own["delay_ns"][waited])
    apart = np.flatnonzero(own["arrived_ns"][waited][1:] - ends[:-1] >= _GAP_NS) + 1
    floors = _floors(own, floor)
    found = []
    for part in np.split(waited, apart):
        if part.size < _LEAST_PACKETS:
            continue
        first = int(own["arrived_ns"][part[0]])
        last = int((own["arrived_ns"][part] + own["delay_ns"][part]).max())
        inside = own[(own["arrived_ns"] >= first) & (own["arrived_ns"] <= own["arrived_ns"][part[-1]])]
        culprits = _culprits(visits, inside)
        victims = _victims(visits, own[part], floors, bound, {one.flow for one in culprits})
        dropped = int(((gone["arrived_ns"] >= first) & (gone["arrived_ns"] <= last)).sum())
        depth = int(inside["queue"].max())
        found.append(Congestion(node, egress, first, last, depth, int(own["delay_ns"][part].max()), part.size,
                                culprits, victims, dropped))  # fmt: skip
    return found


def _floors(own: Array, floor: int) -> dict[int, int]:
    """The least that each flow spent there; of flows of which only what waited is told, the least of any."""
    found = {}
    for flow in np.unique(own["flow"]).tolist():
        mine = own[own["flow"] == flow]
        found[flow] = int(mine["delay_ns"].min()) if mine["tracked"].any() else floor
    return found


def _culprits(visits: Visits, inside: Array) -> tuple[Culprit, ...]:
    octets = np.bincount(inside["flow"], inside["octets"].astype(np.float64), len(visits.flows))
    shares = octets / max(1.0, float(octets.sum()))
    order = np.argsort(-shares, kind="stable")
    return tuple(Culprit(visits.flows[k], float(shares[k])) for k in order.tolist() if shares[k] >= CULPRIT)


def _victims(
    visits: Visits, part: Array, floors: dict[int, int], bound: int, culprits: set[FlowKey]
) -> tuple[Victim, ...]:
    found = []
    for flow in np.unique(part["flow"]).tolist():
        if visits.flows[flow] in culprits:
            continue
        added = part["delay_ns"][part["flow"] == flow] - floors[flow]
        late = added[added > bound]
        if late.size:
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
