"""What is usual for many at once is what the baseline of one says; lasting shifts are found, noise is not."""

import numpy as np

from yaffle.normal.baseline import BaselineSettings, baseline
from yaffle.watching.bands import Bands, settings_for

MINUTE, START = 60 * 10**9, 1_795_000_000 * 10**9 // (60 * 10**9) * 60 * 10**9


def test_it_learns_as_the_baseline_of_one_does():
    dice = np.random.default_rng(5)
    settings = BaselineSettings(warm_up=20)
    series = dice.lognormal(1, 0.7, (7, 400))
    series[dice.random(series.shape) < 0.1] = np.nan
    series[3, 150:170] *= 40
    starts = START + np.arange(400) * 20 * MINUTE
    bands, names = Bands(3.0, settings), [f"m{k}" for k in range(7)]
    found = [bands.take(names, series[:, k], int(starts[k])) for k in range(400)]
    for row, name in enumerate(names):
        one = baseline(series[row], starts, settings)
        expected = np.array([step.expected[row] for step in found])
        deviation = np.array([step.deviation[row] for step in found])
        np.testing.assert_allclose(expected, one.expected, rtol=1e-9, err_msg=name)
        np.testing.assert_allclose(deviation, one.deviation, rtol=1e-9)


def noisy(seed, count):
    """Minutes of a working week: by hour of the day and of the week, with noise that scales, and holidays."""
    dice = np.random.default_rng(seed)
    starts = START + np.arange(count) * MINUTE
    hour = (starts // (3600 * 10**9)) % 24
    day = (starts // (86_400 * 10**9)) % 7
    level = 10 + 30 * np.exp(-((hour - 13) ** 2) / 18.0) * np.where(day < 5, 1.0, 0.3)
    return starts, level, level * (1 + 0.15 * dice.standard_normal(count))


def test_a_lasting_rise_of_three_deviations_is_found_within_a_quarter_of_an_hour_and_noise_is_not():
    starts, level, _ = noisy(0, 3 * 7 * 1440)
    many = 60
    values = np.stack([noisy(seed, starts.size)[2] for seed in range(many)])
    names = [f"m{k}" for k in range(many)]
    bands = Bands(3.0, settings_for(MINUTE))
    quiet = starts.size - 200
    warm = 7 * 1440
    false = np.zeros(many, int)
    before = np.zeros(many, bool)
    for k in range(quiet):
        side = bands.take(names, values[:, k], int(starts[k])).side != 0
        if k > warm:
            false += side & ~before
        before = side
    weeks = (quiet - warm) / (7 * 1440)
    assert false.sum() / many / weeks <= 1, false
    found = np.zeros(many, bool)
    for k in range(quiet, quiet + 15):
        rise = 3 * 0.15 * level[k]
        found |= bands.take(names, values[:, k] + rise, int(starts[k])).side > 0
    assert found.mean() >= 0.99
