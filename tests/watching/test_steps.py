"""From reading to reading, against a loop that says the same."""

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from yaffle.watching.steps import Steps

UNKNOWN = -1
READING = st.tuples(
    st.sampled_from("ab"),
    st.sampled_from("xyz"),
    st.integers(0, 20),
    st.integers(0, 5) | st.just(UNKNOWN) | st.just(1 << 60),
)


def plain(readings):
    """(spans, rises) by row; None where unknown. Readings of one moment follow each other as they stand."""
    spans, rises, last = [None] * len(readings), [None] * len(readings), {}
    for k in sorted(range(len(readings)), key=lambda k: readings[k][2]):
        device, interface, at, value = readings[k]
        if (former := last.get((device, interface))) is not None:
            spans[k] = at - former[0]
            if UNKNOWN not in (value, former[1]) and value >= former[1]:
                rises[k] = float(value - former[1])
        last[device, interface] = (at, value)
    return spans, rises


@given(st.lists(READING, max_size=40))
def test_steps_are_those_of_a_loop(readings):
    devices, interfaces, times, values = ([one[k] for one in readings] for k in range(4))
    values = np.array(values, np.int64)
    steps = Steps([pa.array(devices, pa.string()), pa.array(interfaces, pa.string())], np.array(times, np.int64))
    assert (steps.span.to_pylist(), steps.rise(values, values != UNKNOWN).to_pylist()) == plain(readings)


def test_a_small_rise_of_a_large_count_is_not_lost():
    large = np.array([1 << 60, (1 << 60) + 3], np.int64)
    steps = Steps([pa.array(["a", "a"])], np.array([0, 1]))
    assert steps.rise(large, np.ones(2, bool)).to_pylist() == [None, 3.0]
