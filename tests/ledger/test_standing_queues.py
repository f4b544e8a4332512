"""Connections that lived in a queue from first to last: what others' clocks say of it, and what is none."""

import numpy as np
import pytest

from tests.oracles.plain_transport import plain_extra_delays
from yaffle.analysis import analyse
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.morning import Request, client_script, server_script
from yaffle.demo.network import MS, Link, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame
from yaffle.demo.tcp_model import Endpoint, Host, pair
from yaffle.ledger.by_paths import delays_told
from yaffle.ledger.engine import Workshop
from yaffle.ledger.path_states import NO_FLOOR
from yaffle.ledger.standing_queues import (
    BIN_NS,
    CONNECTION,
    LATE,
    SIDE,
    TIME,
    Lived,
    above_their_path,
    floors_of_standing_queues,
    telling,
)
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection

FAR_MS = 60


def transfers(path, far_ms=0, fills=True):
    """Seen beside the clients: one transfer (which fills the line), and one that begins and ends while it lasts, from a
    server of the same network that may be further away. Returns the analysis, and the number of the second connection.
    """
    world = World(3)
    tap = Tap(world, "tap")
    for server, client, begin, size, far in (
        ("203.0.113.9", "198.51.100.9", 0, 6_000_000 if fills else 60_000, 0),
        ("203.0.113.10", "198.51.100.10", 4500 * MS, 400_000 if fills else 20_000, far_ms),
    ):
        up = Link(world, (10 + far) * MS, 8_000_000, 1 << 20, None, 0)
        if begin == 0:
            down = Link(world, 10 * MS, 8_000_000, 400_000, None, 0)
        beyond = Link(world, far * MS, 1_000_000_000, 1 << 20, None, 0)
        calls = [Request(200, 5 * MS, size, 50 * MS)]
        ends = (
            Endpoint(Host(world, client), 40_000, client_script(calls, [], world)),
            Endpoint(Host(world, server), 80, server_script(calls)),
        )
        pair(*ends, [tap, up], [beyond, down, tap] if far else [down, tap])
        world.at(begin, ends[0].connect)
    world.run(60 * S)
    frames = [(S + t, *tcp_frame(segment, ip_id, ttl, tos, 96)) for t, ip_id, ttl, tos, segment in tap.seen]
    write_pcapng(path, frames, snap_bytes=96)
    analysis = analyse([path])
    return analysis, int(analysis.account.fact("first_ns").argmax())


def test_a_transfer_within_anothers_queue_has_the_floor_of_its_path(tmp_path):
    analysis, second = transfers(tmp_path / "a.pcapng")
    account = analysis.account
    assert 20 * MS <= account.fact("to_server_min_ns")[second] < 24 * MS
    assert account.fact("handshake_ns")[second] > 60 * MS
    assert account.fact("to_server_min_ns")[1 - second] < 24 * MS


@pytest.mark.parametrize("fills", [True, False])
def test_a_server_that_is_further_away_keeps_its_own(tmp_path, fills):
    analysis, second = transfers(tmp_path / "a.pcapng", FAR_MS, fills)
    assert analysis.account.fact("to_server_min_ns")[second] >= 2 * FAR_MS * MS


def test_delays_are_the_least_of_each_moment_by_the_clock_of_who_sent(tmp_path):
    analysis, _ = transfers(tmp_path / "a.pcapng")
    account = analysis.account
    everyone = np.arange(account.flow.size)
    rows = delays_told(analysis.capture, account, everyone, Workshop(int(np.diff(account.starts).max()), 0))
    for c in everyone.tolist():
        g = Connection(Evidence(analysis), c).segments
        for side, late in enumerate(plain_extra_delays(g)):
            wanted = {}
            for row, one in zip(g, late, strict=True):
                if one >= 0:
                    moment = int(row["t"]) // BIN_NS
                    wanted[moment] = min(one, wanted.get(moment, one))
            own = rows[(rows[:, CONNECTION] == c) & (rows[:, SIDE] == side)]
            assert dict(zip((own[:, TIME] // BIN_NS).tolist(), own[:, LATE].tolist(), strict=True)) == wanted


def test_who_is_above_the_path_and_who_tells_of_it():
    path, least = np.array([0, 0, 0, 1]), np.array([NO_FLOOR, 20 * MS, NO_FLOOR, 50 * MS])
    floor = np.array([[-1, 20], [-1, 60], [-1, 60], [-1, 50]]) * MS
    most = np.array([[-1, 20], [-1, 90], [-1, 64], [-1, 90]]) * MS
    few = np.full((4, 2), 3)
    above = above_their_path(path, least, floor, most, few)
    assert above.tolist() == [[False, False], [False, True], [False, False], [False, False]]  # The third never varies.
    assert not above_their_path(path, least, floor, most, few * 10).any()
    assert telling(path, above, np.array([40, 900, 60, 900])).tolist() == [1, 2]
    assert telling(path, np.zeros_like(above), np.array([40, 900, 60, 900])).tolist() == []
    crowd = np.zeros(100, np.int64)
    one = np.arange(200).reshape(100, 2) == 7
    assert telling(crowd, one, np.arange(50, 150)).tolist() == list(range(84, 100))


@pytest.mark.parametrize(
    ("late_ms", "lowered"),
    [
        (lambda k: 30, True),
        (lambda k: 30 if k % 25 else 0, True),  # hardly ever empty
        (lambda k: 30 if k % 10 else 0, False),
        (lambda k: 15, False),  # less than half of the rise
    ],
)
def test_others_must_have_been_late_nearly_always_while_it_lived(late_ms, lowered):
    path, least = np.zeros(2, np.int64), np.array([NO_FLOOR, 20 * MS])
    floor, above = np.array([[-1, 20 * MS], [-1, 70 * MS]]), np.array([[False, False], [False, True]])
    rows = np.array([(0, 1, k * BIN_NS, late_ms(k) * MS if 100 <= k < 200 else 0) for k in range(300)])
    lived = Lived(*np.array([[0, 100 * BIN_NS], [300 * BIN_NS, 200 * BIN_NS], [20 * MS, 60 * MS]]))
    found = floors_of_standing_queues(rows, path, least, floor, above, lived)
    assert found[1, 1] == (20 * MS if lowered else NO_FLOOR)
    assert (found[:, 0] == NO_FLOOR).all()
    assert found[0, 1] == NO_FLOOR
    further = lived._replace(opening_ns=np.array([20, 80]) * MS)  # The queue of that moment does not explain that.
    unseen = lived._replace(opening_ns=np.array([20 * MS, -1]))
    for told, how in ((rows[:110], lived), (rows, further), (rows, unseen)):
        assert (floors_of_standing_queues(told, path, least, floor, above, how) == NO_FLOOR).all()
