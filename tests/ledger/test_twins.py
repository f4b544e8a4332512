"""The kernels of the ledger against their plain twins, on simulated connections with every cause of waiting."""

import random
from unittest.mock import patch

import numpy as np
import pytest

from tests.ledger.test_simulated import simulate
from tests.oracles.plain_exchange import PlainExchange
from tests.oracles.plain_ledger import (
    UNKNOWN,
    PlainWays,
    plain_cover,
    plain_lately,
    plain_limits,
    plain_opening,
    plain_repeat_delay,
    plain_side,
    plain_timer,
)  # fmt: skip
from tests.transport.test_taking_turns import Host, play
from yaffle.analysis import analyse
from yaffle.capture.packets import FIN, RST
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.exchanges.turns import UNENDED, empty_turns, find_turns
from yaffle.ledger import causes
from yaffle.ledger.arrangement import _lay_out, _packets_of_each, _take_over, turn
from yaffle.ledger.bounds import DOUBTS, PARTY_OF, bound
from yaffle.ledger.charging import charge_exchange
from yaffle.ledger.fields import SIDE_FIELDS
from yaffle.ledger.limits import sender_limits
from yaffle.ledger.openings import charge_opening, first_measurement
from yaffle.ledger.path_states import no_states
from yaffle.ledger.stretch import empty_cutting
from yaffle.ledger.transfers import loss_cover
from yaffle.ledger.trips import (
    LEAST,
    STATES,
    TICK,
    TURNS,
    Ways,
    lately,
    repeat_delay,
    retransmission_timer,
    survey_ways,
    trip_around,
)
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.transport import kinds
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.taking_turns import release_by_turns

SCENES = {
    "plain": {}, "loss": {"loss": 0.05, "delay_ms": 25}, "heavy loss": {"loss": 0.15, "delay_ms": 8},
    "narrow": {"rate_bps": 2_000_000, "queue_bytes": 400_000},
    "short queue": {"rate_bps": 3_000_000, "queue_bytes": 20_000},
    "slow reader": {"delay_ms": 5, "buffer_bytes": 32_768, "read_bps": 800_000}, "unsteady": {"jitter_ns": 6 * MS},
}  # fmt: skip
CASES = [(scene, near, seed) for scene in SCENES for near in (True, False) for seed in range(3)]


class Scene:
    """One connection with what its kernels are given."""

    def __init__(self, path):
        self.analysis = analyse([path])
        with patch("yaffle.session.examine.release_by_turns"):
            self.connection = Connection(Evidence(self.analysis), 0)
        self.g, self.samples = self.connection.segments, self.connection.samples
        account = self.analysis.account
        least = [int(account.fact(f"{way}_min_ns")[0]) for way in ("to_client", "to_server")]
        self.floors = np.array([f if f >= 0 else UNKNOWN for f in least])
        self.extra = np.empty((2, self.g.size), np.int64)
        self.ticks = extra_delays(self.g, self.extra)
        self.turns = release_by_turns(self.g, self.samples, self.extra, self.ticks)
        state, telling = np.zeros((2, STATES), np.int64), np.zeros((2, self.samples.size), np.int64)
        for side in (0, 1):
            state[side, LEAST], state[side, TICK] = self.floors[side], self.ticks[side]
            state[side, TURNS] = self.turns[side]
            survey_ways(
                self.samples,
                side,
                self.extra[side],
                state[side],
                telling[side],
                np.empty(self.samples.size + self.g.size, np.int64),
            )
        self.ways = Ways(self.samples, self.extra, state, telling, no_states(1), 0)
        self.cover = np.zeros(self.g.size + 2, np.int64)
        loss_cover(self.g, self.cover)


@pytest.fixture(params=CASES, ids=lambda case: f"{case[0]}-{'client' if case[1] else 'server'}-{case[2]}")
def scene(request, tmp_path):
    return Scene(simulated(tmp_path / "a.pcapng", *request.param))


