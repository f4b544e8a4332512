"""Sums over charges: by party, and the column that weighs most, in one pass over the rows."""

from functools import reduce

import numpy as np

from yaffle.arrays import Int8s2, Int64s, Int64s2
from yaffle.halves import in_halves
from yaffle.kernels import kernel
from yaffle.ledger.bounds import PARTY_OF

_EVERY = np.arange(PARTY_OF.size)
_FIRST = np.array([np.flatnonzero(party == PARTY_OF)[0] for party in range(4)])  # column of each party
_AT_ONCE = 512  # rows, which stay near the processor while they are summed


@kernel
def _by_party(
    charges: Int64s2, first: int, last: int, columns: Int64s, party_of: Int64s, sums: Int64s2, heaviest: Int8s2
) -> None:
    """charges: a row a column of the ledger; first, last: of its columns, columns: of its rows those that are looked
    at.
    """
    most = np.empty((_AT_ONCE, sums.shape[1]), np.int64)
    for begin in range(first, last, _AT_ONCE):
        end = min(last, begin + _AT_ONCE)
        sums[begin:end] = 0
        most[:] = 0
        for k in columns:
            p = party_of[k]
            for r in range(begin, end):
                value = charges[k, r]
                sums[r, p] += value
                if value > most[r - begin, p]:
                    most[r - begin, p] = value
                    heaviest[r, p] = k


def by_party(charges: Int64s2, columns: Int64s = _EVERY) -> tuple[Int64s2, Int8s2]:
    """Charges (n, columns), int64 ns: sums by party (n, 4), in the order of causes.PARTIES, and each party's heaviest
    column, the first one where all are nil. columns: those that hold anything, where that is known.
    """
    sums = np.empty((charges.shape[0], 4), np.int64)
    heaviest = np.empty((charges.shape[0], 4), np.int8)
    by_column = np.ascontiguousarray(charges.T)

    def work(half: slice) -> None:
        heaviest[half] = _FIRST
        _by_party(by_column, half.start, half.stop, columns, PARTY_OF, sums, heaviest)

    in_halves(work, charges.shape[0])
    return sums, heaviest


def party_sums(charges: Int64s2) -> Int64s2:
    """Charges (n, columns) summed by party (n, 4)."""
    return by_party(charges)[0]


def totals(sums: Int64s2) -> Int64s:
    """Sums by party (n, 4) added up (n,): column by column, which is quicker than row by row."""
    return np.asarray(reduce(np.add, sums.T))
