"""The network's part of each wait, split over the stretches of the path between and beyond several points.

Each charge is given away whole, in integers, by the shares that the packets of the exchange itself tell:

- `set-up`, `round-trip`: by the least delay of each stretch there and back. Beyond the outermost points the least round
  trips to client and server stand for it.
- `queueing`, `rate`: by how much longer than their least delay the exchange's packets took on each stretch (RFC 5481
  section 4.2: delay variation by the minimum); beyond the outermost points by the median of the round trips above the
  least.
- `loss`: by the packets of the exchange that each stretch lost.

What nothing tells is put to UNTOLD: `name` (the way to a name server is another one), and losses where none was lost
between the points.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from yaffle.arrays import Array, Float64s, Float64s2, Int64s, Int64s2, Int64s3
from yaffle.capture.captured import Capture
from yaffle.ledger import causes
from yaffle.ledger.accounts import Account
from yaffle.path.points_path import PointsPath
from yaffle.path.segments import PathSegment, Way

CAUSES = (causes.SET_UP, causes.ROUND_TRIP, causes.RATE, causes.QUEUEING, causes.LOSS, causes.NAME)
_TRIPS, _QUEUES = (causes.SET_UP, causes.ROUND_TRIP), (causes.RATE, causes.QUEUEING)
ENDS = -1  # in a stretch: no point, but the clients, or the servers
_UNIT_NS = (
    1000  # Times are looked up by the microsecond, or as coarsely as number of journey and time fit into one integer.
)
_MOST_KEY = 1 << 62
_AT_ONCE = 200_000  # Exchanges whose shares are worked out together.


@dataclass(frozen=True)
class Along:
    """Charges by stretch. stretches: (point nearer to the clients or ENDS, point nearer to the servers or ENDS); the
    last, (ENDS, ENDS), is UNTOLD.
    """

    stretches: list[tuple[int, int]]
    charges: Int64s3  # (exchanges, stretches, CAUSES), ns; sums over stretches to the exchange's charge


class _Passages:
    """What one direction of a segment did to each journey: looked up by journey and time."""

    def __init__(self, capture: Capture, way: Way, number: Array, start_ns: int, unit_ns: int, step: int) -> None:
        owner = number[capture.packets.flow[way.sent]]
        own = owner >= 0
        came = way.arrived >= 0
        delay = np.zeros(way.sent.size, np.int64)
        delay[came] = way.delay_ns
        count = int(number.max(initial=-1)) + 1
        self.floor = np.full(count, 1 << 62, np.int64)
        np.minimum.at(self.floor, owner[own & came], delay[own & came])
        owner, came, delay = owner[own], came[own], delay[own]
        key = owner * step + np.clip(
            (capture.packets.time_ns[way.sent[own]] - start_ns) // unit_ns, -1, step - 1
        )  # Outside of all that is asked: at its ends.
        order = np.argsort(key, kind="stable")
        self._key = key[order]
        over = np.where(came, delay - np.where(came, self.floor[owner], 0), 0)[order]
        self._over, self._came, self._lost = (
            np.concatenate([[0], np.cumsum(part)]) for part in (over, came[order], ~came[order])
        )

    def between(self, low: Int64s, high: Int64s) -> tuple[Float64s, Float64s]:
        """(mean ns above the floor, packets lost) of the journeys and times between two keys."""
        a, b = np.searchsorted(self._key, low, "left"), np.searchsorted(self._key, high, "right")
        return (self._over[b] - self._over[a]) / np.maximum(1, self._came[b] - self._came[a]), (
            self._lost[b] - self._lost[a]
        ).astype(np.float64)


def _outer(account: Account, connections: Int64s, side: str, what: str) -> Int64s:
    """Round trips to a side in ns, 0 where none was measured."""
    least = account.fact(f"to_{side}_min_ns")[connections]
    known = (connections >= 0) & (least >= 0)
    if what == "min":
        return np.where(known, least, 0)
    middle = account.fact(f"to_{side}_median_ns")[connections]
    return np.where(known & (middle >= least), middle - least, 0)


def stretches_of(path: PointsPath, points: int) -> list[tuple[int, int]]:
    """All stretches: of the segments, from the clients to each point, from each point to the servers, and UNTOLD."""
    pairs = list(dict.fromkeys((s.near, s.far) for s in path.segments))
    return [
        *pairs,
        *((ENDS, point) for point in range(points)),
        *((point, ENDS) for point in range(points)),
        (ENDS, ENDS),
    ]


def in_parts(rows: Int64s) -> list[Array]:
    """Rows in parts that are split together: memory stays bounded."""
    return np.array_split(rows, -(-rows.size // _AT_ONCE)) if rows.size else []


def along(capture: Capture, account: Account, path: PointsPath, same: Int64s, rows: Int64s) -> Along:
    """The network's charges of some exchanges, split over the path; all of it UNTOLD for those that one point alone
    saw. same: `path.journeys`.
    """
    points, flows = len(capture.points), capture.conversations
    stretches = stretches_of(path, points)
    charges = np.ascontiguousarray(account.exchange_charges[rows][:, list(CAUSES)])
    if not path.segments or not rows.size:
        split = np.zeros((rows.size, len(stretches), len(CAUSES)), np.int64)
        split[:, -1] = charges
        return Along(stretches, split)
    owner = account.of_exchange("connection")[rows]
    journey = same[account.flow[owner]]
    known, compact = np.unique(journey, return_inverse=True)
    number = np.full(flows.point.size, -1, np.int64)
    number[known] = np.arange(known.size)
    number = number[same]  # of conversations: the journeys that are asked for
    first = account.of_exchange("first_ns")[rows] - account.of_exchange("set_up_ns")[rows]
    opening = account.fact("first_ns")[owner]
    first = np.where(account.exchange_charges[rows, causes.SET_UP] > 0, np.minimum(first, opening), first)
    last = account.of_exchange("end_ns")[rows]
    start_ns = int(first.min())
    unit_ns = max(_UNIT_NS, -(-(int(last.max()) - start_ns) * known.size // _MOST_KEY))
    step = (int(last.max()) - start_ns) // unit_ns + 3
    low, high = compact * step + (first - start_ns) // unit_ns, compact * step + (last - start_ns) // unit_ns
    trips, queues, lost = (np.zeros((rows.size, len(stretches))) for _ in range(3))
    passed: Array = np.zeros((known.size, points, 2), bool)  # as the nearer, as the farther point of a segment
    for segment in path.segments:
        _add_segment(
            capture,
            segment,
            number,
            (low, high, compact),
            (start_ns, unit_ns, step),
            stretches.index((segment.near, segment.far)),
            (trips, queues, lost),
        )
        own = number[segment.flows[:, 0]] if segment.flows.size else np.empty(0, np.int64)
        own = own[own >= 0]
        passed[own, segment.near, 0] = passed[own, segment.far, 1] = True
    connection_at = np.full((known.size, points), -1, np.int64)
    own = np.flatnonzero(number[account.flow] >= 0)
    connection_at[number[account.flow[own]], flows.point[account.flow[own]]] = own
    place = np.arange(rows.size)
    nearer, farther = passed[:, :, 0], passed[:, :, 1]
    outer: tuple[tuple[str, Any, int], ...] = (
        ("client", nearer & ~farther, len(stretches) - 1 - 2 * points),
        ("server", farther & ~nearer, len(stretches) - 1 - points),
    )
    for side, mine, base in outer:
        some = mine.any(axis=1)[compact]
        point = mine.argmax(axis=1)[compact]
        connections = np.where(some, connection_at[compact, point], -1)
        trips[place, base + point] += _outer(account, connections, side, "min") * some
        queues[place, base + point] += _outer(account, connections, side, "over") * some
    split = np.zeros((rows.size, len(stretches), len(CAUSES)), np.int64)
    for k, column in enumerate(CAUSES):
        weights = (
            trips
            if column in _TRIPS
            else queues
            if column in _QUEUES
            else lost
            if column == causes.LOSS
            else np.zeros_like(trips)
        )
        split[:, :, k] = _given(charges[:, k], weights)
    return Along(stretches, split)


def _add_segment(
    capture: Capture,
    segment: PathSegment,
    number: Int64s,
    asked: tuple[Array, Array, Array],
    base: tuple[int, int, int],
    column: int,
    weights: tuple[Array, Array, Array],
) -> None:
    """Adds what a segment did to the weights of the exchanges asked for."""
    low, high, journey = asked
    trips, queues, lost = weights
    for way in (segment.up, segment.down):
        passages = _Passages(capture, way, number, *base)
        floor = passages.floor[journey]
        trips[:, column] += np.where(floor < 1 << 62, np.maximum(0, floor), 0)
        over, missing = passages.between(low, high)
        queues[:, column] += over
        lost[:, column] += missing


def _given(charge: Int64s, weights: Float64s2) -> Int64s2:
    """Charges (n,) by weights (n, stretches) in whole ns that add up; to the last stretch where no weight is."""
    total = weights.sum(axis=1)
    told = total > 0
    shares = np.cumsum(weights, axis=1) / np.where(told, total, 1)[:, None]
    shares[:, -1] = 1.0
    reached = np.minimum(charge[:, None], np.rint(charge[:, None] * shares).astype(np.int64))
    reached[:, -1] = charge
    reached[~told, :-1] = 0
    return np.diff(reached, axis=1, prepend=0)
