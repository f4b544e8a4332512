"""Charges and bytes by interval against plain counting."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from yaffle.capture.packets import PacketTable
from yaffle.session.interval_sums import OTHERS, OWN, _add_bytes, _add_charges
from yaffle.session.measures import edges


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 9), st.integers(0, 9), st.integers(0, 9)), max_size=30))
def test_charges_are_added_where_each_wait_began(waits):
    place = np.array([at for at, *_ in waits], np.int64)
    by_column = np.array([charges for _, *charges in waits], np.int64).reshape(-1, 3).T.copy()
    rows, sums = np.arange(len(waits))[::-1].copy(), np.zeros((4, 3))
    _add_charges(place[::-1].copy(), rows, by_column, np.array([0, 2]), sums)
    for at in range(4):
        own = [charges for where, *charges in waits if where == at]
        assert sums[at].tolist() == [sum(c[0] for c in own), 0, sum(c[2] for c in own)]


@given(
    st.lists(st.tuples(st.integers(0, 120), st.integers(-1, 2), st.integers(1, 99), st.booleans()), max_size=40),
    st.integers(1, 50),
    st.integers(1, 12),
)
def test_bytes_of_some_connections_and_of_all_others_by_interval(passed, first_ns, bins):
    packets = PacketTable(len(passed)).window(0, len(passed))
    for k, name in enumerate(("time_ns", "flow", "wire_bytes")):
        getattr(packets, name)[:] = [one[k] for one in passed]
    mask, own = np.array([one[3] for one in passed], bool), np.array([True, False, True, False])
    edge_ns = edges(first_ns, first_ns + 50, -(-50 // bins))
    octets = np.zeros((2, edge_ns.size - 1), np.int64)
    for begin, end in ((0, len(passed) // 2), (len(passed) // 2, len(passed))):
        _add_bytes(packets, begin, end, mask, own, edge_ns, octets)
    expected = np.zeros_like(octets)
    for time_ns, flow, size, counts in passed:
        if counts and edge_ns[0] <= time_ns <= edge_ns[-1]:
            k = min(int(np.searchsorted(edge_ns, time_ns, "right")) - 1, edge_ns.size - 2)
            expected[OWN if flow in (0, 2) else OTHERS, k] += size
    np.testing.assert_array_equal(octets, expected)
