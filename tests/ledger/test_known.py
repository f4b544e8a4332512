"""What is known of connections is taken over piece by piece: as if all had been accounted for anew."""

from itertools import pairwise

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from yaffle.exchanges.messages import no_messages
from yaffle.ledger.accounts import Exchanges, OwnAccount, whole
from yaffle.ledger.fields import CHARGES, EXCHANGE_FIELDS, WIDTH
from yaffle.ledger.known import _A_PIECE, KnownAccount, _edges, among_known, take_over

CONNECTION = EXCHANGE_FIELDS.index("connection")


def exchanges_of(connections, counts, mark):
    """So many exchanges of each of some connections; each tells its connection, its number there, and a mark."""
    owner = np.repeat(connections, counts[connections]).astype(np.int64)
    facts, charges = np.zeros((len(EXCHANGE_FIELDS), owner.size), np.int64), np.zeros((CHARGES, owner.size), np.int64)
    facts[CONNECTION], facts[CONNECTION - 1] = owner, np.arange(owner.size)
    charges[0], charges[1] = owner * 10 + mark, np.arange(owner.size)
    return Exchanges(facts.T, charges.T)


def account_of(counts, edges, mark):
    """An account whose exchanges stand in pieces between these connections."""
    none, flow = np.empty(0, np.int64), np.arange(counts.size)
    pieces = [exchanges_of(np.arange(a, b), counts, mark) for a, b in pairwise(edges.tolist())]
    size = counts.size
    tables = np.full((size, WIDTH), mark), np.full((size, CHARGES), mark)
    kind = np.full(4 * size, mark, np.uint8)
    return OwnAccount(flow, none, none.astype(np.int32), none.astype(np.int8), *tables, pieces, edges, kind)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10**6))
def test_pieces_among_known_ones_are_those_of_all_anew(seed):
    rng = np.random.default_rng(seed)
    was, more = int(rng.integers(1, 60)), int(rng.integers(0, 30))
    counts = rng.integers(0, 4, was + more)
    cuts = np.unique(rng.integers(0, was, 5))
    edges = np.unique(np.concatenate([[0], cuts, [was]]))
    former = account_of(rng.permuted(counts[:was]), edges, 1)
    changed = np.ones(was + more, bool)
    changed[:was] = rng.random(was) < 0.3
    before = whole([piece.facts for piece in former.exchanges])[:, CONNECTION]
    counts[:was] = np.where(changed[:was], counts[:was], np.bincount(before, minlength=was))
    known = KnownAccount(changed, no_messages(was), former)
    pieces, edges = among_known([exchanges_of(np.flatnonzero(changed), counts, 2)], known)
    facts, charges = (whole(tables) for tables in zip(*pieces, strict=True))
    wanted = np.repeat(np.arange(was + more), counts)
    assert np.array_equal(facts[:, CONNECTION], wanted)
    assert np.array_equal(charges[:, 0], wanted * 10 + np.where(changed[wanted], 2, 1))
    assert edges[0] == 0 and edges[-1] == was + more and (np.diff(edges) > 0).all()
    for k, (first, last) in enumerate(pairwise(edges.tolist())):
        assert np.isin(pieces[k].facts[:, CONNECTION], np.arange(first, last)).all()
        if not changed[first:last].any():
            assert pieces[k] is former.exchanges[k]


def test_what_is_known_of_connections_stays():
    counts = np.array([1, 0, 2])
    known = KnownAccount(np.array([False, True, False, True]), no_messages(3), account_of(counts, np.array([0, 3]), 7))
    connection, charges, kind = np.zeros((4, WIDTH)), np.zeros((4, CHARGES)), np.zeros(20, np.uint8)
    take_over(known, connection, charges, kind)
    for table in (connection, charges):
        assert table[:, 0].tolist() == [7, 0, 7, 0]
    assert kind.tolist() == [7] * 12 + [0] * 8
    assert known.rows.tolist() == [0, -1, 2, -1]


def test_new_connections_fill_the_last_piece_and_begin_others():
    assert _edges(np.array([0, 10]), 10).tolist() == [0, 10]
    assert _edges(np.array([0, 10]), 12).tolist() == [0, 12]
    assert _edges(np.array([0, 10]), _A_PIECE + 5).tolist() == [0, _A_PIECE, _A_PIECE + 5]
    assert _edges(np.array([0, 3 * _A_PIECE]), 3 * _A_PIECE + 1).tolist() == [0, 3 * _A_PIECE, 3 * _A_PIECE + 1]
    assert _edges(np.array([0]), 0).tolist() == [0]
