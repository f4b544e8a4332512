"""How much of the network's part of waits was on the air: frames that the radio sent again, and moves of the station
from one access point to another. Time in which a station waited for the channel cannot be seen by who only listens, so
that it is not in it: what is told is at least.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Int64s, Int64s2, Structs
from yaffle.ledger import causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.at_nodes import places_of
from yaffle.radio.held_up import MOVE, RETRIES, HeldUp

KINDS = (MOVE, RETRIES)


@dataclass(frozen=True)
class OnAir:
    """rows: exchanges of connections that came by the air; spent: (rows, KINDS), ns, together no more than the
    network's part of each.
    """

    rows: Int64s
    spent: Int64s2

    def of_exchange(self, row: int) -> tuple[int, int] | None:
        """(moves, retries), ns; None of one that did not come by the air."""
        return self.of_rows(np.array([row]))

    def of_rows(self, rows: Int64s) -> tuple[int, int] | None:
        """The same of several together."""
        own = self.spent[places_of(self.rows, rows)]
        return (int(own[:, 0].sum()), int(own[:, 1].sum())) if own.shape[0] else None


def on_air(account: Account, held: HeldUp) -> OnAir | None:
    """Of all exchanges by the air; None where none came by it."""
    if not held.carried:
        return None
    owner = account.of_exchange("connection")
    station_of = np.array([held.carried.get(flow, -1) for flow in account.flow.tolist()], np.int64)
    if not station_of.size:
        return None
    rows = np.flatnonzero(station_of[owner] >= 0)
    if not rows.size:
        return None
    first = account.of_exchange("first_ns")[rows] - account.of_exchange("set_up_ns")[rows]
    last = account.of_exchange("end_ns")[rows]
    left = account.exchange_charges[rows][:, causes.party_columns(causes.NETWORK)].sum(axis=1)
    spent = np.zeros((rows.size, len(KINDS)), np.int64)
    stations = station_of[owner[rows]]
    for k, kind in enumerate(KINDS):
        for station in np.unique(stations).tolist():
            mine = np.flatnonzero(stations == station)
            spans = held.spans[(held.spans["station"] == station) & (held.spans["kind"] == kind)]
            spent[mine, k] = np.minimum(left[mine], _overlap(spans, first[mine], last[mine]))
        left = left - spent[:, k]
    return OnAir(rows, spent)


def _overlap(spans: Structs, first: Int64s, last: Int64s) -> Int64s:
    """How much of each period lies in any of some spans; spans that overlap count once."""
    if not spans.size:
        return np.zeros(first.size, np.int64)
    spans = spans[np.argsort(spans["from_ns"], kind="stable")]
    reached = np.maximum.accumulate(spans["to_ns"])
    begins = np.maximum(spans["from_ns"], np.concatenate([[spans["from_ns"][0]], reached[:-1]]))
    lengths = np.maximum(0, reached - begins)
    before = np.concatenate([[0], np.cumsum(lengths)])

    def until(moment: Array) -> Array:
        """What of all spans lies before a moment."""
        k = np.searchsorted(begins, moment, "right")
        inside = np.where(k > 0, np.minimum(lengths[np.maximum(k - 1, 0)], moment - begins[np.maximum(k - 1, 0)]), 0)
        return np.asarray(before[np.maximum(k - 1, 0)] + inside)

    return until(last) - until(first)
