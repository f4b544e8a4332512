"""On which segment of the path the packets of some connections were lost, and their exchanges waited, where several
points saw them.
"""

from collections import Counter
from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s, Int64s2
from yaffle.ledger import causes
from yaffle.ledger.along import CAUSES, ENDS, along, in_parts, stretches_of

CLOSE_NS = 2_000_000  # A point so near to an end leaves little between.


def where_lost(analysis: Analysis, connections: list[int]) -> list[tuple[str, str, int, int]]:
    """(point passed first, point passed then, packets lost between, packets sent) in each direction of each segment,
    most lost first; empty where one point alone saw them.
    """
    packets, points = analysis.capture.packets, analysis.point_names
    if not analysis.path.segments:
        return []
    own = np.isin(analysis.same, analysis.same[analysis.account.flow[connections]])
    lost: Counter[tuple[str, str]] = Counter()
    sent: Counter[tuple[str, str]] = Counter()
    for segment in analysis.path.segments:
        for way, start, end in ((segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near)):
            key = (points[start], points[end])
            sent[key] += int(own[packets.flow[way.sent]].sum())
            lost[key] += int(own[packets.flow[way.lost]].sum())
    return sorted(
        ((start, end, lost[start, end], count) for (start, end), count in sent.items() if count),
        key=lambda one: -one[2],
    )


@dataclass(frozen=True)
class WaitedAt:
    """What the network cost on one stretch of the path."""

    start: str  # nearer to the clients
    end: str
    by_cause_ns: dict[str, int]
    told: bool  # False: no stretch can be named for it
    between: bool  # whether two points bound it

    @property
    def ns(self) -> int:
        """All causes together."""
        return sum(self.by_cause_ns.values())

    @property
    def words(self) -> str:
        """The stretch in words."""
        return f"between {self.start} and {self.end}" if self.told else "not told by these points"


def where_waited(analysis: Analysis, rows: Int64s) -> list[WaitedAt]:
    """The network's charges of some exchanges by stretch of the path, dearest first; they add up.

    Empty where one point alone saw everything.
    """
    if not analysis.path.segments or not rows.size:
        return []
    sums = [
        along(analysis.capture, analysis.account, analysis.path, analysis.same, part).charges.sum(axis=0)
        for part in in_parts(rows)
    ]
    return waited_at(analysis.point_names, stretches_of(analysis.path, len(analysis.point_names)), np.sum(sums, axis=0))


def waited_at(points: list[str], stretches: list[tuple[int, int]], sums: Int64s2) -> list[WaitedAt]:
    """Stretches that cost anything, dearest first. sums: (stretches, CAUSES), ns."""
    found = []
    for k, (near, far) in enumerate(stretches):
        by_cause = {causes.CHARGES[column][1]: int(sums[k, i]) for i, column in enumerate(CAUSES) if sums[k, i]}
        if by_cause:
            start, end = points[near] if near != ENDS else "the clients", points[far] if far != ENDS else "the servers"
            found.append(WaitedAt(start, end, by_cause, near != ENDS or far != ENDS, near != ENDS and far != ENDS))
    return sorted(found, key=lambda one: -one.ns)


def network_by_segment(analysis: Analysis) -> dict[int, list[WaitedAt]]:
    """Of each connection that several points saw: the network's charges by stretch; points as the document names
    them.
    """
    account = analysis.account
    owner = account.of_exchange("connection")
    met = np.bincount(analysis.same, minlength=analysis.same.size) > 1
    rows = np.flatnonzero(met[analysis.same[account.flow[owner]]]) if analysis.path.segments else owner[:0]
    if not rows.size:
        return {}
    stretches = stretches_of(analysis.path, len(analysis.point_names))
    seen = np.unique(owner[rows])
    sums = np.zeros((seen.size, len(stretches), len(CAUSES)), np.int64)
    for part in in_parts(rows):
        np.add.at(
            sums,
            np.searchsorted(seen, owner[part]),
            along(analysis.capture, account, analysis.path, analysis.same, part).charges,
        )
    return {c: waited_at(analysis.capture.points, stretches, sums[k]) for k, c in enumerate(seen.tolist())}


def seen_close_by(analysis: Analysis, connections: Int64s) -> tuple[str, int] | None:
    """(point, its least round trip to the server in ns) where another point than the speaking one, which is near the
    client, saw these connections within CLOSE_NS of it.
    """
    account, flows = analysis.account, analysis.capture.conversations
    if not analysis.path.segments:
        return None
    mark = np.isin(analysis.same[account.flow], analysis.same[account.flow[connections]])
    mark[connections] = False
    views = np.flatnonzero(mark)
    trips = account.fact("to_server_min_ns")[views]
    views, trips = views[trips >= 0], trips[trips >= 0]
    if views.size * 2 < connections.size or int(np.median(trips)) > CLOSE_NS:
        return None
    point = int(np.bincount(flows.point[account.flow[views]]).argmax())
    return analysis.point_names[point], int(np.median(trips))
