"""The ledger against simulated connections, whose truth is known: it adds up, and moves with the cause."""

import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from yaffle.analysis import analyse
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.morning import Request, client_script, server_script
from yaffle.demo.network import MS, Link, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame
from yaffle.demo.tcp_model import Endpoint, Host, pair
from yaffle.findings.verdict import verdict_of
from yaffle.ledger import causes


def simulate(
    path,
    calls,
    *,
    delay_ms=10,
    loss=0.0,
    rate_bps=0,
    queue_bytes=1 << 30,
    near_client=True,
    snap=96,
    seed=1,
    jitter_ns=0,
    keep=None,
    tick_ns=1,
    **client,
):
    """One connection over one line; returns (file, waits as the client's application had them)."""
    world = World(seed)
    tap = Tap(world, "tap")
    up = Link(world, delay_ms * MS, rate_bps, queue_bytes, (lambda now: loss) if loss else None, jitter_ns)
    down = Link(world, delay_ms * MS, rate_bps, queue_bytes, (lambda now: loss) if loss else None, jitter_ns)
    one, two = Host(world, "198.51.100.1"), Host(world, "203.0.113.1")
    log = []
    client_end = Endpoint(one, one.port(), client_script(calls, log, world), **client)
    server_end = Endpoint(two, 80, server_script(calls))
    hops = ([tap, up], [down, tap]) if near_client else ([up, tap], [tap, down])
    pair(client_end, server_end, *hops)
    client_end.connect()
    world.run(120 * S)
    packets = [
        ((S + t) // tick_ns * tick_ns, *tcp_frame(segment, ip_id, ttl, tos, snap))
        for t, ip_id, ttl, tos, segment in tap.seen
    ]
    if keep is not None:
        packets = [p for p in packets if keep(p)]
    write_pcapng(path, packets, snap_bytes=snap)
    return path, log


def parties(account):
    sums = dict.fromkeys(causes.PARTIES, 0)
    for k, (party, _) in enumerate(causes.CHARGES):
        sums[party] += int(account.connection_charges[:, k].sum())
    return sums


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    seed=st.integers(0, 1 << 16),
    loss=st.sampled_from([0.0, 0.01, 0.05, 0.15]),
    delay_ms=st.integers(0, 90),
    think_ms=st.integers(0, 400),
    size=st.integers(1, 200_000),
    snap=st.sampled_from([54, 66, 96, 2000]),
    near=st.booleans(),
    dropped=st.sampled_from([0.0, 0.02, 0.3]),
    cut=st.floats(0, 1),
)
def test_the_charges_add_up_to_the_wait_whatever_happens(
    tmp_path, seed, loss, delay_ms, think_ms, size, snap, near, dropped, cut
):
    rnd = random.Random(seed)
    calls = [Request(rnd.randrange(1, 5000), think_ms * MS, size, rnd.randrange(200) * MS) for _ in range(3)]
    begins = S + int(cut * 300 * MS) if cut > 0.7 else 0
    path, _ = simulate(
        tmp_path / "a.pcapng", calls, delay_ms=delay_ms, loss=loss, near_client=near, snap=snap, seed=seed,
        jitter_ns=50_000,
        keep=lambda p: p[0] >= begins and rnd.random() >= dropped,
    )  # fmt: skip
    account = analyse([path]).account
    assert (account.exchange_charges >= 0).all()
    assert (account.connection_charges >= 0).all()
    assert (account.connection_charges.sum(axis=1) == account.fact("wait_ns")).all()
    for x in range(account.exchange.shape[0]):
        row = account.exchange[x]
        assert account.exchange_charges[x].sum() == row[5] - row[1] + row[8]
        assert row[1] <= row[2] <= row[4] <= row[5]


