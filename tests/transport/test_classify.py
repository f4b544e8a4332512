"""Segments told apart: each conversation is written by hand, with its identifications and its losses."""

import struct

import numpy as np
import pytest

from tests.frames import ACK, FIN, PSH, RST, SYN, Talk
from yaffle.analysis import analyse
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.transport import kinds
from yaffle.transport.round_trips import ACKNOWLEDGED, BARE, FEW_BARE, HELD, SACKED


def classified(talk, tmp_path, number=0):
    analysis = analyse([talk.write(tmp_path / "a.pcap")])
    return Connection(Evidence(analysis), number)


def kinds_of(talk, tmp_path):
    return [kinds.in_words(int(k)) for k in classified(talk, tmp_path).segments["kind"]]


def request(talk, at_ms):
    talk.send(0, at_ms, 200, ACK | PSH)
    talk.send(1, at_ms + 10)
    return talk


def test_a_plain_exchange_holds_data_and_acknowledgements(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 115, 500, ACK | PSH)
    talk.send(0, 115.1)
    talk.close(200)
    words = kinds_of(talk, tmp_path)
    assert words == [
        "SYN",
        "SYN-ACK",
        "acknowledgement",
        "data",
        "acknowledgement",
        "data",
        "acknowledgement",
        "FIN",
        "FIN",
        "acknowledgement",
    ]


def test_a_repeat_seen_twice_after_duplicate_acknowledgements_is_fast(tmp_path):
    talk = request(Talk().open(), 100)
    first = talk.send(1, 120, 1448, lost=True)
    for k in range(1, 5):
        talk.send(1, 120 + k, 1448)
        talk.send(0, 120.1 + k, ack=first)
    talk.send(1, 140, 1448, seq=first)
    talk.send(0, 140.1)
    words = kinds_of(talk, tmp_path)
    assert words.count("duplicate acknowledgement") == 4
    assert "fast retransmission, original lost before this capture point" in words


def test_a_repeat_whose_first_copy_was_seen_counts_too(tmp_path):
    talk = request(Talk().open(), 100)
    first = talk.send(1, 120, 1000)
    talk.send(1, 350, 1000, seq=first)
    talk.send(0, 350.1)
    assert kinds_of(talk, tmp_path)[-2] == "tail loss probe"


def test_a_late_original_is_no_repeat_by_its_identification(tmp_path):
    talk = request(Talk().open(), 100)
    for k in range(8):
        talk.send(1, 110 + k, 1448)
    late = talk.seq[1]
    talk.ids[1] += 1
    talk.seq[1] += 1448
    talk.send(1, 120, 1448)
    talk.send(1, 121, 1448, seq=late, ip_id=talk.ids[1] - 1)
    assert kinds_of(talk, tmp_path)[-1] == "out-of-order"


def test_a_late_original_is_no_repeat_by_its_timestamp_where_identification_tells_nothing(tmp_path):
    talk = Talk(ids=False).open()
    talk.send(0, 100, 200)
    late = talk.seq[1]
    talk.seq[1] += 1448
    talk.send(1, 130, 1448)
    moved = talk.send(1, 120, 1448, seq=late)
    _, frame = talk.out.pop()
    talk.out.append((140_000_000, frame))  # Sent at 120, seen at 140.
    assert moved == late
    assert kinds_of(talk, tmp_path)[-1] == "out-of-order"


def test_a_copy_made_on_the_way_has_the_same_identification(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 120, 1000)
    talk.out.append((talk.out[-1][0] + 300_000, talk.out[-1][1]))
    assert kinds_of(talk, tmp_path)[-1] == "network duplicate"


def test_a_lost_request_gives_itself_away_by_the_missing_identification(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 115, 500)
    talk.send(0, 115.1)
    asked = talk.send(0, 300, 100, lost=True)
    talk.send(0, 520, 100, seq=asked)
    talk.send(1, 530, 500)
    assert "timeout retransmission (RTO), original lost before this capture point" in kinds_of(talk, tmp_path)


