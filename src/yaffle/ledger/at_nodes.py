"""The network's part of waits by the nodes that told of their packets (IOAM, INT), as far as they told.

What nodes told is measured, so that it is given as it is and never more than the charge; the rest is UNTOLD.

- `set-up`, `round-trip`: each node's least delay there and back, of the least round trip of the connection, as that
  share of the charge.
- `queueing`, `rate`: how much longer than their least delay the exchange's packets took in each node, at the mean (RFC
  5481, section 4.2: variation by the minimum), there and back; of queueing first.
- `loss`: by the packets of the exchange that each node dropped, where any did.
- `name`: untold; the look-up took another path.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Float64s, Float64s2, Int64s, Int64s2, Int64s3
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture
from yaffle.hops.telemetry import Telemetry
from yaffle.hops.visits import FlowKey
from yaffle.ledger import causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.along import CAUSES
from yaffle.units import transport_name

_TRIPS, _QUEUES = (causes.SET_UP, causes.ROUND_TRIP), (causes.QUEUEING, causes.RATE)
_AROUND_NS = 1_000_000  # Nodes' clocks and the capture's are never quite the same.
_TCP = 6


@dataclass(frozen=True)
class AtNodes:
    """Charges by node. rows: the exchanges of connections that anything was told of; charges: (rows, nodes + 1,
    CAUSES), ns, whose last node is UNTOLD; sums over nodes to each exchange's charge.
    """

    nodes: list[int]
    rows: Int64s
    charges: Int64s3

    def of_exchange(self, row: int) -> list[tuple[int | None, int]]:
        """(node, ns), dearest first, of all causes together; None is what nobody told. Empty where it is of no
        connection that nodes told of.
        """
        return self.of_rows(np.array([row]))

    def of_rows(self, rows: Int64s) -> list[tuple[int | None, int]]:
        """The same of several exchanges together."""
        sums = self.charges[places_of(self.rows, rows)].sum(axis=(0, 2)).tolist()
        named: list[tuple[int | None, int]] = [*zip(self.nodes, sums[:-1], strict=True), (None, sums[-1])]
        return sorted((one for one in named if one[1]), key=lambda one: -one[1])


def places_of(known: Int64s, wanted: Int64s) -> Int64s:
    """Where those of some numbers stand that are among known ones, which rise."""
    if not known.size:
        return np.zeros(0, np.int64)
    at = np.minimum(np.searchsorted(known, wanted), known.size - 1)
    return np.asarray(at[known[at] == wanted])


class _AtNode:
    """What one node told of one direction of a connection: looked up by time."""

    def __init__(self, own: Array) -> None:
        own = own[np.argsort(own["arrived_ns"], kind="stable")]
        told = own["delay_ns"] >= 0
        self.floor = int(own["delay_ns"][told].min()) if told.any() else 0
        over = np.where(told, own["delay_ns"] - self.floor, 0)
        self._at = own["arrived_ns"]
        self._over, self._told, self._dropped = (
            np.concatenate([[0], np.cumsum(part)]) for part in (over, told, own["dropped"])
        )

    def between(self, first: Int64s, last: Int64s) -> tuple[Float64s, Int64s]:
        """(mean ns above the floor, packets dropped) between moments."""
        a, b = np.searchsorted(self._at, first, "left"), np.searchsorted(self._at, last, "right")
        return (self._over[b] - self._over[a]) / np.maximum(1, self._told[b] - self._told[a]), (
            self._dropped[b] - self._dropped[a]
        )


def at_nodes(capture: Capture, account: Account, told: Telemetry) -> AtNodes | None:
    """The charges of all exchanges of connections that nodes told of; None where they told of none."""
    visits = told.visits.rows
    visits = visits[visits["node"] >= 0]
    directions = _directions(capture, account, told.visits.flows)
    if not visits.size or not directions:
        return None
    nodes, number = np.unique(visits["node"], return_inverse=True)
    owner = account.of_exchange("connection")
    rows = np.flatnonzero(np.isin(owner, list(directions)))
    if not rows.size:
        return None
    first = account.of_exchange("first_ns")[rows] - account.of_exchange("set_up_ns")[rows] - _AROUND_NS
    last = account.of_exchange("end_ns")[rows] + _AROUND_NS
    floors, over, dropped = (np.zeros((rows.size, nodes.size)) for _ in range(3))
    order = np.lexsort((number, visits["flow"]))
    key = visits["flow"][order].astype(np.int64) * nodes.size + number[order]
    owned = {flow: c for c, flows in directions.items() for flow in flows}
    for part in np.split(order, np.flatnonzero(np.diff(key)) + 1):
        connection = owned.get(int(visits["flow"][part[0]]), -1)
        mine = slice(*np.searchsorted(owner[rows], [connection, connection + 1]).tolist())  # They stand together.
        if mine.stop > mine.start:
            node = int(number[part[0]])
            one = _AtNode(visits[part])
            late, lost = one.between(first[mine], last[mine])
            floors[mine, node] += one.floor
            over[mine, node] += late
            dropped[mine, node] += lost
    charges = np.ascontiguousarray(account.exchange_charges[rows][:, list(CAUSES)])
    return AtNodes(nodes.tolist(), rows, _split(charges, floors, over, dropped, _least_trips(account, owner[rows])))


def _directions(capture: Capture, account: Account, keys: list[FlowKey]) -> dict[int, list[int]]:
    """Of connections that anything was told of, the flows of both directions."""
    wanted = {(one.src, one.src_port, one.dst, one.dst_port): k for k, one in enumerate(keys)
              if one.transport == transport_name(_TCP).lower()}  # fmt: skip
    if not wanted:
        return {}
    flows = capture.conversations
    ports = {min(key[1], key[3]) << 16 | max(key[1], key[3]) for key in wanted}
    a_port, b_port = (side[account.flow].astype(np.int64) for side in (flows.a_port, flows.b_port))
    likely = np.isin(np.minimum(a_port, b_port) << 16 | np.maximum(a_port, b_port), list(ports))
    found: dict[int, list[int]] = {}
    for connection in np.flatnonzero(likely).tolist():
        row = int(account.flow[connection])
        v6 = bool(flows.ipv6[row])
        a = address_text(int(flows.a_hi[row]), int(flows.a_lo[row]), v6), int(flows.a_port[row])
        b = address_text(int(flows.b_hi[row]), int(flows.b_lo[row]), v6), int(flows.b_port[row])
        own = [wanted[key] for key in ((*a, *b), (*b, *a)) if key in wanted]
        if own:
            found[connection] = own
    return found


def _least_trips(account: Account, connections: Int64s) -> Int64s:
    """The least round trip of each exchange's connection, ns; 0 where none was measured."""
    parts = [account.fact(f"to_{side}_min_ns")[connections] for side in ("client", "server")]
    return np.asarray(sum(np.where(part > 0, part, 0) for part in parts))


def _split(charges: Int64s2, floors: Float64s2, over: Float64s2, dropped: Float64s2, trips: Int64s) -> Int64s3:
    """(rows, nodes + 1, CAUSES) in whole ns."""
    count, nodes = floors.shape
    found = np.zeros((count, nodes + 1, len(CAUSES)), np.int64)
    shares = floors / np.maximum(trips, 1)[:, None]
    shares /= np.maximum(1.0, shares.sum(axis=1))[:, None]
    shares[trips <= 0] = 0
    lost = dropped.sum(axis=1)
    left = over.copy()
    for k, cause in enumerate(CAUSES):
        charge = charges[:, k]
        if cause in _TRIPS:
            given = charge[:, None] * shares
        elif cause in _QUEUES:
            total = left.sum(axis=1)
            given = left * np.minimum(1.0, charge / np.maximum(total, 1))[:, None]
            left -= given
        elif cause == causes.LOSS:
            given = charge[:, None] * dropped / np.maximum(lost, 1)[:, None]
        else:
            given = np.zeros_like(floors)
        found[:, :-1, k] = np.floor(given + 1e-6).astype(np.int64)
        found[:, -1, k] = charge - found[:, :-1, k].sum(axis=1)
    return found
