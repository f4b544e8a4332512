"""Silences in words: what was outstanding, who owed the next packet, what ended it."""

import pytest

from tests.frames import ACK, PSH, SYN, Talk
from yaffle.analysis import analyse
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection


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