def test_an_acknowledgement_from_beyond_shows_what_was_lost_before_it(tmp_path):
    talk = request(Talk().open(), 100)
    lost = talk.send(1, 120, 700, lost=True)
    talk.send(0, 340, 200, seq=talk.seq[0] - 200, ack=lost)
    talk.send(1, 350)
    talk.send(1, 352, 700, seq=lost)
    assert kinds_of(talk, tmp_path)[-1].endswith("original lost before this capture point")


def test_keep_alives_and_their_answers_are_no_data(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 115, 500)
    talk.send(0, 115.1)
    for k in range(3):
        talk.send(0, 5000 * (k + 1), 0, seq=talk.seq[0] - 1)
        talk.send(1, 5000 * (k + 1) + 10)
    words = kinds_of(talk, tmp_path)
    assert words.count("keep-alive") == 3
    assert words.count("keep-alive ACK") == 3
    connection = classified(talk, tmp_path)
    assert connection.evidence.analysis.account.fact("exchanges")[0] == 1
    assert {s.kind for s in connection.silences(1_000_000_000)} == {"keep-alive"}


def test_a_probe_of_a_shut_window_is_told_from_a_keep_alive(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 115, 500)
    talk.send(0, 115.1, window=0)
    talk.send(1, 400, 0, seq=talk.seq[1] - 1)
    talk.send(0, 400.1, window=0)
    talk.send(0, 600, window=1000)
    words = kinds_of(talk, tmp_path)
    assert words[-3:] == ["zero-window probe", "zero-window probe ACK", "window update"]


def test_bare_closings_sent_again_are_counted_apart(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 115, 500)
    talk.send(0, 115.1)
    fin = talk.send(0, 200, flags=FIN | ACK)
    talk.send(0, 430, flags=FIN | ACK, seq=fin)
    account = classified(talk, tmp_path).evidence.analysis.account
    assert account.side(0, "closing_repeats")[0] == 1
    assert account.side(0, "retransmitted_packets")[0] == 0


@pytest.mark.parametrize("start", [0xFFFFFF00, 0x7FFFFF00])
def test_sequence_numbers_may_wrap(tmp_path, start):
    talk = Talk()
    talk.seq = [start, start]
    talk.open()
    talk.send(0, 100, 400)
    talk.send(1, 115, 1448)
    talk.send(1, 115.1, 1448)
    talk.send(0, 115.2)
    connection = classified(talk, tmp_path)
    assert not any(kinds.is_repeat(int(k)) for k in connection.segments["kind"])
    assert connection.segments["e"].max() == 1 + 2 * 1448


def test_ports_used_again_begin_a_new_connection(tmp_path):
    talk = request(Talk().open(), 100)
    talk.close(200)
    again = Talk()
    again.seq = [500_000, 700_000]
    again.open(5000)
    again.send(0, 5100, 50)
    talk.out += again.out
    account = classified(talk, tmp_path).evidence.analysis.account
    assert account.flow.size == 2
    assert account.fact("opening").tolist() == [0, 0]


def test_openings_refused_unanswered_and_unseen_are_told(tmp_path):
    refused, silent, middle = Talk(sport=1001), Talk(sport=1002), Talk(sport=40003)
    refused.send(0, 0, flags=SYN, ack=0)
    refused.send(1, 5, flags=RST | ACK)
    syn = silent.send(0, 0, flags=SYN, ack=0)
    silent.send(0, 1000, flags=SYN, seq=syn, ack=0)
    middle.send(1, 10, 500)
    middle.send(0, 11, 100)
    refused.out += silent.out + middle.out
    account = classified(refused, tmp_path).evidence.analysis.account
    by_port = dict(zip(account.flow.tolist(), account.fact("opening").tolist(), strict=True))
    assert [by_port[k] for k in (0, 1, 2)] == [2, 3, 1]


