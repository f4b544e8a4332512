"""Silences in words: what was outstanding, who owed the next packet, what ended it."""

import numpy as np
import pytest

from tests.frames import ACK, PSH, SYN, Talk
from yaffle.analysis import analyse
from yaffle.findings.verdict import verdict_columns, verdict_of
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.transport import kinds


def longest(talk, tmp_path):
    analysis = analyse([talk.write(tmp_path / "a.pcap")])
    return Connection(Evidence(analysis), 0).silences()[0]


def asked(talk=None, at_ms=100):
    talk = (talk or Talk()).open()
    talk.send(0, at_ms, 200, ACK | PSH)
    talk.send(1, at_ms + 10)
    return talk


def test_the_server_owes_an_answer(tmp_path):
    talk = asked()
    talk.send(1, 2100, 500, ACK | PSH)
    silence = longest(talk, tmp_path)
    assert (silence.owed_by, silence.kind) == ("server", "waiting")
    assert "acknowledged and unanswered" in silence.sentence
    assert silence.span_ns == 1_990_000_000


def test_the_server_owes_the_rest_of_an_answer(tmp_path):
    talk = asked()
    talk.send(1, 120, 500, ACK | PSH)
    talk.send(0, 120.1)
    talk.send(1, 900, 500, ACK | PSH)
    silence = longest(talk, tmp_path)
    assert (silence.owed_by, "incomplete" in silence.sentence) == ("server", True)


def test_the_client_owes_the_rest_of_its_request(tmp_path):
    talk = asked()
    talk.send(0, 900, 300, ACK | PSH)
    assert longest(talk, tmp_path).owed_by == "client"


def test_nobody_owes_anything_between_exchanges(tmp_path):
    talk = asked()
    talk.send(1, 120, 500, ACK | PSH)
    talk.send(0, 120.1)
    talk.send(0, 5000, 200, ACK | PSH)
    silence = longest(talk, tmp_path)
    assert (silence.owed_by, silence.kind) == ("nobody", "idle")


@pytest.mark.parametrize("side", [0, 1])
def test_a_repeat_ends_a_silence_of_the_side_that_had_to_send_again(tmp_path, side):
    talk = asked()
    first = talk.send(side, 130, 700, ACK | PSH)
    talk.send(side, 1400, 700, ACK | PSH, seq=first)
    silence = longest(talk, tmp_path)
    assert silence.owed_by == ("client", "server")[side]
    assert "retransmitted" in silence.sentence


def test_a_shut_window_is_its_owners_silence(tmp_path):
    talk = asked()
    talk.send(1, 120, 1000)
    talk.send(0, 121, window=0)
    talk.send(0, 1800, window=900)
    talk.send(1, 1811, 500)
    silence = longest(talk, tmp_path)
    assert silence.owed_by == "client"
    assert "window" in silence.sentence


def test_an_opening_that_is_not_answered_is_the_servers(tmp_path):
    talk = Talk()
    talk.send(0, 0, flags=SYN, options=talk.options, ack=0)
    talk.send(0, 1000, flags=SYN, options=talk.options, ack=0, seq=1000)
    silence = longest(talk, tmp_path)
    assert (silence.owed_by, silence.kind) == ("server", "set-up")


def test_what_is_known_at_each_packet_is_what_a_look_back_finds(tmp_path):
    talk = asked()
    rng = np.random.default_rng(7)
    for k in range(60):
        talk.send(int(rng.integers(2)), 300 + 40 * k, int(rng.integers(3)) * 400, ACK)
    connection = Connection(Evidence(analyse([talk.write(tmp_path / "a.pcap")])), 0)
    g, until = connection.segments, connection._until
    for at in range(g.size):
        back = g[: at + 1]
        for side in (0, 1):
            own, other = back[back["d"] == side], back[back["d"] != side]
            assert until.highest[side][at] == (own["e"].max() if own.size else 0)
            assert until.acknowledged[side][at] == (other["a"].max() if other.size else 0)
            assert until.last[side][at] == max(np.flatnonzero(back["d"] == side), default=-1)
        data = np.flatnonzero((back["n"] > 0) & ((back["kind"] & kinds.KIND_MASK) != kinds.COPY))
        assert until.last_data[at] == max(data, default=-1)


def test_a_verdict_of_one_connection_is_that_among_all(analysed_morning):
    account = analysed_morning.account
    columns = verdict_columns(account)
    for c in range(0, account.flow.size, 97):
        assert verdict_of(account, c) == verdict_of(account, c, columns)
