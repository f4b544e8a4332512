"""The way of flows through the exporters that reported them: interfaces, markings at each, and where counts begin to
fall.

Exporters of one way are ordered by what they tell of it: next hops, hop limits, markings (who changes one comes after
those that saw the old one and before those that saw the new one), and counts, which do not grow. Counts are compared of
flows only whose records cover their time at both exporters; sampled counts are scaled, and their uncertainty is the one
of counting packets with a chance of 1 in N: two standard deviations are 2 N sqrt(n / N).
"""

from collections import defaultdict
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from yaffle.arrays import Int64s, Structs
from yaffle.capture.registry import marking
from yaffle.findings.flow_labels import exporter_words
from yaffle.findings.flow_source import HeldFlows
from yaffle.kernels import kernel, uint64
from yaffle.records.flow_table import PACKETS
from yaffle.units import count, share

_MOST_FLOWS = 20_000  # The largest that are followed.
_HOLE_NS, _HOLE = (
    1_000_000_000,
    0.02,
)  # So much of a flow's time may lack records for its counts to be compared: the more of both.
_SURE = 2.0  # Standard deviations.


@dataclass(frozen=True)
class FlowHop:
    """One exporter on a way."""

    exporter: str
    ingress: str
    egress: str
    packets: float  # of all flows of the way, as it counted them (scaled)
    flows: int
    words: str  # what happened since the exporter before
    lost: float  # packets fewer than at the exporter before, of flows that can be compared; nan at the first
    compared: float  # packets of those flows at the exporter before
    uncertainty: float  # of `lost`: two standard deviations of sampling, 0 without
    remarked_rows: dict[
        tuple[int, int], list[int]
    ]  # (DSCP before, after): a record of each flow; by what it tells of itself, or the next one sees

    @property
    def remarked(self) -> dict[tuple[int, int], int]:
        """(DSCP before, after): flows."""
        return {change: len(rows) for change, rows in self.remarked_rows.items()}


@dataclass(frozen=True)
class FlowWay:
    """Flows that passed the same interfaces of the same exporters."""

    hops: list[FlowHop]
    flows: int
    octets: float
    ordered: bool  # whether anything told the order
    rows: tuple[int, ...]  # of each flow the first record of the first exporter

    @property
    def words(self) -> str:
        """The way in words."""
        return " → ".join(hop.exporter for hop in self.hops)


@dataclass(frozen=True)
class _Seen:
    """One flow at one exporter."""

    exporter: int
    ingress: int
    egress: int
    packets: float
    octets: float
    dscp: int
    post: int
    first_ns: int
    last_ns: int
    covered_ns: int
    sampling: int
    ttl: int
    next_hop: int
    row: int  # of its first record


