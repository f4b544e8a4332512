"""One definition of a quantile: the nearest rank, in every place that shows one."""

import numpy as np
import pytest

from yaffle.quantiles import median, nearest_rank, p95


@pytest.mark.parametrize(
    ("values", "percent", "wanted"),
    [
        ([3], 50, 3),
        ([4, 1], 50, 1),
        ([1, 2, 3, 4], 50, 2),
        (range(1, 21), 95, 19),
        (range(1, 101), 95, 95),
        ([1, 2], 95, 2),
        ([5, 9], 0, 5),
    ],
)
def test_it_is_the_least_value_that_so_many_do_not_exceed(values, percent, wanted):
    assert nearest_rank(np.array(list(values))[::-1], percent) == wanted


def test_of_nothing_there_is_none():
    assert np.isnan(median(np.array([])))
    assert np.isnan(p95(np.array([])))


def test_it_is_always_a_value_that_was_measured():
    values = np.random.default_rng(1).integers(0, 1000, 77)
    for percent in range(101):
        assert nearest_rank(values, percent) in values
        assert (values <= nearest_rank(values, percent)).mean() >= percent / 100
