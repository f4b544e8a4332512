"""Service levels over tests of a history: good, bad and unmeasured time add up; what used the allowance up is told."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yaffle.history.layout import DAY_NS, SERVICE_LEVELS
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.watching.service_levels import (
    ServiceLevel,
    _kept,
    keep_levels,
    kept_levels,
    levels_over,
)
from yaffle.watching.windows import Windows

S = 10**9
NOW = 1_795_824_000 * S  # midnight
LEVEL = ServiceLevel("desks answer", "test_round_trip", "test", "", "above", 50.0, 99.0, 300 * S)


@pytest.fixture
def history(tmp_path):
    writer = HistoryWriter(tmp_path / "h", now_ns=lambda: NOW + 3 * DAY_NS, settle=False)
    for name, slow in (("desk", range(600, 660)), ("gate", ())):
        tests = [
            {"kind": "connect", "target": f"{name}:80", "at_ns": NOW + k * 60 * S + S, "ok": True, "why": "",
             "round_trip_ms": 80.0 if k in slow else 3.0}
            for k in range(2 * 1440) if not (name == "gate" and 100 <= k < 160)
        ]  # fmt: skip
        writer.append_rows("probes", rows_of(name, tests))
    writer.close()
    return History(tmp_path / "h")


def test_an_hour_missed_of_two_days_is_told_with_its_day(history):
    desk, gate = levels_over(Windows(history), LEVEL, NOW, NOW + 2 * DAY_NS)
    assert (desk.member, desk.bad_ns, desk.good_ns) == ("desk", 3600 * S, 2 * DAY_NS - 3600 * S)
    assert desk.percent == pytest.approx(100 * 47 / 48) and desk.used == pytest.approx(3600 / (0.01 * 2 * 86_400))
    assert [(one.first_ns - NOW, one.last_ns - NOW, one.worst) for one in desk.stretches] == [
        (600 * 60 * S, 660 * 60 * S, 80.0)
    ]
    assert desk.worst_days == ((NOW, 3600 * S),)
    assert (gate.member, gate.bad_ns, gate.used, gate.percent) == ("gate", 0, 0.0, 100.0)


def test_what_was_not_measured_is_neither_good_nor_bad(history):
    gate = levels_over(Windows(history), LEVEL, NOW, NOW + 2 * DAY_NS)[1]
    assert gate.unknown_ns == 3600 * S and gate.good_ns == 2 * DAY_NS - 3600 * S


@settings(max_examples=60)
@given(st.lists(st.one_of(st.floats(0, 100), st.just(float("nan"))), max_size=700))
def test_good_bad_and_unknown_add_up_to_the_time(told):
    found = _kept(LEVEL, "x", np.array(told, float), NOW)
    assert found.good_ns + found.bad_ns + found.unknown_ns == len(told) * LEVEL.over_ns
    assert sum(one.last_ns - one.first_ns for one in found.stretches) == found.bad_ns
    assert sum(bad for _, bad in found.worst_days) == found.bad_ns
    assert all(one.worst > LEVEL.limit for one in found.stretches)


def test_levels_are_kept_beside_the_history_and_nonsense_is_none(tmp_path):
    keep_levels(tmp_path, [LEVEL])
    assert kept_levels(tmp_path) == [LEVEL]
    (tmp_path / SERVICE_LEVELS).write_text('[{"name": "x", "measure": "nope"}]')
    assert kept_levels(tmp_path) == []
    (tmp_path / SERVICE_LEVELS).write_text("{")
    assert kept_levels(tmp_path) == []
    assert kept_levels(tmp_path / "nowhere") == []


@pytest.mark.parametrize("over_ns", [7 * 3600 * S, 36 * 3600 * S])
def test_intervals_that_are_no_part_of_a_day_are_judged_whole(history, over_ns):
    level = ServiceLevel("desks answer", "test_round_trip", "test", "", "above", 50.0, 99.0, over_ns)
    first, last = NOW + S, NOW + 2 * DAY_NS + 3600 * S
    whole = sum(first <= at <= last - over_ns for at in range(NOW // over_ns * over_ns, last, over_ns))
    for kept in levels_over(Windows(history), level, first, last):
        assert kept.good_ns + kept.bad_ns + kept.unknown_ns == whole * over_ns
        assert all(first <= one.first_ns and one.last_ns <= last for one in kept.stretches)
