"""Whether a host held acknowledgements back, told by turns: hosts are played, packet by packet, on ways that vary."""

import random
from typing import NamedTuple

import numpy as np
import pytest

from tests.frames import ACK, FIN, PSH, Talk
from tests.oracles.plain_transport import plain_release
from yaffle.analysis import analyse
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.transport.round_trips import FEW_BARE, HELD, release_held
from yaffle.transport.taking_turns import release_by_turns

MS = 1_000_000
TICKS = MS, MS


class Host(NamedTuple):
    """How a client acknowledges."""

    takes_turns: bool  # else it holds back always
    times: int = 1  # it sends soon, before it holds back
    hold_ms: float = 41.0
    programs_ms: tuple[float, float] = (5.0, 70.0)  # from an answer to the next request
    first_seen: bool = True  # whether the capture has the opening


class Played(NamedTuple):
    """A conversation at the server's side, and what really was."""

    talk: Talk
    waits_ms: list[float]
    alone: dict[int, bool]  # of each answer that was acknowledged alone, by its number: whether that was held back


def play(host, sway_ms, seed, exchanges=60):
    """Requests and answers, each one segment; ways of 30 ms, and more by chance. Packets keep their order."""
    rnd = random.Random(seed)
    talk = Talk(dport=5432)
    arrived = {"up": 0.0}

    def way():
        return 30 + rnd.expovariate(1 / sway_ms) if sway_ms else 30.0

    def up(now, size=0, flags=ACK):
        arrived["up"] = max(arrived["up"] + 0.001, now + way())
        talk.send(0, arrived["up"], size, flags, sent_ms=now)
        return arrived["up"]

    if host.first_seen:
        talk.open(0.0, 0.05)
        talk.out.clear()
        at = up(0.0, flags=2)
        talk.seq[0] -= 1  # Its number was counted at the opening.
        talk.send(1, at + 0.05, flags=18, seq=talk.seq[1] - 1)
        up(at + 0.05 + way())
    now, soon, waits, alone = 300.0, 0, [], {}
    for number in range(exchanges):
        asked = now
        at = up(now, 120, ACK | PSH)
        answered = at + rnd.uniform(1, 4)
        talk.send(1, answered, 400, ACK | PSH)
        got = answered + way()
        waits.append(got - asked)
        now = got + rnd.uniform(*host.programs_ms)
        holds = soon >= host.times or not host.takes_turns
        if not holds or now - got >= host.hold_ms:
            alone[number] = holds
            up(got + host.hold_ms * holds)
            soon = 0 if holds else soon
        if now - got < 40:
            soon += 1
    up(now, flags=FIN | ACK)
    return Played(talk, waits, alone)


def connection(talk, tmp_path, monkeypatch):
    """As gathered, with what was held back by how late it came alone."""
    analysis = analyse([talk.write(tmp_path / "a.pcap")])
    monkeypatch.setattr("yaffle.session.examine.release_by_turns", lambda *_: (False, False))
    found = Connection(Evidence(analysis), 0)
    release_held(found.segments, found.samples, found.extra)
    return analysis, found


def answers_told(found):
    """Of the answers acknowledged alone, by number: whether the sample is held."""
    g = found.segments
    answers = [i for i in range(g.size) if g[i]["d"] == 1 and g[i]["n"] > 0]
    own = [s for s in found.samples if s["side"] == 0 and s["bare"] == FEW_BARE]
    return {max(k for k, i in enumerate(answers) if i < s["i"]): bool(s["way"] == HELD) for s in own}


@pytest.mark.parametrize(("times", "found_of_6"), [(1, 6), (3, 4)])
def test_a_host_that_takes_turns_is_told_from_a_way_that_varies(times, found_of_6, tmp_path, monkeypatch):
    told_rightly, told, errors_ms, inside, taken = 0, 0, [], [], 0
    for seed in range(6):
        played = play(Host(True, times), 15.0, seed)
        analysis, found = connection(played.talk, tmp_path, monkeypatch)
        before = answers_told(found)
        takes_turns, servers = release_by_turns(found.segments, found.samples, found.extra, TICKS)
        after = answers_told(found)
        assert not servers
        if not takes_turns:
            assert after == before
            continue
        taken += 1
        told_rightly += sum(held == played.alone[number] for number, held in after.items())
        told += len(after)
        account = analysis.account
        waits_ms = (account.of_exchange("end_ns") - account.of_exchange("first_ns")) / MS
        wrong_ms = np.abs(waits_ms - played.waits_ms)
        errors_ms += [wrong_ms[number] for number, held in after.items() if held == played.alone[number]]
        low, high = account.of_exchange("network_low_ns") / MS, account.of_exchange("network_high_ns") / MS
        way_ms = np.array(played.waits_ms) - account.of_exchange("server_low_ns") / MS
        inside += ((way_ms >= low - 4) & (way_ms <= high + 4)).tolist()
        assert abs(waits_ms.sum() / sum(played.waits_ms) - 1) < 0.05
    assert taken >= found_of_6
    assert told_rightly >= 0.93 * told
    assert np.quantile(errors_ms, 0.9) < 5
    assert np.mean(inside) >= 0.9


@pytest.mark.parametrize("seed", range(3))
def test_a_host_that_always_holds_back_is_left_alone(seed, tmp_path, monkeypatch):
    for sway_ms in (0.0, 15.0):
        _, found = connection(play(Host(False), sway_ms, seed).talk, tmp_path, monkeypatch)
        before = answers_told(found)
        assert release_by_turns(found.segments, found.samples, found.extra, TICKS) == (False, False)
        assert answers_told(found) == before


def test_a_coarse_clock_tells_no_turns(tmp_path, monkeypatch):
    _, found = connection(play(Host(True), 15.0, 1).talk, tmp_path, monkeypatch)
    for tick in (0, 4 * MS, 10 * MS):
        assert release_by_turns(found.segments, found.samples.copy(), found.extra, (tick, MS)) == (False, False)
    assert release_by_turns(found.segments, found.samples.copy(), found.extra, TICKS) == (True, False)


def test_on_a_steady_way_nothing_is_asked(tmp_path, monkeypatch):
    analysis, found = connection(play(Host(True), 0.0, 1).talk, tmp_path, monkeypatch)
    assert release_by_turns(found.segments, found.samples, found.extra, TICKS) == (False, False)
    played = play(Host(True), 0.0, 1)
    waits = analysis.account.of_exchange("end_ns") - analysis.account.of_exchange("first_ns")
    assert np.abs(waits / MS - np.array(played.waits_ms)).max() < 3


@pytest.mark.parametrize("seed", range(8))
def test_turns_are_told_as_its_twin_tells_them(seed, tmp_path, monkeypatch):
    host = Host(seed % 4 != 3, 1 + seed % 3, programs_ms=(2.0, 50.0 + 5 * seed), first_seen=seed % 2 == 0)
    _, found = connection(play(host, 8.0 + seed, seed).talk, tmp_path, monkeypatch)
    g, samples = found.segments, found.samples.copy()
    wanted = [plain_release(g, samples, found.extra[side], side) for side in (0, 1)]
    assert release_by_turns(g, found.samples, found.extra, TICKS) == (wanted[0][0], wanted[1][0])
    released = np.flatnonzero(samples["way"] != found.samples["way"]).tolist()
    assert released == sorted(wanted[0][1] + wanted[1][1])