def simulated(path, name, near, seed):
    """Four exchanges; of some captures packets are missing."""
    rnd = random.Random(seed)
    calls = [
        Request(rnd.randrange(1, 6000), rnd.randrange(300) * MS, rnd.randrange(1, 120_000), rnd.randrange(100) * MS)
        for _ in range(4)
    ]
    dropped = seed == 2
    keep = (lambda p: rnd.random() > 0.03) if dropped else None
    return simulate(path, calls, near_client=near, seed=seed, keep=keep, **SCENES[name])[0]


@pytest.mark.parametrize("seed", range(4))
def test_of_a_host_that_takes_turns_too(seed, tmp_path):
    scene = Scene(play(Host(True), 15.0, seed, exchanges=30).talk.write(tmp_path / "a.pcap"))
    assert scene.turns == (True, False)
    check(scene)


def test_every_kernel_gives_what_its_twin_gives(scene):
    check(scene)


def check(scene):
    """Every kernel, of one connection."""
    g, cover = scene.g, plain_cover(scene.g)
    assert scene.cover[: g.size].tolist() == cover
    _round_trips_and_timers(scene)
    whole = scene.connection.round_trip_ns
    for side in (0, 1):
        first, last, what, allowed = sender_limits(g, side, 1448, whole, scene.cover)
        assert list(zip(first.tolist(), last.tolist(), what.tolist(), strict=True)) == plain_limits(
            g, side, 1448, whole, cover
        )
        own = (g["d"] == side) & (g["n"] > 0) & (g["kind"] != kinds.COPY)
        assert (allowed[own] > 0).all()
        wanted = plain_side(g, side)
        assert {
            name: int(scene.analysis.account.side(side, name)[0]) for name in SIDE_FIELDS if name in wanted
        } == wanted
    charge, times = np.zeros(causes.COUNT, np.int64), np.zeros(5, np.int64)
    late = scene.extra[0]
    how = charge_opening(g, late, scene.floors, charge, times)
    assert (how, times[0], times[1]) == plain_opening(g, late, _known(scene.floors[0]))[:3]
    assert _by_cause(charge) == +plain_opening(g, late, _known(scene.floors[0]))[3]
    _exchanges(scene, cover, int(first_measurement(g, late, times[0], times[1])) if how == 0 else 0)


def _known(floor):
    return int(floor) if floor < UNKNOWN else 0


def _by_cause(charge):
    names = [cause if cause != "window" else f"{party} window" for party, cause in causes.CHARGES]
    return {name: int(value) for name, value in zip(names, charge, strict=True) if value}


def _round_trips_and_timers(scene):
    g, rnd = scene.g, random.Random(1)
    plain = PlainWays(g, scene.samples, scene.floors.tolist(), scene.extra, scene.turns, scene.ticks)
    for i in rnd.sample(range(g.size), min(40, g.size)):
        t = int(g["t"][i])
        for side in (0, 1):
            for first_ns in (0, 30 * MS):
                found = retransmission_timer(
                    scene.samples,
                    np.int64(side),
                    np.int64(t),
                    np.int64(_known(scene.floors[1 - side])),
                    np.int64(first_ns),
                )
                assert found == plain_timer(scene.samples, side, t, _known(scene.floors[1 - side]), first_ns)
            if g["d"][i] == side:
                assert trip_around(scene.ways, np.int64(side), np.int64(t), g, np.int64(i)) == plain.around(side, t, i)
                assert trip_around(scene.ways, np.int64(side), np.int64(t), g, np.int64(-1)) == plain.around(
                    side, t, -1
                )
            stop = min(g.size, i + 30)
            before = int(g["t"][stop - 1])
            assert lately(
                g, np.int64(i), np.int64(stop), np.int64(side), np.int64(t + 20 * MS), np.int64(before)
            ) == plain_lately(g, i, stop, side, t + 20 * MS, before)
    for copies in range(12):
        assert repeat_delay(np.int64(copies), np.int64(30 * MS), np.int64(250 * MS)) == plain_repeat_delay(
            copies, 30 * MS, 250 * MS
        )


