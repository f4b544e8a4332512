"""Rows that several steps found, put below each other."""

import numpy as np
import pytest

from yaffle.ledger.accounts import by_column
from yaffle.room import Room, SpilledRoom


@pytest.mark.parametrize("spilled", [False, True])
def test_parts_stand_below_each_other_and_are_given_back(tmp_path, spilled):
    rnd = np.random.default_rng(1)
    parts = [rnd.integers(-9, 9, (rows, 4)) for rows in (3, 0, 5)]
    parts[2][:, 1] = 0
    wanted = np.concatenate(parts)
    whole = by_column(parts, SpilledRoom(tmp_path) if spilled else Room())
    assert np.array_equal(whole, wanted)
    assert parts == []
    assert all(whole[:, k].flags.c_contiguous for k in range(4))


def test_nothing_below_nothing_is_nothing():
    assert by_column([np.empty((0, 4), np.int64)]).shape == (0, 4)


def test_a_column_that_is_nil_is_not_written_to():
    whole = by_column([np.column_stack([np.arange(1 << 20), np.zeros(1 << 20, np.int64)])])
    pages = int(np.ceil(whole[:, 1].nbytes / 4096))
    before = _anonymous_bytes()
    whole[:, 1] = 1  # Only now it takes memory.
    assert _anonymous_bytes() - before > pages * 4096 // 2


def _anonymous_bytes():
    with open("/proc/self/status", encoding="ascii") as lines:
        return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("RssAnon"))
