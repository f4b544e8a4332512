"""Pairs of packets and clocks against plain ways."""

import numpy as np
import pytest

from yaffle.path.clocks import clock_between, find_steps
from yaffle.path.matching import NONE, match, unique_pairs
from yaffle.path.ordering import by_group, by_identity, medians
from yaffle.transport.envelope import lower_envelope


def plain_match(ids, times, side, usual, window):
    """For each identity the pairing that is tried in order of how well it fits the usual delay."""
    partner = [NONE] * len(ids)
    for identity in set(ids):
        ones = [k for k in range(len(ids)) if ids[k] == identity and side[k] == 0]
        twos = [k for k in range(len(ids)) if ids[k] == identity and side[k] == 1]
        for _, a, b in sorted((abs(times[b] - times[a] - usual), a, b) for a in ones for b in twos):
            if partner[a] == NONE and partner[b] == NONE and abs(times[b] - times[a] - usual) <= window:
                partner[a], partner[b] = b, a
    return partner


@pytest.mark.parametrize("seed", range(12))
def test_packets_are_paired_as_by_the_plain_way(seed):
    rng = np.random.default_rng(seed)
    sent = np.cumsum(rng.integers(1000, 10_000_000, 200))
    identity = np.arange(200, dtype=np.uint64)
    identity[rng.integers(0, 200, 40)] = rng.integers(0, 200, 40)  # Repeats that look the same.
    kept = rng.random(200) > 0.1
    arrived = sent + 20_000_000 + rng.integers(0, 300, 200)
    ids = np.concatenate([identity, identity[kept]])
    times = np.concatenate([sent, arrived[kept]])
    side = np.concatenate([np.zeros(200, np.int64), np.ones(int(kept.sum()), np.int64)])
    found = match(ids, times, side, 20_000_000, 5_000_000)
    assert found.tolist() == plain_match(ids.tolist(), times.tolist(), side.tolist(), 20_000_000, 5_000_000)
    for k, other in enumerate(found.tolist()):
        assert other == NONE or (found[other] == k and ids[other] == ids[k] and side[other] != side[k])


def test_identities_that_stand_once_in_each():
    one, two = np.array([5, 1, 1, 9, 7], np.uint64), np.array([9, 5, 5, 7, 3], np.uint64)
    a, b = unique_pairs(one, two)
    assert [(int(one[i]), int(two[j])) for i, j in zip(a, b, strict=True)] == [(9, 9), (7, 7)]


@pytest.mark.parametrize(("offset", "drift"), [(0, 0.0), (12_345_678, 4e-5), (-(10**12), -1e-4)])
def test_clocks_are_found_under_queues(offset, drift):
    rng = np.random.default_rng(3)
    t = np.sort(rng.integers(0, 60 * 10**9, 4000)) + 1_790_000_000 * 10**9
    other = rng.random(4000) < 0.4
    delay = 7_000_000 + rng.exponential(900_000, 4000).astype(np.int64)
    # The first point's clock is true; the second runs by its own.
    own = lambda true: true + offset + np.round(drift * (true - t[0])).astype(np.int64)  # noqa: E731
    forward = t[~other], own(t[~other] + delay[~other])
    backward = t[other] + delay[other], own(t[other])
    clock = clock_between(forward, backward)
    assert clock.drift == pytest.approx(drift, abs=1e-6)
    right = clock.set_right(forward[1]) - forward[0]
    assert abs(int(right.min()) - 7_000_000) < 50_000
    assert clock.uncertainty_ns == pytest.approx(7_000_000, abs=100_000)
    assert clock.breaks_causality(int(t[-1])) == (abs(offset) > 7_100_000)


def test_one_direction_alone_is_taken_as_it_is_unless_packets_arrive_before_they_left():
    t = np.arange(20) * 10**8 + 10**18
    none = np.zeros(0, np.int64)
    taken = clock_between((t, t + 5_000_000), (none, none))
    assert (taken.offset_ns, taken.both_ways, taken.breaks_causality(int(t[-1]))) == (0.0, False, False)
    ahead = clock_between((t, t - 3_000_000), (none, none))
    assert ahead.offset_ns == -3_000_000
    assert clock_between((none, none), (none, none)) is None