def _ends(g, turns):
    """Each exchange as it was; as if its client had left in the middle of the answer; and before, or the server."""
    for x in range(turns.size):
        yield g, turns, x, g.size - 1
        answer, stop = int(turns[x]["answer"]), int(turns[x]["stop"])
        for i in [k for k in range(answer + 1, stop) if g[k]["d"] == 0][:3]:
            left = g.copy()
            left[i]["flags"] |= RST
            yield left, turns, x, i
        broken_off = turns.copy()
        broken_off[x]["stop"] = 1 + max(k for k in range(answer, stop) if g[k]["d"] == 1 and g[k]["n"] > 0)
        broken_off[x]["response_end"] = UNENDED
        for i in {g.size - 1, min(stop, g.size - 1)}:
            yield g, broken_off, x, i
        unanswered = turns.copy()
        unanswered[x]["answer"] = -1
        for i in {g.size - 1, answer, int(turns[x]["first"]) + 1}:
            closed = g.copy()
            closed[i]["flags"] |= FIN
            yield closed, unanswered, x, i


def _exchanges(scene, cover, opened_ns):
    g = scene.g
    turns = empty_turns(g.size)
    count = find_turns(g, turns)
    assert count >= 3
    mss = np.array([max([536, *(int(n) for n in g["n"][g["d"] == side])]) for side in (0, 1)])
    windows = np.array(
        [max([0, *(int(row["w"]) for row in g if row["d"] == side and not row["flags"] & 6)]) for side in (0, 1)]
    )
    charge, doubt, times = np.zeros(causes.COUNT, np.int64), np.zeros(DOUBTS, np.int64), np.zeros(5, np.int64)
    between = np.zeros(6, np.int64)
    for seen, own, x, ended in _ends(g, turns[:count]):
        room = empty_cutting()
        charge_exchange(
            seen, own, x, ended, scene.ways, mss, windows, scene.cover, opened_ns, room, charge, doubt, times
        )  # fmt: skip
        twin = PlainExchange(
            seen,
            own[x],
            ended,
            scene.samples,
            scene.floors.tolist(),
            scene.extra,
            mss.tolist(),
            windows.tolist(),
            cover,
            opened_ns,
            scene.turns,
            scene.ticks,
        )
        assert tuple(times.tolist()) == twin.moments
        assert _by_cause(charge) == +twin.charges
        assert charge.sum() == times[4] - times[0]
        bound(charge, PARTY_OF, doubt, between)
        low, high = between[::2], between[1::2]
        own = [
            int(charge[causes.party_columns(party)].sum()) for party in (causes.CLIENT, causes.NETWORK, causes.SERVER)
        ]
        assert (low >= 0).all()
        assert (low <= own).all()
        assert (high >= own).all()


def test_packets_are_arranged_by_connection_and_turned_to_their_client(tmp_path):
    rnd = random.Random(5)
    path, _ = simulate(tmp_path / "a.pcapng", [Request(100, MS, 3000, MS)])
    packets = analyse([path]).capture.packets
    flow = np.array([rnd.choice((-1, 0, 1, 2, 3)) for _ in range(packets.flow.size)], packets.flow.dtype)
    packets.flow[:] = flow
    direction, told = packets.direction.copy(), np.empty_like(packets.direction)
    turned, number = np.array([False, True, True, False]), np.array([0, 1, -1, 2], np.int32)
    counts = _packets_of_each(packets.flow, 4)
    assert counts.tolist() == [int((flow == f).sum()) for f in range(4)]
    wanted = [i for f in (0, 1, 3) for i in range(flow.size) if flow[i] == f]
    former, former_starts, done = np.empty(0, np.int32), np.zeros(4, np.int64), 0
    for end in (0, flow.size // 3, flow.size):  # As the capture grows.
        counts = _packets_of_each(packets.flow[:end], 4)[[0, 1, 3]]
        starts = np.concatenate([[0], np.cumsum(counts)])
        order, place = np.empty(int(starts[-1]), np.int32), starts[:-1].copy()
        _take_over(former_starts, former, place, order)
        _lay_out(packets.flow[done:end], done, number, place, order)
        former, former_starts, done = order, starts, end
    assert order.tolist() == wanted
    turn(packets.flow, packets.direction, turned, told)
    moved = np.isin(flow, (1, 2))
    assert (told == np.where(moved, direction ^ 1, direction)).all()
    assert (packets.direction == direction).all()