def _per_exporter(rows: Structs, places: Int64s) -> list[tuple[int, _Seen]]:
    """(number of the flow, what one exporter told of it), the largest flows.

    places: of the rows in all that is held.
    """
    names = ("src_hi", "src_lo", "dst_hi", "dst_lo", "src_port", "dst_port", "transport")
    mixed = np.zeros(rows.size, np.uint64)
    for name in names:
        mixed = (mixed ^ rows[name].astype(np.uint64)) * uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> uint64(29)
    _, flow = np.unique(mixed, return_inverse=True)
    largest = np.argsort(-np.bincount(flow, rows["octets"]))[:_MOST_FLOWS]
    mark = np.zeros(int(flow.max(initial=-1)) + 1, bool)
    mark[largest] = True
    rows, places, flow = rows[mark[flow]], places[mark[flow]], flow[mark[flow]]
    key = flow * (int(rows["exporter"].max(initial=0)) + 1) + rows["exporter"]
    order = np.lexsort((rows["first_ns"], key))
    if not order.size:
        return []
    ordered, starts = rows[order], np.concatenate([[0], np.flatnonzero(np.diff(key[order])) + 1])
    reach, covered = np.zeros(starts.size, np.int64), np.zeros(starts.size, np.int64)
    _cover(
        np.append(starts, order.size),
        np.ascontiguousarray(ordered["first_ns"]),
        np.ascontiguousarray(ordered["last_ns"]),
        reach,
        covered,
    )
    head = ordered[starts]
    packets, octets = (np.add.reduceat(ordered[name].astype(np.float64), starts) for name in ("packets", "octets"))
    sampling, ttl = (
        np.maximum.reduceat(ordered[name].astype(np.int64), starts) for name in ("sampling", "highest_ttl")
    )
    told = [
        head[name].tolist() for name in ("exporter", "ingress", "egress", "dscp", "post_dscp", "first_ns", "next_hop")
    ]
    sums = (
        packets.tolist(),
        octets.tolist(),
        reach.tolist(),
        covered.tolist(),
        sampling.tolist(),
        ttl.tolist(),
        places[order[starts]].tolist(),
    )
    return [
        (number, _Seen(exporter, ingress, egress, sent, size, dscp, post, first, last, under, each, limit, hop, row))
        for number, exporter, ingress, egress, dscp, post, first, hop, sent, size, last, under, each, limit, row in zip(
            flow[order[starts]].tolist(), *told, *sums, strict=True
        )
    ]


@kernel
def _cover(starts: Int64s, first: Int64s, last: Int64s, reach: Int64s, covered: Int64s) -> None:
    """For each group of records in order of their beginning: when the last of them ended, and how much of that time
    they cover.
    """
    for g in range(starts.size - 1):
        until = first[starts[g]]
        for k in range(starts[g], starts[g + 1]):
            if last[k] > until:
                covered[g] += last[k] - max(until, first[k])
                until = last[k]
        reach[g] = until


def flow_ways(held: HeldFlows) -> list[FlowWay]:
    """Ways over two exporters or more, those with most bytes first."""
    told = np.array([e.protocol != PACKETS for e in held.exporters] or [False])
    places = np.flatnonzero(told[held.rows["exporter"]]) if held.rows.size else np.empty(0, np.int64)
    rows = held.rows[places]
    if not rows.size or held.width_ns:
        return []  # Sums do not tell single flows.
    flows: dict[int, dict[int, _Seen]] = defaultdict(dict)
    for number, seen in _per_exporter(rows, places):
        flows[number][seen.exporter] = seen
    ways: dict[tuple[tuple[int, int, int], ...], list[dict[int, _Seen]]] = defaultdict(list)
    for seen_at in flows.values():
        if len(seen_at) > 1:
            ways[tuple(sorted((s.exporter, s.ingress, s.egress) for s in seen_at.values()))].append(seen_at)
    orders = {
        stations: _order(held, [exporter for exporter, _, _ in stations], members) for stations, members in ways.items()
    }
    known = {stations: order for stations, (order, ordered) in orders.items() if ordered}
    found = []
    for stations, members in ways.items():
        order, ordered = orders[stations]
        there = known.get(tuple(sorted((exporter, egress, ingress) for exporter, ingress, egress in stations)))
        if not ordered and there is not None:  # The way back of one whose order is known.
            order, ordered = there[::-1], True
        hops = [_hop(held, members, exporter, before) for before, exporter in [(-1, order[0]), *pairwise(order)]]
        octets = sum(max(s.octets for s in seen.values()) for seen in members)
        found.append(FlowWay(hops, len(members), octets, ordered, tuple(seen[order[0]].row for seen in members)))
    return sorted(found, key=lambda way: -way.octets)


def _complete(one: _Seen, two: _Seen) -> bool:
    """Whether the records of both cover the time of the flow."""
    whole = max(one.last_ns, two.last_ns) - min(one.first_ns, two.first_ns)
    return whole - min(one.covered_ns, two.covered_ns) <= max(_HOLE_NS, _HOLE * whole)


