"""How sure it is that a party made others wait: from the bounds of what it is charged with, and of what the others are.

The sum of many exchanges lies between bounds that ledger.bounds combines. The confidence that a party's share is the
largest is that of a logistic distribution whose spread is the distance to both bounds: where they overlap by half it
is about even.
"""

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Float64s2, Int64s, Int64s2
from yaffle.ledger import bounds, causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.sums import party_sums, totals

PARTIES = tuple(causes.PARTIES.index(party) for party in bounds.BOUNDED)
MOST, LEAST = 0.98, 0.3  # No inference is surer, none is given that is less.
_STEEPNESS = 2.4  # Takes the distance between two bounds for two standard deviations.
_MODEL_SHARE, _MODEL_NS = 0.1, 2_000_000  # What the ledger's rules themselves may be wrong by.
_LEAST_SHARE = 0.02  # A lower bound below this share of the wait is as good as nil.


def bounds_of_groups(
    account: Account, rows: Int64s, group: Int64s, groups: int, sums: Int64s2 | None = None
) -> tuple[Float64s2, Float64s2]:
    """(low, high) of each party's part of some exchanges' waits, ns, (groups, 3) in the order of bounds.BOUNDED.

    sums: theirs by party, where they are at hand.
    """
    sums = party_sums(account.exchange_charges[rows]) if sums is None else sums
    low, high = np.zeros((groups, len(PARTIES))), np.zeros((groups, len(PARTIES)))
    for k, party in enumerate(bounds.BOUNDED):
        estimate = sums[:, causes.PARTIES.index(party)]
        least, most = (account.of_exchange(f"{party}_{end}_ns")[rows] for end in ("low", "high"))
        low[:, k], high[:, k] = bounds.combined(estimate, least, most, group, groups)
    return low, high


def bounds_of_connections(account: Account) -> tuple[Float64s2, Float64s2]:
    """The same for all connections. What is no exchange's, such as failed openings, is as charged."""
    rows = np.arange(account.exchange.shape[0])
    return _with_rest(account, rows, account.of_exchange("connection"), account.connection_charges)


def bounds_of_connection(account: Account, c: int) -> tuple[Float64s2, Float64s2]:
    """The same for one connection, (1, 3)."""
    rows = np.flatnonzero(account.of_exchange("connection") == c)
    return _with_rest(account, rows, np.zeros(rows.size, np.int64), account.connection_charges[c : c + 1])


def _with_rest(account: Account, rows: Int64s, group: Int64s, charges: Int64s2) -> tuple[Float64s2, Float64s2]:
    """Bounds of exchanges by connection, and what else its charges are of."""
    groups = charges.shape[0]
    low, high = bounds_of_groups(account, rows, group, groups)
    for k, party in enumerate(bounds.BOUNDED):
        columns = causes.party_columns(party)
        beside = charges[:, columns].sum(axis=1).astype(np.float64)
        beside -= np.bincount(group, account.exchange_charges[rows][:, columns].sum(axis=1), groups)
        low[:, k] += beside
        high[:, k] += beside
    return low, high


def confidences(sums: Int64s2, party: Int64s, low: Array, high: Array) -> Float64s:
    """The confidence that each party is the one with the largest part.

    sums: (n, 4) charges by party, ns; party: (n,) places in causes.PARTIES; low, high: (n, 3). Returns (n,), LEAST
    to MOST.
    """
    if not party.size:
        return np.zeros(0)
    place = np.arange(party.size)
    bounded = sums[:, list(PARTIES)].astype(np.float64)
    column = np.array([PARTIES.index(p) if p in PARTIES else -1 for p in range(len(causes.PARTIES))])[party]
    own, below = sums[place, party].astype(np.float64), np.zeros(party.size)
    known = column >= 0
    below[known] = (own - low[place, column])[known]
    others = np.where(np.arange(len(PARTIES))[None, :] == column[:, None], -1.0, bounded)
    second = others.argmax(axis=1)
    next_, above = others[place, second], (high - bounded)[place, second]
    blur = np.sqrt(below**2 + above**2 + (_MODEL_SHARE * own + _MODEL_NS) ** 2)
    found = 1 / (1 + np.exp(-np.clip(_STEEPNESS * (own - next_) / blur, -50, 50)))
    return np.asarray(np.clip(found, LEAST, MOST))


def could_be_nil(sums: Int64s2, party: Int64s, low: Array) -> Bools:
    """Whether the evidence allows that the party has no part at all (bool, (n,)); never for what is unexplained."""
    place = np.arange(party.size)
    column = np.array([PARTIES.index(p) if p in PARTIES else -1 for p in range(len(causes.PARTIES))])[party]
    return np.asarray((column >= 0) & (low[place, column] < _LEAST_SHARE * np.maximum(1, totals(sums))))
