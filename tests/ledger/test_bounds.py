"""Bounds of each party's part: they hold the truth, combine by their rule, and decide what may be said."""

import numpy as np
import pytest

from tests.ledger.test_simulated import simulate
from yaffle.analysis import analyse
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.findings.certainty import bounds_of_connections, confidences, could_be_nil
from yaffle.ledger import bounds, causes
from yaffle.ledger.resolution import ticks_of_sources

SCENES = {
    "quiet": {}, "far": {"delay_ms": 70}, "loss": {"loss": 0.04, "delay_ms": 20},
    "unsteady": {"jitter_ns": 15 * MS, "delay_ms": 20},
    "narrow": {"rate_bps": 4_000_000, "queue_bytes": 200_000},
}  # fmt: skip


def of(account, party, end):
    return account.of_exchange(f"{party}_{end}_ns")


@pytest.mark.parametrize("near", [True, False])
@pytest.mark.parametrize("scene", SCENES)
def test_the_servers_time_lies_inside_its_bounds(tmp_path, scene, near):
    thinking = [3, 40, 250, 8, 90, 3, 700, 15, 3, 60]
    calls = [Request(300, ms * MS, 9000, 60 * MS) for ms in thinking]
    path, _ = simulate(tmp_path / "a.pcapng", calls, near_client=near, seed=4, **SCENES[scene])
    account = analyse([path]).account
    low, high = of(account, "server", "low") / MS, of(account, "server", "high") / MS
    inside = (low - 3 <= thinking) & (thinking <= high + 3)
    assert inside.mean() >= (0.7 if scene == "unsteady" else 0.9), (
        low,
        high,
    )  # Where each packet varies by itself, more hides.
    wait = account.exchange_charges.sum() / MS
    assert (high - low).sum() <= (0.5 if scene == "unsteady" else 0.15) * wait


@pytest.mark.parametrize("scene", SCENES)
def test_bounds_hold_the_charges_and_the_whole_wait(tmp_path, scene):
    path, _ = simulate(
        tmp_path / "a.pcapng", [Request(2000, 30 * MS, 40_000, 40 * MS) for _ in range(5)], seed=2, **SCENES[scene]
    )
    account = analyse([path]).account
    lows, highs = np.zeros(account.exchange.shape[0]), np.zeros(account.exchange.shape[0])
    for party in bounds.BOUNDED:
        own = account.exchange_charges[:, causes.party_columns(party)].sum(axis=1)
        assert (of(account, party, "low") <= own).all()
        assert (of(account, party, "high") >= own).all()
        lows, highs = lows + of(account, party, "low"), highs + of(account, party, "high")
    wait = account.exchange_charges.sum(axis=1)
    assert (lows <= wait).all()
    assert (highs + account.exchange_charges[:, causes.UNSEEN] >= wait).all()


@pytest.mark.parametrize("tick_ns", [1, 1000, MS, 10 * MS])
def test_bounds_grow_by_what_the_resolution_of_the_times_hides(tmp_path, tick_ns):
    thinking = [3, 40, 250, 8, 90, 3, 70, 15, 3, 60]
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, ms * MS, 900, 60 * MS) for ms in thinking], tick_ns=tick_ns)
    coarse = analyse([path])
    assert tick_ns <= ticks_of_sources(coarse.capture)[0] <= max(tick_ns, 100_000)  # What is simulated may be no finer.
    low, high = of(coarse.account, "server", "low") / MS, of(coarse.account, "server", "high") / MS
    assert (low <= np.array(thinking) + 0.2).all()
    assert (np.array(thinking) - 0.2 <= high).all()
    assert ((high - low) * MS >= 2 * tick_ns).all()


def test_sums_combine_between_blind_independence_and_worst_upon_worst():
    estimate, away = np.full(100, 10), np.full(100, 4)
    low, high = bounds.combined(estimate, estimate - away, estimate + away, np.zeros(100, np.int64), 1)
    for distance in (1000 - low[0], high[0] - 1000):
        assert 4 * 10 < distance < 4 * 100
        assert distance == pytest.approx(np.sqrt((1 - bounds.SHARED) * 100 * 16 + bounds.SHARED * 400**2))
    alone, _ = bounds.combined(estimate[:1], estimate[:1] - 4, estimate[:1] + 4, np.zeros(1, np.int64), 1)
    assert alone[0] == 6


def test_sums_are_by_group_and_never_below_nothing():
    low, high = bounds.combined(np.array([5, 7, 1]), np.array([0, 7, 0]), np.array([9, 7, 2]), np.array([1, 1, 0]), 3)
    assert low.tolist() == [0, 7, 0]
    assert high.tolist() == [2, 16, 0]


def test_a_party_whose_part_may_be_nil_is_not_named():
    sums = np.array([[0, 100, 900, 0], [0, 100, 900, 0]])
    low = np.array([[0.0, 80, 850], [0.0, 0, 0]])
    assert could_be_nil(sums, np.array([2, 2]), low).tolist() == [False, True]
    assert not could_be_nil(sums, np.array([3, 3]), low).any()


def test_confidence_falls_as_bounds_overlap():
    sums = np.repeat([[0, 400, 600, 0]], 3, axis=0) * MS
    low = np.array([[0, 390, 590], [0, 300, 400], [0, 0, 0]]) * MS
    high = np.array([[0, 410, 610], [0, 600, 700], [0, 1000, 1000]]) * MS
    found = confidences(sums, np.full(3, 2), low, high)
    assert found[0] > 0.97
    assert (np.diff(found) < 0).all()
    assert found[2] < 0.75


def test_connections_bear_what_is_no_exchanges(tmp_path):
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, 20 * MS, 3000, 30 * MS) for _ in range(3)])
    account = analyse([path]).account
    low, high = bounds_of_connections(account)
    for k, party in enumerate(bounds.BOUNDED):
        own = account.connection_charges[0, causes.party_columns(party)].sum()
        assert low[0, k] <= own <= high[0, k]
