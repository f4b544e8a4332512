"""Splits of servers' times: they add up, whatever lies behind; the plain way gives the same; links make trees."""

from collections import Counter, defaultdict
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.tiers.some_hops import DATABASE, MS, USER, WEB, hops_of, random_hops
from yaffle.tiers.critical_path import critical_path
from yaffle.tiers.linking import SAMPLES, link
from yaffle.tiers.split import NETWORK, OWN, split
from yaffle.tiers.tree import tree_of


def by_place(parts, root):
    """ms by hop and kind."""
    mine = parts.root == root
    places = zip(parts.hop[mine].tolist(), parts.kind[mine].tolist(), strict=True)
    return dict(zip(places, (parts.ns[mine] / MS).round(6).tolist(), strict=True))


def plain_split(tree, root):
    """The definition, from one border to the next: which hop's server, or way, has the root at each instant."""
    borders = sorted(
        {int(v) for name in ("begin_ns", "end_ns", "server_begin_ns", "server_end_ns", "received_ns", "answered_ns")
         for v in getattr(tree, name)}
    )  # fmt: skip
    found = Counter()
    for low, high in pairwise(borders):
        if low < tree.received_ns[root] or high > tree.answered_ns[root]:
            continue
        x, kind = root, OWN
        while True:
            behind = tree.behind[tree.at[x] : tree.at[x + 1]]
            under_way = [int(c) for c in behind if tree.begin_ns[c] <= low and tree.end_ns[c] > low]
            under_way = [c for c in under_way if tree.told_ns[c] <= tree.waits_ns[x]]
            if not under_way:
                break
            x = max(under_way, key=lambda c: int(tree.end_ns[c]))
            if not tree.server_begin_ns[x] <= low < tree.server_end_ns[x]:
                kind = NETWORK
                break
        if (x, kind) != (root, OWN):
            found[x, kind] += high - low
    total = sum(found.values())
    shrunk = min(1.0, tree.server_ns[root] / total) if total else 1.0
    return {place: ns * shrunk for place, ns in found.items()}, tree.server_ns[root] - total * shrunk


@given(st.integers(0, 10**6))
@settings(max_examples=30, deadline=None)
def test_splits_add_up_and_are_those_of_the_plain_way(seed):
    hops = random_hops(np.random.default_rng(seed))
    links = link(hops)
    roots = np.unique(links.front)
    for owner in links.samples[:2]:
        parts, tree = split(hops, owner[np.newaxis], roots), tree_of(hops, owner[np.newaxis])
        for root in roots.tolist():
            mine = parts.root == root
            assert abs(parts.ns[mine].sum() - hops.server_ns[root]) < 1.0
            assert (parts.ns[mine] >= -1e-6).all()
            wanted, own = plain_split(tree, root)
            found = dict(
                zip(zip(parts.hop[mine].tolist(), parts.kind[mine].tolist(), strict=True), parts.ns[mine], strict=True)
            )
            assert abs(found.pop((root, OWN), 0.0) - own) < 1.0
            assert found.keys() == {place for place, ns in wanted.items() if ns > 0} | found.keys()
            assert all(abs(ns - wanted.get(place, 0.0)) < 1.0 for place, ns in found.items())


@given(st.integers(0, 10**6))
@settings(max_examples=20, deadline=None)
def test_parts_over_many_states_are_the_averages_of_each(seed):
    hops = random_hops(np.random.default_rng(seed), hosts=4, count=40)
    links = link(hops)
    roots, states = np.unique(links.front), links.samples.shape[0]
    wanted = defaultdict(lambda: [0.0] * states)
    for state, owner in enumerate(links.samples):
        one = split(hops, owner[np.newaxis], roots)
        for root, via, hop, kind, ns in zip(*one[:5], strict=True):
            wanted[root, via, hop, kind][state] += ns
    every = split(hops, links.samples, roots)
    found = dict(zip(zip(*every[:4], strict=True), zip(*every[4:], strict=True), strict=True))
    assert len(found) == every.root.size
    assert found.keys() == wanted.keys()
    for place, (mean, least, most) in found.items():
        told = wanted[place]
        assert (mean, least, most) == pytest.approx((sum(told) / states, min(told), max(told)), abs=1e-3)