@pytest.mark.parametrize("seed", range(5))
def test_the_envelope_lies_below_all_points(seed):
    rng = np.random.default_rng(seed)
    t, y = np.sort(rng.random(80)), rng.random(80)
    hull = lower_envelope(t, y)
    assert (np.interp(t, t[hull], y[hull]) <= y + 1e-12).all()


def test_thousands_that_look_alike_are_paired_in_their_order():
    rng = np.random.default_rng(8)
    sent = np.arange(3000) * 20_000_000
    kept = rng.random(3000) > 0.05
    arrived = sent[kept] + 9_000_000 + rng.integers(0, 400_000, int(kept.sum()))
    times = np.concatenate([sent, arrived])
    side = np.concatenate([np.zeros(3000, np.int64), np.ones(arrived.size, np.int64)])
    found = match(np.zeros(times.size, np.uint64), times, side, 9_000_000)
    assert ((found[:3000] >= 0) == kept).all()
    assert (found[:3000][kept] == 3000 + np.arange(arrived.size)).all()


@pytest.mark.parametrize("seed", range(6))
def test_orders_are_those_of_plain_sorting(seed):
    rng = np.random.default_rng(seed)
    count = int(rng.integers(1, 400))
    ids = rng.integers(0, 1 << 63, count).astype(np.uint64)
    ids[rng.integers(0, count, count // 3)] = ids[rng.integers(0, count, count // 3)]
    near = rng.integers(0, count, count // 3)
    ids[near] = (ids[rng.integers(0, count, count // 3)] & ~np.uint64(0x1FF)) | rng.integers(0, 512, count // 3).astype(
        np.uint64
    )  # Alike in their high bits alone.
    assert by_identity(ids).tolist() == np.argsort(ids, kind="stable").tolist()
    group, rank = rng.integers(0, 9, count), rng.permutation(count)
    assert by_group(group, rank).tolist() == np.lexsort((rank, group)).tolist()
    values = rng.integers(-(1 << 40), 1 << 40, count)
    for own, found in enumerate(medians(group, values, 10).tolist()):
        mine = sorted(values[group == own].tolist())
        assert (not mine and np.isnan(found)) or found == mine[len(mine) // 2]


def test_nothing_has_an_order():
    none = np.zeros(0, np.int64)
    assert by_identity(none.astype(np.uint64)).size == by_group(none, none).size == 0
    assert np.isnan(medians(none, none, 2)).all()


@pytest.mark.parametrize("step", [40_000_000, -9_000_000, 3_600_000_000_000])
@pytest.mark.parametrize("drift", [0.0, 6e-5])
def test_a_clock_that_was_set_meanwhile(step, drift):
    rng = np.random.default_rng(5)
    t = np.sort(rng.integers(0, 60 * 10**9, 5000)) + 1_790_000_000 * 10**9
    there = rng.random(5000) < 0.5
    delay = 7_000_000 + rng.exponential(400_000, 5000).astype(np.int64)
    at = t[0] + 25_300_000_000

    def own(true):
        return true + 1_000_000 + np.round(drift * (true - t[0])).astype(np.int64) + np.where(true >= at, step, 0)

    forward, backward = (t[there], own(t[there] + delay[there])), (t[~there] + delay[~there], own(t[~there]))
    clock = clock_between(forward, backward)
    ((when, told),) = clock.steps
    assert told == pytest.approx(step, abs=200_000)
    assert abs(when - own(np.array([at]))[0]) < 40_000_000
    assert clock.breaks_causality(int(t[-1]))
    clear = (forward[1] < when - 50_000_000) | (forward[1] > when + 50_000_000)
    if step < 0:
        clear &= (forward[1] < when + step) | (forward[1] > when - step)  # Times that came twice cannot be told.
    right = (clock.set_right(forward[1]) - forward[0])[clear]
    assert abs(int(right.min()) - 7_000_000) < 100_000
    assert int(right.max()) < 12_000_000


def test_a_path_that_changes_is_no_step_of_a_clock():
    rng = np.random.default_rng(6)
    t = np.sort(rng.integers(0, 60 * 10**9, 5000))
    there = rng.random(5000) < 0.5
    longer = np.where(t > 30 * 10**9, 20_000_000, 0)
    for both in (True, False):
        delay = 7_000_000 + rng.exponential(400_000, 5000).astype(np.int64) + np.where(there | both, longer, 0)
        assert find_steps((t[there], t[there] + delay[there]), (t[~there] + delay[~there], t[~there])) == ()
