"""What waits were charged, and what packets passed, by interval and by hour of the day."""

from itertools import pairwise

import numpy as np

from yaffle.arrays import Bools, Float64s2, Int64s, Int64s2
from yaffle.capture.packets import Columns
from yaffle.findings.groups import grouped
from yaffle.halves import sum_of_halves
from yaffle.kernels import int64, kernel, pasted
from yaffle.ledger import causes
from yaffle.session.evidence import Evidence
from yaffle.session.scene import Scene
from yaffle.units import hour

_QUARTER_NS = 900 * 10**9
OTHERS, OWN = 0, 1  # rows of sums of bytes


@pasted
def interval_of(edge_ns: Int64s, scale: float, moment: int) -> int:
    """In which interval a moment lies, of some that are of nearly one length. scale: intervals per ns."""
    last = edge_ns.size - 2
    k = min(last, int64((moment - edge_ns[0]) * scale))
    if moment < edge_ns[k]:
        return k - 1
    return k + 1 if k < last and moment >= edge_ns[k + 1] else k


@kernel
def _add_charges(place: Int64s, rows: Int64s, by_column: Int64s2, columns: Int64s, sums: Float64s2) -> None:
    """Adds the charges of rows to their places. by_column: a row a column of the ledger."""
    for k in columns:
        for i in range(rows.size):
            sums[place[i], k] += by_column[k, rows[i]]


def _charges(evidence: Evidence, rows: Int64s, place: Int64s, places: int) -> Float64s2:
    sums = np.zeros((places, causes.COUNT))
    _add_charges(place, rows, evidence.waits.by_column, evidence.waits.columns, sums)
    return sums


def over_time(evidence: Evidence, rows: Int64s, edge_ns: Int64s) -> Float64s2:
    """Charges (bins, columns), ns, of the waits that began in each interval; those outside go to the first or last."""
    bins = edge_ns.size - 1
    place = np.clip(np.searchsorted(edge_ns, evidence.waits.first_ns[rows], "right") - 1, 0, bins - 1)
    return _charges(evidence, rows, place, bins)


def by_hour(evidence: Evidence, rows: Int64s) -> tuple[Float64s2, Int64s]:
    """Charges (24, columns), ns, and number of the waits that began in each hour of the day, in the zone of the
    screen.
    """
    quarter, hours = evidence.waits.first_ns[rows] // _QUARTER_NS, np.empty(rows.size, np.int64)
    order, edges = grouped(quarter)
    for first, last in pairwise(edges.tolist()):
        hours[order[first:last]] = hour(int(quarter[order[first]]) * _QUARTER_NS)
    return _charges(evidence, rows, hours, 24), np.bincount(hours, minlength=24)


@kernel
def _add_bytes(
    packets: Columns, begin: int, end: int, mask: Bools, own: Bools, edge_ns: Int64s, octets: Int64s2
) -> None:
    """Adds the bytes on the wire of some packets, from one to before another, to their intervals: OTHERS and OWN."""
    bins = edge_ns.size - 1
    first, last = edge_ns[0], edge_ns[bins]
    scale = bins / max(1, last - first)
    for i in range(begin, end):
        if mask[i] and first <= packets.time_ns[i] <= last:
            k = interval_of(edge_ns, scale, packets.time_ns[i])
            octets[OWN if own[packets.flow[i]] else OTHERS, k] += packets.wire_bytes[i]


def octets_of(scene: Scene, rows: Int64s, edge_ns: Int64s) -> Int64s2:
    """(2, bins): bytes on the wire in each interval, of the connections of some waits (OWN) and of all else (OTHERS),
    each packet counted once.
    """
    packets, own = scene.evidence.analysis.capture.packets, scene.conversations_of(rows)

    def work(half: slice) -> Int64s2:
        found = np.zeros((2, edge_ns.size - 1), np.int64)
        _add_bytes(packets, half.start, half.stop, scene.in_period, own, edge_ns, found)
        return found

    return sum_of_halves(work, packets.time_ns.size)
