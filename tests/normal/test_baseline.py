"""Baselines against a plain twin and against what they promise."""

import math

import numpy as np
import pytest

from yaffle.normal.baseline import BaselineSettings, anomalies, baseline, hours_of_week, means

S = 10**9
QUARTER = 900 * S
MONDAY = 1_790_553_600 * S  # 2026-09-28 00:00 UTC


def plain(values, starts, s):
    """Step by step, with dictionaries."""
    states = {}
    out = []

    def spread(state):
        return max(math.sqrt(state["v"]), s.floor * max(abs(state["m"]), abs(level)))

    came = level = 0

    for x, start in zip(values.tolist(), starts.tolist(), strict=True):
        slot = ("hour", (start // (3600 * S) + 72) % 168) if s.profile else None
        running, own = states.get("running"), states.get(slot)
        speaker = own if own and own["n"] >= s.profile_warm_up else running
        expected, deviation, side, judged = math.nan, math.nan, 0, False
        if speaker:
            expected, deviation = speaker["m"], spread(speaker)
            judged = running["n"] >= s.warm_up
        if not math.isnan(x):
            if judged and abs(x - expected) > s.band * deviation:
                side = 1 if x > expected else -1
            for key, weight, enough in (
                ("running", s.weight, s.warm_up),
                *([(slot, s.profile_weight, s.profile_warm_up)] if slot else []),
            ):
                if key not in states:
                    if key == "running":
                        came, level = 1, x
                    states[key] = {"m": x, "v": 0.0, "n": 1}
                    continue
                state = states[key]
                a, off = max(weight, 1 / (state["n"] + 1)), x - state["m"]
                if state["n"] >= enough:
                    most = s.limit * spread(state)
                    off = min(most, max(-most, off))
                if key == "running":
                    came += 1
                    level += (state["m"] + off - level) / came
                state["m"] += a * off
                state["v"] = (1 - a) * (state["v"] + a * off * off)
                state["n"] += 1
        out.append((expected, deviation, side, judged))
    return [np.array(column) for column in zip(*out, strict=True)]


@pytest.mark.parametrize("profile", [True, False])
@pytest.mark.parametrize("seed", range(5))
def test_it_is_that_of_the_plain_way(seed, profile):
    rng = np.random.default_rng(seed)
    starts = MONDAY + np.arange(2000) * QUARTER
    values = rng.normal(100, 10, 2000) * (1 + np.sin(np.arange(2000) / 15))
    values[rng.random(2000) < 0.1] = np.nan
    values[rng.integers(0, 2000, 10)] *= 50
    settings = BaselineSettings(profile=profile, weight=0.07)
    found = baseline(values, starts, settings)
    expected, deviation, side, judged = plain(values, starts, settings)
    np.testing.assert_allclose(found.expected, expected, rtol=1e-12)
    np.testing.assert_allclose(found.deviation, deviation, rtol=1e-12)
    assert (found.side == side).all()
    assert (found.judged == judged).all()


def test_one_absurd_value_moves_it_by_at_most_what_is_set():
    values = np.full(200, 100.0) + np.tile([-1.0, 1.0], 100)
    values[150] = 1e12
    settings = BaselineSettings(profile=False)
    found = baseline(values, MONDAY + np.arange(200) * QUARTER, settings)
    moved = found.expected[151] - found.expected[150]
    assert 0 < moved <= settings.weight * settings.limit * found.deviation[150] * (1 + 1e-9)
    (only,) = anomalies(values, found)
    assert (only.first, only.stop, only.side) == (150, 151, 1)
    assert only.size > 1e9


def test_nothing_is_judged_while_it_warms_up():
    values = np.array([1.0, 1000.0] * 6)
    found = baseline(values, MONDAY + np.arange(12) * QUARTER, BaselineSettings())
    assert not found.side.any()
    assert found.warm == 12
    assert np.isnan(found.expected[0])


def test_an_hour_of_the_week_knows_what_is_usual_then():
    starts = MONDAY + np.arange(4 * 7 * 24 * 4) * QUARTER
    hours = hours_of_week(starts)
    rng = np.random.default_rng(1)
    values = np.where(hours % 24 == 2, 1000.0, 10.0) * rng.normal(1, 0.02, starts.size)  # A nightly job.
    day = starts.size - 7 * 96
    values[day + 14 * 4 : day + 15 * 4] = 1000.0  # The same volume at two in the afternoon is none.
    values[day + 96 + 8 : day + 96 + 12] = 10.0  # And a night without it is one as well.
    with_profile = anomalies(values, baseline(values, starts, BaselineSettings()))
    late = [(run.first, run.stop, run.side) for run in with_profile if run.first >= day]
    assert (day + 56, day + 60, 1) in late
    assert (day + 104, day + 108, -1) in late
    assert len(late) <= 4
    assert hours_of_week(np.array([MONDAY, MONDAY - 1])).tolist() == [0, 167]


def test_a_gap_ends_no_anomaly():
    values = np.array([10.0, 11.0, 9.0] * 20)
    values = np.concatenate([values, [90.0, np.nan, 95.0], values[:5]])
    (run,) = anomalies(
        values, baseline(values, MONDAY + np.arange(values.size) * QUARTER, BaselineSettings(profile=False))
    )
    assert (run.first, run.stop) == (60, 63)


def test_means_of_stretches_leave_out_what_is_not_known():
    values = np.array([1.0, np.nan, 3.0, 5.0, np.nan, np.nan])
    found = means(values, np.array([0, 1, 2, 4]), np.array([3, 4, 3, 6]))
    assert found[:3].tolist() == [2.0, 4.0, 3.0] and np.isnan(found[3])
