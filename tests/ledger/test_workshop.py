"""What a thread of the account hands over: its exchanges, after which nothing stands in its tables."""

import numpy as np
import pytest

from yaffle.ledger.engine import Workshop
from yaffle.room import Room, SpilledRoom


@pytest.mark.parametrize("used", [0, 1, 100, 5_000])
@pytest.mark.parametrize("spilled", [False, True])
def test_exchanges_are_given_whole_and_leave_nothing_behind(used, spilled, tmp_path):
    shop = Workshop(8_000, 0)
    facts = np.random.default_rng(used).integers(-1, 9, (used, shop.exchange.shape[1]))
    charges = np.random.default_rng(used + 1).integers(0, 3, (used, shop.exchange_charges.shape[1]))
    charges[:, 4] = 0  # Nobody has that.
    shop.exchange[:used], shop.exchange_charges[:used] = facts, charges
    given = shop.give(used, SpilledRoom(tmp_path) if spilled else Room())
    assert np.array_equal(given.facts, facts)
    assert np.array_equal(given.charges, charges)
    assert not shop.exchange.any()
    assert not shop.exchange_charges.any()
    shop.exchange[:] = 5
    assert np.array_equal(given.facts, facts)


def test_tables_that_grow_keep_what_stands_in_them():
    shop = Workshop(50, 0)
    shop.exchange[:], shop.exchange_charges[:] = 3, 4
    shop.grow()
    assert (shop.exchange[:50] == 3).all()
    assert (shop.exchange_charges[:50] == 4).all()
    assert not shop.exchange[50:].any()
    assert not shop.exchange_charges[50:].any()
    assert shop.exchange.shape[0] == shop.exchange_charges.shape[0] == 100