def _before(held: HeldFlows, one: _Seen, two: _Seen) -> int:
    """1 where a flow says that it passed the first exporter before the second, -1 the other way round, 0 neither."""
    for sign, a, b in ((1, one, two), (-1, two, one)):
        address = held.exporters[b.exporter].address
        if (
            a.next_hop > 0
            and address.count(".") == 3
            and a.next_hop == int.from_bytes(bytes(int(part) for part in address.split(".")), "big")
        ):
            return sign
    if one.ttl > 0 and two.ttl > 0 and one.ttl != two.ttl:
        return 1 if one.ttl > two.ttl else -1
    for sign, a, b in ((1, one, two), (-1, two, one)):
        if a.post >= 0 and a.post != a.dscp:
            if b.dscp == a.post:
                return sign
            if b.dscp == a.dscp:
                return -sign  # It saw the old marking: it comes before who changed it.
    if one.sampling == two.sampling == 1 and _complete(one, two) and one.packets != two.packets:
        return 1 if one.packets > two.packets else -1
    return 0


def _order(held: HeldFlows, exporters: list[int], members: list[dict[int, _Seen]]) -> tuple[list[int], bool]:
    """The exporters in the order in which the flows passed them, and whether anything told it."""
    wins = dict.fromkeys(exporters, 0)
    told = 0
    for k, a in enumerate(exporters):
        for b in exporters[k + 1 :]:
            votes = sum(_before(held, seen[a], seen[b]) for seen in members)
            wins[a], wins[b], told = wins[a] + (votes > 0), wins[b] + (votes < 0), told + (votes != 0)
    return sorted(exporters, key=lambda e: -wins[e]), told >= len(exporters) - 1


def _hop(held: HeldFlows, members: list[dict[int, _Seen]], exporter: int, before: int) -> FlowHop:
    told = held.exporters[exporter]
    here = [seen[exporter] for seen in members]
    remarked: dict[tuple[int, int], list[int]] = defaultdict(list)
    for seen in members:
        own = seen[exporter]
        if own.post >= 0 and own.post != own.dscp:
            remarked[own.dscp, own.post].append(own.row)
        elif before >= 0 and seen[before].post < 0 and seen[before].dscp != own.dscp:
            remarked[seen[before].dscp, own.dscp].append(own.row)
    parts = []
    lost, compared, unsure = float("nan"), 0.0, 0.0
    if before >= 0:
        pairs = [(seen[before], seen[exporter]) for seen in members if _complete(seen[before], seen[exporter])]
        compared, arrived = sum(a.packets for a, _ in pairs), sum(b.packets for _, b in pairs)
        lost = compared - arrived
        variance = sum(s.sampling * s.packets for pair in pairs for s in pair if s.sampling > 1)
        unsure = _SURE * float(np.sqrt(variance))
        if not pairs:
            parts.append("records are missing: counts cannot be compared")
        elif lost > unsure:
            parts.append(
                f"{count(round(lost))} of {count(round(compared))} fewer packets ({share(lost / compared)})"
                + (f" ± {count(round(unsure))}" if unsure else "")
            )
        elif unsure and abs(lost) <= unsure:
            parts.append(f"no loss that sampling would let show (less than {count(round(unsure))})")
    for (old, new), changed in sorted(remarked.items(), key=lambda one: -len(one[1]))[:3]:
        parts.append(
            f"{marking(old)} becomes {marking(new)} ({count(len(changed))} flow{'s' if len(changed) != 1 else ''})"
        )
    names = [
        told.interfaces.get(n, f"interface {n}") if n >= 0 else "not told" for n in (here[0].ingress, here[0].egress)
    ]
    packets = sum(s.packets for s in here)
    return FlowHop(
        exporter_words(told),
        names[0],
        names[1],
        packets,
        len(here),
        "; ".join(parts) or "as before" if before >= 0 or parts else "first",
        lost,
        compared,
        unsure,
        dict(remarked),
    )
