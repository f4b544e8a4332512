"""Whether a step of the capture's clock may hide between two packets, by its definition."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.transport import clock_steps
from yaffle.transport.clock_steps import _LEAST_STEP_NS, _NEAR, _may_step

GAPS = st.one_of(
    st.integers(-2 * _LEAST_STEP_NS, 2 * _LEAST_STEP_NS),
    st.sampled_from([s * (g + d) for g in (_LEAST_STEP_NS, _NEAR) for s in (-1, 1) for d in (-1, 0, 1)]),
    st.sampled_from([-(1 << 58), 1 << 58]),
)


@given(st.lists(GAPS, max_size=12))
def test_what_lies_far_apart_is_told_by_its_definition(gaps):
    times = np.cumsum(np.array([0, *gaps], np.int64))
    expected = any(abs(b - a) >= _LEAST_STEP_NS for a, b in pairwise(times.tolist()))
    assert _may_step(times) == expected


@pytest.mark.parametrize("place", [1, clock_steps._AT_ONCE, clock_steps._AT_ONCE + 1, 3 * clock_steps._AT_ONCE - 1])
def test_one_step_among_many_packets_is_found_wherever_it_is(place):
    times = np.arange(3 * clock_steps._AT_ONCE, dtype=np.int64) * 1000
    assert not _may_step(times)
    times[place:] += _LEAST_STEP_NS
    assert _may_step(times)