@given(st.integers(0, 10**6))
@settings(max_examples=30, deadline=None)
def test_the_critical_path_is_what_the_split_sums_up(seed):
    hops = random_hops(np.random.default_rng(seed))
    links = link(hops)
    owner = links.samples[0]
    tree = tree_of(hops, owner[np.newaxis])
    for root in np.unique(links.front).tolist():
        path = critical_path(tree, root)
        assert all(one.end_ns == two.begin_ns for one, two in pairwise(path))
        assert sum(s.end_ns - s.begin_ns for s in path) == max(0, tree.answered_ns[root] - tree.received_ns[root])
        sums = Counter()
        for s in path:
            sums[s.hop, s.kind] += s.end_ns - s.begin_ns
        sums.pop((root, OWN), None)
        wanted, _ = plain_split(tree._replace(server_ns=tree.answered_ns - tree.received_ns), root)
        assert sums == {place: ns for place, ns in wanted.items() if ns > 0}


@given(st.integers(0, 10**6))
@settings(max_examples=30, deadline=None)
def test_no_hop_lies_behind_two_or_behind_itself(seed):
    hops = random_hops(np.random.default_rng(seed))
    links = link(hops)
    assert links.samples.shape == (SAMPLES, hops.exchange.size)
    for owner in links.samples:
        assert (owner[owner >= 0] != np.flatnonzero(owner >= 0)).all()
        at = np.arange(owner.size)
        for _ in range(owner.size):
            at = np.where(at >= 0, owner[np.maximum(at, 0)], -1)
        assert (at == -1).all()  # However far in front: an end, and no circle.
    shares = np.bincount(links.call, links.certainty, hops.exchange.size)
    assert (shares <= 1.0 + 1e-9).all()
    assert (hops.server[links.front] == hops.client[links.call]).all()
    assert (hops.handed_ns[links.front] <= hops.sent_ns[links.call]).all()


def test_the_call_that_ended_last_is_what_was_waited_for():
    rows = [(USER, WEB, 0, 100, 100, 1, 1), (WEB, DATABASE, 10, 40, 30, 2, 2), (WEB, DATABASE, 20, 90, 60, 3, 2)]
    parts = split(hops_of(rows), np.array([[-1, 0, 0]]), np.array([0]))
    # Both under way from 20 on; the way to the database takes 5 there and 5 back in the second call.
    assert by_place(parts, 0) == {(1, OWN): 10.0, (2, NETWORK): 10.0, (2, OWN): 60.0, (0, OWN): 20.0}


def test_what_is_behind_cannot_have_taken_longer_than_the_server():
    rows = [(USER, WEB, 0, 100, 40, 1, 1), (WEB, DATABASE, 10, 90, 80, 2, 2)]
    parts = split(hops_of(rows), np.array([[-1, 0]]), np.array([0]))
    assert by_place(parts, 0) == {(1, OWN): 40.0, (0, OWN): 0.0}


def test_what_is_answered_after_the_answer_was_not_waited_for():
    rows = [(USER, WEB, 0, 100, 100, 1, 1), (WEB, DATABASE, 10, 40, 30, 2, 2), (WEB, DATABASE, 60, 130, 70, 3, 2)]
    hops, owner = hops_of(rows), np.array([[-1, 0, 0]])
    assert by_place(split(hops, owner, np.array([0])), 0) == {(1, OWN): 30.0, (0, OWN): 70.0}
    given_up = replace(hops, answered_ns=np.where(np.arange(3) == 2, -1, hops.answered_ns))
    assert by_place(split(given_up, owner, np.array([0])), 0) == {(1, OWN): 30.0, (2, OWN): 40.0, (0, OWN): 30.0}
    unanswered = replace(hops, answered_ns=np.where(np.arange(3) == 0, -1, hops.answered_ns))
    assert by_place(split(unanswered, owner, np.array([0])), 0) == {(1, OWN): 30.0, (2, OWN): 40.0, (0, OWN): 30.0}


def test_a_circle_of_calls_at_one_moment_makes_no_circle_of_links():
    rows = [(0, 1, 5, 20, 15, 1, 1), (1, 0, 5, 20, 15, 2, 1)]
    links = link(hops_of(rows))
    assert {(c, f) for c, f in zip(links.call.tolist(), links.front.tolist(), strict=True)} == {(1, 0)}
