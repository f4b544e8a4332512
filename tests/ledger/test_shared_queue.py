"""Small exchanges behind others' transfers: the queue is the path's, whatever the connection itself could tell."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.analysis import analyse
from yaffle.capture.packets import PacketTable
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.morning import Request, client_script, server_script
from yaffle.demo.network import MS, Link, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame
from yaffle.demo.tcp_model import Endpoint, Host, pair
from yaffle.findings.culprits import _sent_meanwhile, _together, culprits, in_words
from yaffle.ledger import causes
from yaffle.ledger.path_observation import idle_paths, sample_of_crowds

BUSY, CALM, ANSWER = "203.0.113.9", "203.0.113.10", 700


def morning(path, near_client):
    """One transfer fills the line to a site; another client asks small things.

    Returns (file, waits as its program had).
    """
    world = World(3)
    tap = Tap(world, "tap")
    up, down = Link(world, 10 * MS, 6_000_000, 1 << 20, None, 0), Link(world, 10 * MS, 6_000_000, 60_000, None, 0)
    hops = ([tap, up], [down, tap]) if near_client else ([up, tap], [tap, down])
    log = []
    for server, client, calls, mine in (
        (BUSY, "198.51.100.9", [Request(200, 5 * MS, 3_000_000, 0)], []),
        (CALM, "198.51.100.10", [Request(150, 4 * MS, ANSWER, 130 * MS) for _ in range(20)], log),
    ):
        one, two = Host(world, client), Host(world, server)
        ends = Endpoint(one, one.port(), client_script(calls, mine, world)), Endpoint(two, 80, server_script(calls))
        pair(*ends, *hops)
        world.at(0 if server == BUSY else 400 * MS, ends[0].connect)
    world.run(60 * S)
    write_pcapng(
        path,
        [(S + t, *tcp_frame(segment, ip_id, ttl, tos, 96)) for t, ip_id, ttl, tos, segment in tap.seen],
        snap_bytes=96,
    )
    return path, log


@pytest.mark.parametrize("near_client", [True, False])
def test_the_queue_that_another_fills_is_waited_for_and_is_the_networks(tmp_path, near_client):
    path, log = morning(tmp_path / "a.pcapng", near_client)
    analysis = analyse([path])
    account = analysis.account
    small = int(account.fact("exchanges").argmax())
    rows = [x for x in range(account.exchange.shape[0]) if account.exchange[x, 0] == small]
    assert len(rows) == len(log) == 20
    had = sum(end - began for began, end in log[1:])
    found = int(account.exchange_charges[rows[1:]].sum())
    assert abs(found - had) <= 0.06 * had + 10 * MS, (found / MS, had / MS)
    served = account.exchange_charges[rows][:, causes.party_columns(causes.SERVER)].sum() / 20 / MS
    assert abs(served - 4) < 5
    assert account.exchange_charges[rows, causes.QUEUEING].sum() > 10 * 20 * MS


def test_the_culprit_is_named(tmp_path):
    path, _ = morning(tmp_path / "a.pcapng", True)
    analysis = analyse([path])
    account = analysis.account
    small = int(account.fact("exchanges").argmax())
    rows = account.of_exchange("connection") == small
    found, themselves = culprits(analysis, rows.nonzero()[0])
    assert (found[0].source, found[0].target) == (BUSY, "198.51.100.9")
    assert found[0].share > 0.8
    assert themselves < 0.1
    assert in_words(found, themselves, {}).startswith(f" It waited behind {BUSY}'s transfer to 198.51.100.9")
    big = (~rows).nonzero()[0]
    assert "filled the path itself" in in_words(*culprits(analysis, big), {})


def observed(away_ns, connections=64, bins=100):
    """Rows of path_observation.observe: each connection one round trip every 10 ms, all above 20 ms by what away_ns
    tells of it.
    """
    return np.array(
        [
            (c, 1, b * 10 * MS, away, 20 * MS + away)
            for c in range(connections)
            for b in range(bins)
            for away in [int(away_ns(c, b))]
        ]
    )


def test_a_crowded_path_is_idle_where_no_moment_was_slow_for_all():
    path, floor_ns = np.zeros(64, np.int64), np.full((64, 2), 20 * MS)
    rng = np.random.default_rng(1)
    unsteady = observed(lambda c, b: rng.exponential(10 * MS))
    shared = observed(lambda c, b: rng.exponential(10 * MS) + (30 * MS if b % 10 == 3 else 0))
    alone = observed(lambda c, b: 50 * MS, connections=3)
    assert idle_paths(unsteady, path, floor_ns).tolist() == [True]
    assert idle_paths(shared, path, floor_ns).tolist() == [False]
    assert idle_paths(alone, path, floor_ns).tolist() == [False]  # Too few to tell.
    assert idle_paths(unsteady[:0], path, floor_ns).tolist() == [False]


def test_only_crowds_are_sampled_and_each_of_them_evenly():
    path = np.concatenate([np.zeros(500, np.int64), np.ones(1600, np.int64), np.full(800, 2)])
    wanted = np.ones(path.size, bool)
    wanted[path == 2] = np.arange(800) < 100
    rows = sample_of_crowds(path, wanted)
    assert set(path[rows]) == {1}
    assert rows.size == 100


@given(
    st.lists(st.tuples(st.integers(-1, 2), st.integers(0, 50), st.integers(0, 1), st.integers(1, 9)), max_size=30),
    st.lists(st.tuples(st.integers(0, 50), st.integers(0, 20)), min_size=1, max_size=6),
)
def test_what_passed_meanwhile_is_what_lay_in_any_period(passed, periods):
    columns = {
        name: np.array([p[k] for p in passed]) for k, name in enumerate(("flow", "time_ns", "direction", "size"))
    }
    packets = PacketTable(len(passed)).window(0, len(passed))
    for name, column in (("flow", "flow"), ("time_ns", "time_ns"), ("direction", "direction"), ("wire_bytes", "size")):
        getattr(packets, name)[:] = columns[column]
    periods.sort(key=lambda period: period[0])
    starts = np.array([begin for begin, _ in periods], np.int64)
    ends = np.maximum.accumulate(np.array([begin + lasting for begin, lasting in periods], np.int64))
    starts, ends = _together(starts, ends)
    assert (starts[1:] > ends[:-1]).all()
    sent = np.zeros((3, 2), np.int64)
    for begin, end in ((0, len(passed) // 2), (len(passed) // 2, len(passed))):
        _sent_meanwhile(packets, begin, end, np.array([True, False, True]), starts, ends, sent)
    expected = np.zeros((3, 2), np.int64)
    for flow, time, direction, size in passed:
        if flow in (0, 2) and any(begin <= time <= begin + lasting for begin, lasting in periods):
            expected[flow, direction] += size
    np.testing.assert_array_equal(sent, expected)
