"""A large host's calls, weighed piece by piece."""

import numpy as np
import pytest

from tests.tiers.some_hops import DATABASE, USER, WEB, hops_of
from yaffle.tiers import learning, linking, pieces, weighing
from yaffle.tiers.host_calls import host_calls


@pytest.fixture
def large(monkeypatch):
    """Every host is a large one, of small pieces."""
    monkeypatch.setattr(weighing, "_MOST_FULL", 0)
    monkeypatch.setattr(pieces, "_PIECE", 40)


def busy(count=600, at_once=2.0, told=True):
    """(hops, the front of each call): requests that come by chance, each with two calls after the pauses of a kind."""
    rng = np.random.default_rng(11)
    begins = np.cumsum(rng.exponential(40.0 / at_once, count))
    fronts, calls, values = [], [], []
    for k, begin in enumerate(begins):
        first = begin + rng.uniform(1.9, 2.1)
        second = first + rng.uniform(8, 14) + rng.uniform(3.9, 4.1)
        end = second + rng.uniform(10, 20) + rng.uniform(0.9, 1.1)
        fronts.append((USER, WEB, begin, end, end - begin, k, 1))
        calls.append((WEB, DATABASE, first, second - 4.0, 1, 5_000 + k, 2))
        calls.append((WEB, DATABASE, second, end - 1.0, 1, 5_000 + k, 3))
        values += [9_000 + k] * 2
    known = [9_000 + k for k in range(count)] + values if told else None
    return hops_of(fronts + calls, known), np.repeat(np.arange(count), 2)


def evidence(hops):
    return host_calls(hops, np.flatnonzero(hops.server == WEB), np.flatnonzero(hops.client == WEB))


def test_no_request_is_possible_for_calls_of_two_pieces(monkeypatch):
    monkeypatch.setattr(pieces, "_PIECE", 25)
    host = evidence(busy()[0])
    every = np.flatnonzero(host.calls["owners_end"] > host.calls["owners"])
    parts = pieces.pieces_of(host, every)
    assert len(parts) > 20
    np.testing.assert_array_equal(np.concatenate(parts), every)
    seen = set()
    for part in parts:
        first, last = host.calls["owners"][part[0]], host.calls["owners_end"][part[-1]]
        mine = set(host.owners["front"][first:last].tolist())
        assert not mine & seen
        seen |= mine


def test_a_host_that_always_owes_an_answer_is_one_piece(monkeypatch):
    monkeypatch.setattr(pieces, "_PIECE", 1)
    fronts = [(USER, WEB, 10.0 * k, 10.0 * k + 30, 30, k, 1) for k in range(50)]
    calls = [(WEB, DATABASE, 10.0 * k + 2, 10.0 * k + 9, 7, 100 + k, 2) for k in range(50)]
    host = evidence(hops_of(fronts + calls))
    assert len(pieces.pieces_of(host, np.arange(50))) == 1


@pytest.mark.usefixtures("large")
@pytest.mark.parametrize(("told", "least"), [(True, 0.999), (False, 0.97)])
def test_links_of_a_large_host_are_right(told, least):
    hops, truth = busy(told=told)
    links = linking.link(hops)
    best = np.lexsort((links.certainty, links.call))
    last = best[np.append(np.diff(links.call[best]) != 0, True)]
    right = links.front[last] == truth[links.call[last] - 600]
    assert right.mean() > least
    sure = links.certainty[last] > 0.9
    assert right[sure].mean() > 0.97


def mixed(count=1_200, at_once=3.0):
    """(hops, the front of each call): three kinds of requests, of two to four calls each, nothing but pauses tells."""
    rng = np.random.default_rng(3)
    fronts, calls, truth = [], [], []
    for k, begin in enumerate(np.cumsum(rng.exponential(40.0 / at_once, count))):
        kind, at = k * 7 % 3, begin + rng.lognormal(0, 0.4)
        for step in range(2 + kind):
            end = at + rng.lognormal(2.0, 0.5)
            calls.append((WEB, DATABASE, at, end, end - at, 5_000 + len(calls), 10 + step))
            truth.append(k)
            at = end + rng.lognormal(0, 0.4)
        fronts.append((USER, WEB, begin, at, at - begin, k, kind))
    return hops_of(fronts + calls), np.array(truth)


@pytest.mark.usefixtures("large")
def test_kinds_of_requests_are_learnt_of_a_large_host():
    hops, truth = mixed()
    links = linking.link(hops)
    best = np.lexsort((links.certainty, links.call))
    last = best[np.append(np.diff(links.call[best]) != 0, True)]
    right = links.front[last] == truth[links.call[last] - 1_200]
    assert right.mean() > 0.975
    assert right[links.certainty[last] > 0.9].mean() > 0.985


def crowd(count=400, at_once=8.0):
    """(hops, the front of each call): requests that wait for their turn, then make four calls beside each other."""
    rng = np.random.default_rng(0)
    fronts, calls, truth = [], [], []
    for k, begin in enumerate(np.cumsum(rng.exponential(40.0 / at_once, count))):
        at, ends = begin + rng.exponential(6.0), []
        for service, (median, spread) in enumerate(((12, 0.4), (5, 0.8), (8, 0.5), (15, 1.0))):
            at += rng.exponential(0.3)
            ends.append(at + rng.lognormal(np.log(median), spread))
            calls.append((WEB, DATABASE + service, at, ends[-1], ends[-1] - at - 0.1, 1_000 + len(calls), 2))
            truth.append(k)
        end = max(ends) + rng.exponential(4.0)
        fronts.append((USER, WEB, begin, end, end - begin, k, 1))
    return hops_of(fronts + calls), np.array(truth)


@pytest.mark.usefixtures("large")
@pytest.mark.parametrize("piece", [100, 1 << 30])
def test_where_much_is_in_doubt_what_is_sure_is_right(monkeypatch, piece):
    """In pieces one after another, and in one whose chains are drawn at once."""
    monkeypatch.setattr(pieces, "_PIECE", piece)
    hops, truth = crowd()
    links = linking.link(hops)
    sure = links.certainty > 0.9
    assert sure.sum() > 200
    assert (links.front == truth[links.call - 400])[sure].mean() > 0.93


@pytest.mark.usefixtures("large")
@pytest.mark.parametrize("piece", [100, 1 << 30])
def test_the_answer_is_the_same_each_time(monkeypatch, piece):
    monkeypatch.setattr(pieces, "_PIECE", piece)
    one, other = (linking.link(crowd(300)[0]) for _ in range(2))
    np.testing.assert_array_equal(one.certainty, other.certainty)
    np.testing.assert_array_equal(one.samples, other.samples)


def test_what_values_tell_alone_is_told_from_what_they_do_not():
    hops, truth = busy(200)
    host = evidence(hops)
    weighed = weighing.Weighing(host, 1, linking.Watch())
    calls, places = pieces.told_owners(host, learning.learn(weighed), weighed.open)
    assert calls.size > 0.95 * host.calls.size
    fronts = host.fronts["hop"][host.owners["front"][places]]
    np.testing.assert_array_equal(fronts, truth[host.calls["hop"][calls] - 200])
    untold = evidence(busy(200, told=False)[0])
    weighed = weighing.Weighing(untold, 1, linking.Watch())
    assert not pieces.told_owners(untold, learning.learn(weighed), weighed.open)[0].size
