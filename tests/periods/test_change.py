"""Whether a period was other than the weeks before it: what is usual, and how often the test cries wolf."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.periods.change import Change, change_of, usual_hours

WEEK = 168
RNG = np.random.default_rng(5)
RHYTHM = 10 + 8 * np.sin(np.arange(WEEK) * 2 * np.pi / 24).clip(0) * (np.arange(WEEK) < 120)


def weeks(count, scale=1.0, noise=0.1):
    return np.concatenate([RHYTHM * scale * RNG.lognormal(0, noise, WEEK) for _ in range(count)])


def test_the_usual_is_the_median_of_the_same_hours():
    before = np.concatenate([RHYTHM, RHYTHM * 9, RHYTHM * 2])
    assert np.allclose(usual_hours(before, WEEK), RHYTHM * 2)
    assert np.allclose(usual_hours(before, 30), RHYTHM[:30] * 2)
    assert np.isnan(usual_hours(before[:100], 24)).all()


def test_hours_that_nobody_told_of_are_not_usual_anything():
    before = np.concatenate([RHYTHM, RHYTHM])
    before[5::WEEK] = np.nan
    assert np.isnan(usual_hours(before, 24)[5]) and np.isfinite(usual_hours(before, 24)[6])


def test_a_week_like_those_before_is_seldom_called_another_and_a_larger_one_always():
    false = sum(change_of(weeks(4), weeks(1), summed=True).sure for _ in range(100))
    found = sum(change_of(weeks(4), weeks(1, 1.15), summed=True).sure for _ in range(100))
    assert false <= 5  # One in a hundred by chance.
    assert found == 100


def test_a_change_is_told_in_words():
    assert Change(100.0, 0.001).words(150.0) == "+50 %, significant"
    assert Change(100.0, 0.5).words(101.0) == "as the baseline"
    assert Change(100.0, 0.5).words(80.0) == "-20 %, not significant"
    assert Change(100.0, 0.001).words(420.0) == "4.2 times, significant"
    assert Change(100.0, float("nan")).words(120.0) == "+20 % (too few samples)"
    assert Change(0.0, 0.5).words(7.0) == "new"
    assert Change(float("nan"), float("nan")).words(7.0) == "no baseline"


def test_a_day_alone_is_too_little_to_be_sure():
    assert np.isnan(change_of(weeks(4), weeks(1)[:24], summed=True).chance)


@given(st.lists(st.one_of(st.floats(0, 1e9), st.just(float("nan"))), min_size=0, max_size=400), st.integers(0, 200))
def test_whatever_is_told_gives_a_change(told, hours):
    found = change_of(np.array(told, float), np.array(told[:hours], float), summed=True)
    assert np.isnan(found.chance) or 0 <= found.chance <= 1
    assert isinstance(found.words(1.0), str)


def test_a_week_without_any_difference_is_no_change():
    found = change_of(np.tile(RHYTHM, 4), RHYTHM.copy(), summed=True)
    assert found.chance == 1.0 and found.usual == pytest.approx(RHYTHM.sum())