@pytest.mark.parametrize("near", [True, False])
def test_waits_are_what_the_client_had_from_either_side(tmp_path, near):
    calls = [Request(300, 40 * MS, 20_000, 100 * MS) for _ in range(8)]
    path, log = simulate(tmp_path / "a.pcapng", calls, delay_ms=20, near_client=near)
    account = analyse([path]).account
    assert account.exchange.shape[0] == 8
    for x, (asked, had) in enumerate(log):
        wait = int(account.exchange_charges[x].sum()) - int(account.exchange[x, 8])
        assert abs(wait - (had - asked)) < 2 * MS


@pytest.mark.parametrize("near", [True, False])
def test_a_slow_server_is_charged_what_it_thought(tmp_path, near):
    calls = [Request(300, 700 * MS, 3000, 50 * MS) for _ in range(4)]
    path, _ = simulate(tmp_path / "a.pcapng", calls, near_client=near)
    account = analyse([path]).account
    sums = parties(account)
    assert abs(sums["server"] - 4 * 700 * MS) < 8 * MS
    assert verdict_of(account, 0).party == "server"


@pytest.mark.parametrize("near", [True, False])
def test_loss_is_the_networks(tmp_path, near):
    calls = [Request(300, 5 * MS, 60_000, 50 * MS) for _ in range(6)]
    path, _ = simulate(tmp_path / "a.pcapng", calls, loss=0.06, near_client=near, delay_ms=25, seed=5)
    account = analyse([path]).account
    assert verdict_of(account, 0).party == "network"
    assert account.connection_charges[0, causes.LOSS] > account.connection_charges[0, causes.PROCESSING]
    assert parties(account)["server"] < 6 * 5 * MS + 60 * MS


@pytest.mark.parametrize("near", [True, False])
def test_a_slow_reader_is_the_client(tmp_path, near):
    path, _ = simulate(
        tmp_path / "a.pcapng",
        [Request(200, 5 * MS, 300_000, 0)],
        near_client=near,
        delay_ms=5,
        buffer_bytes=32_768,
        read_bps=800_000,
    )
    account = analyse([path]).account
    verdict = verdict_of(account, 0)
    assert (verdict.party, verdict.cause) == ("client", "window")
    assert account.side(0, "zero_window_ns")[0] > 300 * MS


def test_a_narrow_line_is_the_networks_and_no_stall_of_the_server(tmp_path):
    path, _ = simulate(
        tmp_path / "a.pcapng",
        [Request(200, 5 * MS, 400_000, 0)],
        rate_bps=2_000_000,
        queue_bytes=400_000,
        near_client=True,
    )
    account = analyse([path]).account
    assert verdict_of(account, 0).party == "network"
    assert account.connection_charges[0, causes.STALL] < 100 * MS


def test_healthy_traffic_is_nobodys_fault(tmp_path):
    path, _ = simulate(tmp_path / "a.pcapng", [Request(200, 5 * MS, 8_000, 30 * MS) for _ in range(5)], delay_ms=4)
    account = analyse([path]).account
    assert verdict_of(account, 0).party == "none"


def test_more_thinking_moves_only_the_servers_charge(tmp_path):
    found = []
    for think in (10, 310):
        path, _ = simulate(
            tmp_path / f"{think}.pcapng", [Request(300, think * MS, 10_000, 20 * MS) for _ in range(3)], delay_ms=15
        )
        found.append(parties(analyse([path]).account))
    assert abs(found[1]["server"] - found[0]["server"] - 900 * MS) < 2 * MS
    assert abs(found[1]["network"] - found[0]["network"]) < 5 * MS


def test_both_points_agree_about_the_parties(tmp_path):
    sums = []
    for near in (True, False):
        path, _ = simulate(
            tmp_path / f"{near}.pcapng",
            [Request(900, 120 * MS, 50_000, 20 * MS) for _ in range(4)],
            delay_ms=30,
            near_client=near,
        )
        sums.append(parties(analyse([path]).account))
    for party in causes.PARTIES:
        assert abs(sums[0][party] - sums[1][party]) < 25 * MS, (
            party
        )  # A delayed acknowledgement hides up to this from the far point.
