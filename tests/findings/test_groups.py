"""Rows by their keys, against a stable sort."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from yaffle.findings.groups import grouped


@given(st.lists(st.one_of(st.integers(-3, 3), st.integers(-(1 << 62), 1 << 62)), max_size=300))
def test_it_is_as_a_stable_sort_gives_it(keys):
    keys = np.array(keys, np.int64)
    order, begins = grouped(keys)
    assert order.tolist() == np.argsort(keys, kind="stable").tolist()
    starts = np.flatnonzero(np.diff(keys[order], prepend=keys.min(initial=0) - 1))
    assert begins.tolist() == [*starts.tolist(), keys.size]


def test_there_may_be_as_many_keys_as_rows():
    keys = np.random.default_rng(3).integers(-(1 << 40), 1 << 40, 5000)
    order, begins = grouped(keys)
    assert order.tolist() == np.argsort(keys, kind="stable").tolist()
    assert begins.size == np.unique(keys).size + 1
