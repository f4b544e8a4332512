"""Periods and cycle numbers by their definitions, and against a truth with drift, jitter, losses, copies and bursts."""

from collections import deque
from itertools import pairwise
from statistics import median_high

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.cyclic.feeds import MS, Feed
from yaffle.cyclic.period import BLOCK, LEAST, learn_periods, number_by_counter, number_cycles


def learnt(times):
    out = np.zeros(1, np.int64)
    learn_periods(np.array(times, np.int64), np.array([0, len(times)]), out)
    return int(out[0])


def learnt_slowly(times):
    """Blocks of intervals, each steady or not, by its median."""
    if len(times) < LEAST:
        return 0
    gaps = [b - a for a, b in pairwise(times)]
    blocks = max(1, len(gaps) // BLOCK)
    parts = [gaps[k * BLOCK : (k + 1) * BLOCK if k < blocks - 1 else None] for k in range(blocks)]
    medians = []
    for part in parts:
        middle = sorted(part)[len(part) // 2]
        near = sum(min(abs(g - middle), abs(g - 2 * middle)) <= 0.3 * middle for g in part)
        if middle > 0 and near >= 0.7 * len(part):
            medians.append(middle)
    if not medians or 4 * len(medians) < blocks:
        return 0
    period = sorted(medians)[len(medians) // 2]
    agree = sum(abs(m - period) <= 0.1 * period for m in medians)
    return period if 2 * agree >= blocks or (agree >= 8 and 4 * agree >= blocks) else 0


def numbered(times, period):
    cycles = np.zeros(len(times), np.int64)
    number_cycles(np.array(times, np.int64), period, cycles)
    return cycles.tolist()


def numbered_slowly(times, period):
    """A clock that follows; cycles that were silent are filled by what comes too close together."""
    found, waiting, calm, last, clock, width = [0], deque(maxlen=1024), 0, 0, 0.0, float(period)
    for at in times[1:]:
        now = float(at - times[0])
        steps = int(np.floor((now - clock) / width + 0.5))
        if steps <= 0:
            calm = 0
            found.append(waiting.popleft() if waiting else last)
            continue
        waiting.extend(range(last + 1, last + steps))
        calm = 0 if steps > 1 else calm + 1
        if calm >= 3:
            waiting.clear()
        last += steps
        found.append(last)
        off = now - clock - steps * width
        off = min(max(off, -width / 4), width / 4)
        clock += steps * width + off / 8
        width += off / 256 / steps
    return sorted(found)


@settings(max_examples=200, deadline=None)
@given(st.lists(st.integers(0, 3 * MS), min_size=1, max_size=200), st.integers(MS // 2, 2 * MS))
def test_kernels_do_what_their_definitions_say(gaps, period):
    times = np.cumsum([0, *gaps]).tolist()
    assert learnt(times) == learnt_slowly(times)
    assert numbered(times, period) == numbered_slowly(times, period)


def test_what_has_no_period_gets_none():
    draw = np.random.default_rng(3)
    by_chance = np.cumsum(draw.exponential(4 * MS, 3000)).astype(np.int64)
    talk = np.cumsum(draw.choice([200_000, 3 * MS, 40 * MS], 3000)).astype(np.int64)
    assert learnt(by_chance) == learnt(talk) == learnt(by_chance[:20]) == learnt(by_chance * 0) == 0


@pytest.mark.parametrize("drift_ppm", [0, 200, -3000])
def test_each_packet_gets_its_cycle_through_drift_losses_copies_and_bursts(drift_ppm):
    feed = Feed(drift_ppm=drift_ppm, jitter_ns=200_000, cycles=5000, lost={100, 101, 900, *range(2000, 2030)},
                doubled={50, 1500}, held=[(700, 6), (3000, 40)])  # fmt: skip
    times, truth = zip(*feed.arrivals(), strict=True)
    period = learnt(times)
    assert abs(period - feed.period_ns) < 0.02 * feed.period_ns
    assert numbered(times, period) == list(truth)


def test_a_loss_within_a_burst_stays_a_loss():
    feed = Feed(lost={703}, held=[(700, 6)])
    times, _ = zip(*feed.arrivals(), strict=True)
    cycles = np.array(numbered(times, feed.period_ns))
    assert int((np.diff(cycles) - 1).clip(0).sum()) == 1 and np.unique(cycles).size == cycles.size


@pytest.mark.parametrize(("step", "modulus"), [(1, 256), (128, 65_536), (48, 65_536), (3, 65_536)])
def test_counters_say_which_cycles_are_missing_however_often_they_wrap(step, modulus):
    feed = Feed(cycles=6000, lost=set(range(300, 340)) | {5000}, jitter_ns=900_000)
    times, truth = (np.array(part) for part in zip(*feed.arrivals(), strict=True))
    cycles = np.zeros(times.size, np.int64)
    anew = number_by_counter(times, feed.period_ns, truth * step % modulus, step, modulus, cycles)
    assert anew == 0 and cycles.tolist() == truth.tolist()


def test_a_counter_that_begins_anew_is_told_and_does_not_lose_cycles():
    feed = Feed(cycles=3000, jitter_ns=1000)
    times, truth = (np.array(part) for part in zip(*feed.arrivals(), strict=True))
    cycles = np.zeros(times.size, np.int64)
    counter = np.where(truth < 1000, truth * 128, (truth - 1000) * 128 + 20_000) % 65_536
    assert number_by_counter(times, feed.period_ns, counter, 128, 65_536, cycles) == 1
    assert cycles.tolist() == truth.tolist()


def test_median_of_an_even_block_is_the_upper_one():
    assert learnt(list(range(0, LEAST * MS, MS))) == median_high([MS, MS])
