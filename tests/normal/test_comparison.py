"""Two samples side by side, and who of many changed."""

import math

import numpy as np
import pytest

from yaffle.capture.addresses import Labels
from yaffle.normal.comparison import compare, without_best_and_worst
from yaffle.normal.extent import changed_rows, extent


def plain_exceeds(one, two):
    return sum((b > a) + (b == a) / 2 for a in one for b in two) / (len(one) * len(two))


@pytest.mark.parametrize("seed", range(6))
def test_how_often_one_exceeds_the_other(seed):
    rng = np.random.default_rng(seed)
    one, two = rng.integers(0, 20, 40).astype(float), rng.integers(0, 25, 30).astype(float)
    found = compare(one, two)
    assert found.exceeds == pytest.approx(plain_exceeds(one, two))
    assert found.difference == np.median([b - a for a in one for b in two])


def test_a_shift_is_found_and_chance_is_called_so():
    rng = np.random.default_rng(3)
    one = rng.lognormal(3, 0.3, 200)
    assert compare(one, one * 1.5).certainty == "significant (p < 0.0001)"
    same = compare(one[:100], one[100:])
    assert (same.sure, same.certainty) == (False, "not significant")
    assert compare(one, np.append(one * 2, np.nan)).counts == (200, 200)


def test_few_and_none_are_said():
    few = compare(np.array([1.0, 2, 3]), np.array([50.0, 60, 70]))
    assert (few.sure, few.certainty) == (False, "too few to be sure (3 and 3)")
    none = compare(np.array([]), np.array([1.0]))
    assert none.certainty == "nothing to compare with"
    assert math.isnan(none.chance)
    equal = compare(np.ones(20), np.ones(20))
    assert (equal.sure, equal.exceeds) == (False, 0.5)


def test_the_difference_of_large_samples_is_that_of_an_even_thinning():
    rng = np.random.default_rng(4)
    found = compare(rng.normal(10, 1, 50_000), rng.normal(12, 1, 50_000))
    assert found.difference == pytest.approx(2, abs=0.05)


def test_best_and_worst_runs_are_dropped_if_enough_is_left():
    assert without_best_and_worst([5, 1, 9, 6]) == [5, 6]
    assert without_best_and_worst([5, 1, 9]) == [5, 1, 9]


def made_up(seed=0, count=4000):
    """Waits of four sites over three paths; after the change everything through one path is slow."""
    rng = np.random.default_rng(seed)
    site, path, user = rng.integers(0, 4, count), rng.integers(0, 3, count), rng.integers(0, 60, count)
    application = rng.integers(0, 3, count)
    after = np.arange(count) >= count // 2
    values = rng.lognormal(3 + application, 0.3, count)
    values[after & (path == 1)] *= 4
    dimensions = {
        name: Labels(codes, [f"{name} {k}" for k in range(codes.max() + 1)])
        for name, codes in (("site", site), ("path", path), ("application", application), ("user", user))
    }
    return values, after, application, dimensions


def test_what_goes_through_one_path_stands_out_by_itself():
    values, after, application, dimensions = made_up()
    found = extent(values, ~after, after, application, dimensions)
    assert (found[0].dimension, found[0].label, found[0].words) == ("path", "path 1", "worse")
    assert found[0].separates > 0.85
    assert found[0].separates > found[1].separates + 0.5
    assert [g.words for g in found if g.dimension == "path"].count("unchanged") == 2


def test_groups_that_came_and_went_are_said():
    values, after, application, dimensions = made_up()
    labels = dimensions["site"]
    codes = labels.codes.copy()
    codes[after & (codes == 0)] = 3
    codes[~after & (codes == 3)] = 0
    found = {
        g.label: g.words for g in extent(values, ~after, after, application, {"site": Labels(codes, labels.texts)})
    }
    assert (found["site 0"], found["site 3"]) == ("gone", "new")


def test_usual_is_by_kind_and_nothing_is_no_error():
    values = np.array([1.0] * 10 + [100.0] * 10 + [5.0, 101.0])
    kind = np.array([0] * 10 + [1] * 10 + [0, 1])
    before = np.arange(22) < 20
    assert changed_rows(values, before, kind).tolist() == [False] * 20 + [True, True]
    assert changed_rows(values, np.zeros(22, bool), kind).sum() == 0
    assert extent(np.zeros(0), np.zeros(0, bool), np.zeros(0, bool), np.zeros(0, int), {}) == []
