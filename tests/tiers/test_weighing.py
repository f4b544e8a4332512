"""What is written down while calls find their owners holds by definition, and what is gained is the difference."""

import numpy as np
import pytest

from tests.tiers.plain_likelihood import as_python, scores_of
from tests.tiers.some_hops import DATABASE, USER, WEB, hops_of
from yaffle.tiers.habits import BINS, gap_bin
from yaffle.tiers.host_calls import host_calls
from yaffle.tiers.learning import learn
from yaffle.tiers.likelihood import gain
from yaffle.tiers.linking import link
from yaffle.tiers.owning import prepare, take
from yaffle.tiers.sweeps import sweep
from yaffle.tiers.watch import Watch
from yaffle.tiers.weighing import TRIES, Weighing


def crowded(seed, fronts=30, pooled=False, most=6):
    """A host with many requests at once, each with some calls to two services, some of them under way at once."""
    rng = np.random.default_rng(seed)
    asked, made = [], []
    for k, begin in enumerate(np.cumsum(rng.exponential(8.0, fronts))):
        at = begin
        for _ in range(rng.integers(0, most + 1)):
            at += rng.uniform(0.2, 6)
            lasting = rng.uniform(1, 9)
            lane = rng.integers(0, 3) if pooled else 100 + len(made)
            made.append((WEB, DATABASE + rng.integers(0, 2), at, at + lasting, lasting, lane, rng.integers(2, 4)))
            at += lasting * rng.uniform(0, 1.2)
        asked.append((USER, WEB, begin, at + rng.uniform(4, 12), 1, k, rng.integers(0, 2)))
    return hops_of(asked + made)


def walking(seed, **kinds):
    """(weighing, habits, walk) amid the weighing of a host."""
    hops = crowded(seed, **kinds)
    host = host_calls(hops, np.flatnonzero(hops.server == WEB), np.flatnonzero(hops.client == WEB))
    weighing = Weighing(host, 1, Watch())
    learnt, walk = learn(weighing), weighing.walks[0]
    prepare(host, learnt, walk.state, weighing.open)
    return weighing, learnt, walk


@pytest.mark.parametrize(("seed", "most"), [(0, 6), (1, 6), (2, 6), (3, 6), (4, 30), (5, 60)])
def test_what_is_written_down_is_what_holds(seed, most):
    weighing, learnt, walk = walking(seed, most=most)
    host = weighing.host
    for _ in range(4):
        sweep(host, learnt, walk.state, weighing.open, 0.6, TRIES, walk.weights, weighing.shares, walk.room)
        for front in np.unique(host.owners["front"])[::3].tolist():
            with as_python():
                calls, wanted = scores_of(host, learnt, walk.state, front)
            written = [*walk.state.calls["score"][calls], walk.state.fronts["score"][front]]
            assert written == pytest.approx(wanted, abs=1e-9)


@pytest.mark.parametrize("seed", range(5))
def test_what_a_call_gains_is_the_difference_of_all_there_is(seed):
    weighing, learnt, walk = walking(seed)
    with as_python():
        host, state = weighing.host, walk.state
        for c in weighing.open[::7].tolist():
            if state.calls["owner"][c] >= 0:
                take(host, learnt, state, c)
            for k in range(host.calls["owners"][c], host.calls["owners_end"][c]):
                front = int(host.owners["front"][k])
                gained, _ = gain(host, learnt, state, front, c, k)
                without = sum(scores_of(host, learnt, state, front)[1])
                state.calls["owner"][c] = k
                assert gained == pytest.approx(sum(scores_of(host, learnt, state, front)[1]) - without, abs=1e-9)
                state.calls["owner"][c] = -1


@pytest.mark.parametrize("seed", range(4))
def test_a_requests_calls_stay_one_list_in_order(seed):
    weighing, learnt, walk = walking(seed, pooled=True)
    host, state = weighing.host, walk.state
    for _ in range(5):
        sweep(host, learnt, state, weighing.open, 1.0, TRIES, walk.weights, weighing.shares, walk.room)
    seen = []
    for front in range(host.fronts.size):
        n, before = state.fronts["head"][front], -1
        while n >= 0:
            assert n > before == state.calls["before"][n]
            assert host.owners["front"][state.calls["owner"][n]] == front
            assert host.calls["owners"][n] <= state.calls["owner"][n] < host.calls["owners_end"][n]
            seen.append(n)
            before, n = n, state.calls["after"][n]
        assert state.fronts["tail"][front] == before
    assert sorted(seen) == np.flatnonzero(state.calls["owner"] >= 0).tolist()


def test_requests_swap_first_calls_and_keep_their_second_ones():
    """Each request asks two things, the second 0.9 to 1.1 ms after the first was answered: first calls that were taken
    for each other's are put right, although neither fits better for a request that has its own already.
    """
    rng = np.random.default_rng(9)
    asked, made, truth = [], [], []
    for k, begin in enumerate(np.cumsum(rng.exponential(9.0, 300))):
        first = begin + rng.uniform(1, 4)
        second = first + rng.lognormal(2.0, 0.5) + rng.uniform(0.9, 1.1)
        end = second + rng.lognormal(2.0, 0.5)
        made += [(WEB, DATABASE, first, second - 1.0, 1, 1000 + k, 2), (WEB, DATABASE, second, end, 1, 2000 + k, 3)]
        asked.append((USER, WEB, begin, end + 0.5, end - begin, k, 1))
        truth += [k, k]
    links = link(hops_of(asked + made))
    best = links.certainty > 0.5
    right = links.front[best] == np.array(truth)[links.call[best] - len(asked)]
    assert right.mean() > 0.97
    assert right[links.certainty[best] > 0.9].mean() > 0.985


def test_bins_of_gaps_are_two_to_each_doubling():
    gaps = np.unique(np.geomspace(1, 10**13, 3000).astype(np.int64))
    edges = 1000.0 * 2.0 ** (np.arange(BINS - 1) / 2.0)
    wanted = np.where(gaps <= 1000, 0, np.minimum(BINS - 1, np.searchsorted(edges, gaps, "right")))
    with as_python():
        np.testing.assert_array_equal([gap_bin(gap) for gap in gaps], wanted)