def test_round_trips_obey_karn(tmp_path):
    talk = Talk().open(rtt_ms=10)
    first = talk.send(0, 100, 100)
    talk.send(0, 400, 100, seq=first)
    talk.send(1, 401)  # Answers either copy: no sample.
    talk.send(0, 500, 100)
    talk.send(1, 512)
    samples = classified(talk, tmp_path).samples
    assert sorted(samples["rtt"][samples["side"] == 1].tolist()) == [10_000_000, 12_000_000]


def test_without_handshake_the_service_port_tells_the_server(tmp_path):
    talk = Talk()
    talk.send(1, 0, 500)
    talk.send(0, 1, 100)
    connection = classified(talk, tmp_path)
    assert connection.server_port == 80
    assert not connection.scales_known


def test_a_stream_one_way_only_is_read_without_complaint(tmp_path):
    talk = Talk()
    for k in range(50):
        talk.send(1, k, 1448)
    connection = classified(talk, tmp_path)
    assert connection.evidence.analysis.account.fact("exchanges")[0] == 0
    assert np.all(connection.segments["kind"] == kinds.DATA)


@pytest.mark.parametrize("lost", [True, False])
def test_an_acknowledgement_is_held_back_where_what_was_sent_right_after_did_not_come(tmp_path, lost):
    """Of two that arrive together neither is held back: late, both are the way's; alone, the first is the host's."""
    talk = Talk().open()
    talk.send(0, 100, 1448)
    talk.send(0, 100.1, 500, ACK | PSH)
    first = talk.seq[0] - 500
    talk.send(1, 152, ack=first)
    if lost:
        talk.send(0, 350, 500, ACK | PSH, seq=first)
    talk.send(1, 361 if lost else 152.3)
    samples = classified(talk, tmp_path).samples
    late = samples[samples["rtt"] == 52_000_000]
    assert late["way"].tolist() == [HELD if lost else ACKNOWLEDGED]
    assert late["bare"].tolist() == [FEW_BARE if lost else BARE]


@pytest.mark.parametrize("again", [True, False])
def test_a_sack_of_what_was_sent_again_tells_no_round_trip(tmp_path, again):
    talk = Talk().open()
    talk.send(0, 100, 1448)
    first = talk.send(0, 100.1, 500, ACK | PSH)
    if again:
        talk.send(0, 170, 500, ACK | PSH, seq=first)
    block = b"\x01\x01\x05\x0a" + struct.pack("!II", first, first + 500)
    talk.send(1, 200 if again else 130.1, ack=first - 1448, options=block)
    samples = classified(talk, tmp_path).samples
    assert samples["rtt"][samples["way"] == SACKED].tolist() == ([] if again else [30_000_000])


@pytest.mark.parametrize("acknowledged", [True, False])
def test_the_last_of_an_answer_that_a_probe_brought_was_sent_before(tmp_path, acknowledged):
    """Its first copy did not come as far as this point, where an identification is missing that no acknowledgement of
    the server's can have had: the client had said nothing since.
    """
    talk = Talk().open(rtt_ms=30)
    talk.send(0, 100, 100, ACK | PSH)
    talk.send(1, 131, 1448)
    talk.send(0, 131.1)
    if acknowledged:  # What is missing may be its acknowledgement.
        talk.send(0, 131.2, 100, ACK | PSH)
    first = talk.seq[1]
    talk.send(1, 131.3, 0 if acknowledged else 500, lost=True)
    talk.send(1, 227, 500, ACK | PSH, seq=first)
    talk.send(0, 227.1)
    g = classified(talk, tmp_path).segments
    last = g[(g["d"] == 1) & (g["n"] == 500)]
    wanted = kinds.DATA if acknowledged else kinds.REPEAT_TAIL | kinds.FIRST_UNSEEN
    assert last["kind"].tolist() == [wanted]
