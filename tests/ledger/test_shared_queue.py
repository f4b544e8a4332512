"""Small exchanges behind others' transfers: the queue is the path's, whatever the connection itself could tell."""

import pytest

from yaffle.analysis import analyse
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.morning import Call, client_script, server_script
from yaffle.demo.network import MS, Link, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame
from yaffle.demo.tcp_model import Endpoint, Host, pair
from yaffle.findings.culprits import culprits, in_words
from yaffle.ledger import causes

BUSY, CALM, ANSWER = "203.0.113.9", "203.0.113.10", 700


def morning(path, near_client):
    """One transfer fills the line to a site; beside it another client asks small things. Returns (file, waits as its program had them)."""
    world = World(3)
    tap = Tap(world, "tap")
    up, down = Link(world, 10 * MS, 6_000_000, 1 << 20, None, 0), Link(world, 10 * MS, 6_000_000, 60_000, None, 0)
    hops = ([tap, up], [down, tap]) if near_client else ([up, tap], [tap, down])
    log = []
    for server, client, calls, mine in (
        (BUSY, "198.51.100.9", [Call(200, 5 * MS, 3_000_000, 0)], []),
        (CALM, "198.51.100.10", [Call(150, 4 * MS, ANSWER, 130 * MS) for _ in range(20)], log),
    ):
        one, two = Host(world, client), Host(world, server)
        ends = Endpoint(one, one.port(), client_script(calls, mine, world)), Endpoint(two, 80, server_script(calls))
        pair(*ends, *hops)
        world.at(0 if server == BUSY else 400 * MS, ends[0].connect)
    world.run(60 * S)
    write_pcapng(path, [(S + t, *tcp_frame(segment, ip_id, ttl, tos, 96)) for t, ip_id, ttl, tos, segment in tap.seen], snap_bytes=96)
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
