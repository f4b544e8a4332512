"""Which request a call lies behind, where something tells: identifiers, values, pauses, a connection left free."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.tiers.some_hops import DATABASE, MS, USER, WEB, hops_of
from yaffle.tiers.linking import link
from yaffle.tiers.one_host import _inside


def owners(hops, least=0.5):
    """The request behind which each call most likely lies, with its certainty; calls that belong to nobody are
    missing.
    """
    links = link(hops)
    found = {}
    for call, front, certainty in zip(links.call.tolist(), links.front.tolist(), links.certainty.tolist(), strict=True):
        if certainty >= least:
            found[call] = front
    return found


def pairs(count, every_ms=10.0, lasting_ms=40.0):
    """Requests that overlap, each with one call; the calls come in another order than the requests."""
    rng = np.random.default_rng(4)
    rows, truth = [], {}
    for k in range(count):
        rows.append((USER, WEB, every_ms * k, every_ms * k + lasting_ms, lasting_ms, 1 + k, 1))
    for k, pause in enumerate(rng.uniform(1, 20, count)):
        begin = every_ms * k + pause
        truth[len(rows)] = k
        rows.append((WEB, DATABASE, begin, begin + 10, 10, 1000 + k, 2))
    return rows, truth


def test_an_only_request_has_the_call():
    rows, truth = pairs(30, every_ms=100.0)
    assert owners(hops_of(rows)) == truth


def test_an_identifier_that_both_carry_tells():
    rows, truth = pairs(40)
    hops = hops_of(rows)
    tokens = hops.tokens.copy()
    for call, front in truth.items():
        tokens[call, 0] = tokens[front, 0] = 7_000 + front
    assert owners(replace(hops, tokens=tokens)) == truth


def test_a_value_that_agrees_by_its_place_tells():
    rows, truth = pairs(40)
    values = np.zeros(len(rows), np.uint64)
    for call, front in truth.items():
        values[call] = values[front] = 7_000 + front
    assert owners(hops_of(rows, values)) == truth


def test_what_tells_nothing_is_not_certain():
    rows, _ = pairs(40)
    links = link(hops_of(rows))
    shares = np.bincount(links.call, links.certainty, len(rows))[40:]
    best = np.array([links.certainty[links.call == call].max() for call in range(40, 80)])
    assert (shares > 0.8).mean() > 0.9  # Behind some request, yes;
    assert np.median(best) < 0.9  # which one is not known.


def test_calls_of_a_timer_belong_to_nobody():
    rows, truth = pairs(30, every_ms=100.0)
    pings = range(0, 3000, 37)
    rows += [(WEB, DATABASE + 1, 0.3 + ms, 0.5 + ms, 0.1, 5000, 9) for ms in pings]
    found = owners(hops_of(rows))
    assert {call: front for call, front in found.items() if call < 60} == truth
    assert len(found) - 30 <= len(pings) // 5  # Some come just when a call would.


@pytest.mark.parametrize("at_a_rate", [True, False])
def test_calls_at_a_rate_of_their_own_are_nobodys_however_many_requests_are_under_way(at_a_rate):
    rng = np.random.default_rng(6)
    begins = np.cumsum(rng.exponential(25.0, 300))
    rows = [(USER, WEB, ms, ms + 40.0, 40.0, 1 + k, 1) for k, ms in enumerate(begins)]
    rows += [(WEB, DATABASE, ms + 1.0, ms + 12.0, 11.0, 1000 + k, 2) for k, ms in enumerate(begins)]
    others = np.sort(rng.uniform(0, begins[-1], 250)) if at_a_rate else begins[:250] + rng.uniform(14.0, 16.0, 250)
    rows += [(WEB, DATABASE + 1, ms, ms + 1.0, 0.8, 5000, 9) for ms in others]
    found = owners(hops_of(rows))
    right = sum(found.get(300 + k) == k for k in range(300))
    assert right >= 290
    theirs = sum(call >= 600 for call in found)
    assert theirs <= 10 if at_a_rate else theirs >= 220


def test_who_waited_longest_gets_the_connection_that_was_left_free():
    rng = np.random.default_rng(8)
    rows, truth, free = [], {}, [0.0, 0.0]
    begins = np.cumsum(rng.exponential(9.0, 120))
    calls = []
    for k, begin in enumerate(begins):
        ready = begin + 1.0
        which = int(np.argmin(free))
        sent = max(ready, free[which] + 0.2)
        lasting = rng.uniform(10, 20)
        free[which] = sent + lasting
        calls.append((WEB, DATABASE, sent, sent + lasting, lasting, 1000 + which, 2))
        rows.append((USER, WEB, begin, sent + lasting + 1.0, sent + lasting + 1.0 - begin, k, 1))
    for k in range(len(calls)):
        truth[len(rows) + k] = k
    found = owners(hops_of(rows + calls))
    right = sum(truth[call] == front for call, front in found.items())
    assert right >= 0.9 * len(truth)


def test_a_second_address_of_a_host_is_found():
    rows = []
    for k in range(20):
        server = WEB if k % 2 else WEB + 5
        rows.append((USER, server, 100 * k, 100 * k + 50, 50, 1, 1))
        rows.append((WEB, DATABASE, 100 * k + 0.1, 100 * k + 49.9, 49.8, 2, 2))
    from yaffle.tiers.one_host import other_addresses

    hops = hops_of(rows)
    times = (hops.sent_ns, hops.arrived_ns, hops.handed_ns, hops.answered_ns)
    assert other_addresses(hops.client, hops.server, hops.service & 0xFFFF, *times) == {WEB + 5: WEB}
    shifted = (hops.sent_ns + 60 * MS * (hops.client == WEB), hops.arrived_ns + 60 * MS * (hops.client == WEB))
    assert other_addresses(hops.client, hops.server, hops.service & 0xFFFF, *shifted, *times[2:]) == {}


@pytest.mark.parametrize(
    ("requests", "pause_ms", "port", "found"),
    [(2, 0.15, 81, True), (3, 0.15, 81, True), (2, 3.0, 80, False), (1, 0.15, 81, False), (1, 0.15, 80, True)],
)
def test_few_requests_tell_by_how_near_their_calls_are_and_one_by_its_port(requests, pause_ms, port, found):
    from yaffle.tiers.one_host import other_addresses

    rng, rows = np.random.default_rng(8), []
    for k in range(90):
        begin, lasting = 45.0 * k + rng.uniform(0, 20), rng.uniform(10, 120)
        seldom = k % 30 == 11 and k // 30 < requests
        pause = pause_ms if seldom else 0.15
        rows.append((USER, WEB + 5 if seldom else WEB, begin, begin + lasting, lasting, 1, 1))
        rows.append((WEB, DATABASE, begin + pause, begin + lasting - pause, lasting - 2 * pause, 2, 2))
    hops = hops_of(rows)
    times = (hops.sent_ns, hops.arrived_ns, hops.handed_ns, hops.answered_ns)
    ports = np.select([hops.server == WEB, hops.server == WEB + 5], [80, port], 5432)
    assert other_addresses(hops.client, hops.server, ports, *times) == ({WEB + 5: WEB} if found else {})


def test_of_two_that_fit_the_nearer_one_is_the_host():
    rows = []
    for k in range(20):
        rows.append((USER, WEB + 5, 100 * k, 100 * k + 50, 50, 1, 1))
        rows.append((WEB, 7, 100 * k + 0.05, 100 * k + 49.95, 49.9, 2, 2))
        rows.append((7, DATABASE, 100 * k + 0.2, 100 * k + 49.8, 49.6, 3, 3))
    from yaffle.tiers.one_host import other_addresses

    hops = hops_of(rows)
    times = (hops.sent_ns, hops.arrived_ns, hops.handed_ns, hops.answered_ns)
    assert other_addresses(hops.client, hops.server, hops.service & 0xFFFF, *times) == {WEB + 5: WEB}


def test_a_capture_without_hops_has_no_links():
    assert link(hops_of([])).call.size == 0


def test_calls_that_begin_late_and_end_early_are_another_hosts():
    from yaffle.tiers.one_host import other_addresses

    rows = []
    for k in range(20):
        rows.append((USER, WEB + 5, 100 * k, 100 * k + 50, 50, 1, 1))
        rows.append((7, DATABASE, 100 * k + 1.5, 100 * k + 48.5, 47, 3, 3))  # A server between them was not seen.
    hops = hops_of(rows)
    times = (hops.sent_ns, hops.arrived_ns, hops.handed_ns, hops.answered_ns)
    assert other_addresses(hops.client, hops.server, hops.service & 0xFFFF, *times) == {}


def test_where_everything_takes_a_moment_no_addresses_are_one_host():
    from yaffle.tiers.one_host import other_addresses

    rng = np.random.default_rng(6)
    begins = rng.uniform(0, 0.3, 400)
    rows = [
        (k % 20, 20 + k % 37, begin, begin + rng.uniform(0.001, 0.1), 0.001, k, 1) for k, begin in enumerate(begins)
    ]
    hops = hops_of(rows)
    times = (hops.sent_ns, hops.arrived_ns, hops.handed_ns, hops.answered_ns)
    assert other_addresses(hops.client, hops.server, hops.service & 0xFFFF, *times) == {}


@pytest.mark.parametrize("told", [(7, 11, 2, 20), (5, 5, 0, 80), (3, 30, 10, 90), (200, 300, 150, 400)])
def test_by_chance_is_the_tail_of_the_beta_binomial(told):
    from scipy.stats import betabinom

    from yaffle.tiers.one_host import _by_chance

    fitting, spans, shifted, tried = told
    wanted = betabinom.sf(fitting - 1, spans, shifted + 1, tried - shifted + 1)
    assert _by_chance(*told) == pytest.approx(wanted, rel=1e-6)


@given(
    st.lists(st.integers(0, 60), max_size=40),
    st.lists(st.tuples(st.integers(0, 60), st.integers(-1, 9)), min_size=1, max_size=6),
)
def test_moments_inside_any_stretch_are_found_in_order(moments, stretches):
    begin = np.array([first for first, _ in stretches])
    found = _inside(np.array(moments, np.int64), begin, begin + np.array([lasting for _, lasting in stretches]))
    lying = [k for k, t in enumerate(moments) if any(first <= t <= first + lasting for first, lasting in stretches)]
    assert found.tolist() == sorted(lying, key=lambda k: moments[k])
