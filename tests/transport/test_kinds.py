"""More kinds of segments, each in the shape that real stacks give it, and what is missing in the evidence."""

from struct import Struct

import numpy as np
import pytest

from tests.frames import ACK, PSH, RST, SYN, C, S, Talk, ether, pcap, tcp
from tests.transport.test_classify import classified, kinds_of, request
from yaffle.analysis import analyse
from yaffle.ledger import causes
from yaffle.transport import kinds

MS = 1_000_000


def sack(*blocks):
    body = b"".join(Struct("!II").pack(a, b) for a, b in blocks)
    return b"\x01\x01\x05" + bytes([2 + len(body)]) + body


def counts(talk, tmp_path, side, *names):
    account = analyse([talk.write(tmp_path / "a.pcap")]).account
    return [int(account.side(side, name)[0]) for name in names]


def test_a_segment_larger_than_any_line_carries_is_data_all_the_same(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 120, 40_000, ACK | PSH)
    talk.send(0, 120.2)
    talk.close(200)
    assert counts(talk, tmp_path, 1, "payload_bytes", "unique_bytes", "retransmitted_packets") == [40_000, 40_000, 0]
    assert kinds_of(talk, tmp_path).count("data") == 2


def test_part_of_a_large_segment_sent_again_is_a_repeat_of_that_part(tmp_path):
    talk = request(Talk().open(), 100)
    first = talk.send(1, 120, 14_480)
    for k in range(4):
        talk.send(0, 131 + k * 0.1, ack=first + 1448)
    talk.send(1, 132, 1448, seq=first + 1448)
    talk.send(0, 142)
    talk.close(200)
    assert counts(talk, tmp_path, 1, "retransmitted_packets", "retransmitted_bytes", "unique_bytes") == [
        1,
        1448,
        14_480,
    ]


def test_a_repeat_on_selective_acknowledgements_needs_no_three_duplicates(tmp_path):
    talk = request(Talk().open(), 100)
    lost = talk.send(1, 120, 1448)
    after = talk.send(1, 120.1, 1448)
    talk.send(0, 130, ack=lost, options=sack((after, after + 1448)))
    talk.send(1, 131, 1448, seq=lost)
    talk.send(0, 141)
    assert "fast retransmission" in kinds_of(talk, tmp_path)


def test_a_duplicate_selective_acknowledgement_shows_a_needless_repeat(tmp_path):
    talk = request(Talk().open(), 100)
    first = talk.send(1, 120, 1000)
    talk.send(1, 330, 1000, seq=first)
    talk.send(0, 335)
    talk.send(0, 345, options=sack((first, first + 1000)))
    assert counts(talk, tmp_path, 1, "retransmitted_packets", "spurious_packets") == [1, 1]


def test_an_answer_that_echoes_the_first_copy_shows_a_needless_repeat(tmp_path):
    def segment(side, at, seq, ack, size, value, echo):
        ends = ((C, 40000, S, 80), (S, 80, C, 40000))[side]
        return int(at * MS), ether(tcp(*ends, seq, ack, ACK, b"x" * size, ts=(value, echo), ip_id=int(at * 10)))

    talk = [
        segment(0, 100, 1, 1, 100, 100, 50), segment(1, 110, 1, 101, 0, 60, 100),
        segment(1, 120, 1, 101, 1000, 70, 100),
        segment(1, 330, 1, 101, 1000, 280, 100), segment(0, 335, 101, 1001, 0, 335, 70),
    ]  # fmt: skip
    account = analyse([pcap(tmp_path / "a.pcap", talk)]).account
    assert (account.side(1, "retransmitted_packets")[0], account.side(1, "spurious_packets")[0]) == (1, 1)
    talk[-1] = segment(0, 335, 101, 1001, 0, 335, 280)
    account = analyse([pcap(tmp_path / "b.pcap", talk)]).account
    assert (account.side(1, "retransmitted_packets")[0], account.side(1, "spurious_packets")[0]) == (1, 0)


def test_a_window_that_opens_is_an_update_and_no_duplicate(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 120, 1000)
    talk.send(0, 120.1, window=10)
    talk.send(0, 150, window=900)
    talk.send(1, 160, 1000)
    talk.send(0, 160.1, window=900)
    words = kinds_of(talk, tmp_path)
    assert "window update" in words
    assert "duplicate acknowledgement" not in words


@pytest.mark.parametrize("side", [0, 1])
def test_a_reset_says_whose_it_was(tmp_path, side):
    talk = request(Talk().open(), 100)
    talk.send(side, 150, flags=RST | ACK)
    found = analyse([talk.write(tmp_path / "a.pcap")]).account
    assert found.fact("closing")[0] == 1
    assert [int(found.side(s, "resets")[0]) for s in (0, 1)] == ([1, 0] if side == 0 else [0, 1])


def test_identification_that_stands_still_tells_nothing_and_harms_nothing(tmp_path):
    talk = request(Talk(ids=False).open(), 100)
    for k in range(10):
        talk.send(1, 120 + k, 1448)
        talk.send(0, 120.5 + k)
    talk.close(300)
    assert counts(talk, tmp_path, 1, "retransmitted_packets", "duplicate_packets", "out_of_order_packets") == [0, 0, 0]


def test_only_one_direction_seen_gives_what_that_direction_tells(tmp_path):
    talk = Talk().open()
    for k in range(6):
        talk.send(0, 100 + 100 * k, 200, ACK | PSH)
        talk.send(1, 110 + 100 * k, 700, ACK | PSH)
    only = [(t, f) for t, f in sorted(talk.out) if f[26:30] == bytes([203, 0, 113, 20])]
    account = analyse([pcap(tmp_path / "a.pcap", only)]).account
    assert account.fact("opening")[0] == 1
    assert account.side(1, "payload_bytes")[0] == 6 * 700
    assert account.fact("to_client_samples")[0] == 0
    assert (account.connection_charges.sum(axis=1) == account.fact("wait_ns")).all()


def test_a_start_in_mid_stream_knows_no_scale_and_says_so(tmp_path):
    talk = request(Talk().open(), 100)
    talk.send(1, 120, 1448)
    talk.send(0, 121)
    late = [p for p in sorted(talk.out) if p[0] > 50 * MS]
    connection = classified(type("Late", (), {"write": lambda self, path: pcap(path, late)})(), tmp_path)
    assert not connection.scales_known
    assert (connection.segments["room"] <= 0).all()


def test_a_tail_probe_comes_when_the_last_segment_waits_too_long(tmp_path):
    talk = request(Talk().open(), 100)
    last = talk.send(1, 120, 1448)
    talk.send(1, 150, 1448, seq=last)
    talk.send(0, 150.1)
    assert "tail loss probe" in kinds_of(talk, tmp_path)


def test_a_clock_set_back_gives_no_negative_time(tmp_path):
    talk = request(Talk().open(), 100_000)
    talk.send(1, 100_120, 500, ACK | PSH)
    out = sorted(talk.out)
    moved = [(t - 90_000 * MS if k > 4 else t, f) for k, (t, f) in enumerate(out)]
    account = analyse([pcap(tmp_path / "a.pcap", moved)]).account
    assert (account.exchange_charges >= 0).all()
    assert account.fact("last_ns")[0] >= account.fact("first_ns")[0]


def test_records_that_kept_nothing_are_counted(tmp_path):
    path = pcap(tmp_path / "a.pcap", [(k, b"", 100) for k in range(5)])
    capture = analyse([path]).capture
    assert capture.packets.time_ns.size == 5
    assert (capture.packets.flow == -1).all()
    assert any("truncated" in note for note in capture.sources[0].notes)


def test_both_sides_opening_at_once_make_one_connection(tmp_path):
    talk = Talk()
    talk.send(0, 0, flags=SYN, options=talk.options, ack=0)
    talk.send(1, 1, flags=SYN, options=talk.options, ack=0)
    talk.send(0, 500, flags=SYN, options=talk.options, ack=0, seq=1000)
    talk.send(1, 501, flags=SYN | ACK, options=talk.options, seq=9000)
    talk.send(0, 502)
    assert analyse([talk.write(tmp_path / "a.pcap")]).account.flow.size == 1


def test_both_sides_opening_at_once_show_no_loss(tmp_path):
    talk = Talk()
    talk.send(0, 0, flags=SYN, options=talk.options, ack=0)
    talk.send(1, 1, flags=SYN, options=talk.options, ack=0)
    talk.send(0, 30, flags=SYN | ACK, options=talk.options, seq=1000)
    talk.send(1, 31, flags=SYN | ACK, options=talk.options, seq=9000)
    talk.send(0, 60)
    account = analyse([talk.write(tmp_path / "a.pcap")]).account
    assert account.connection_charges[0, causes.LOSS] == 0
    assert account.connection_charges[0, causes.SET_UP] == 29 * MS


def test_an_acknowledgement_held_back_is_no_measure_of_the_way(tmp_path):
    talk = Talk().open()
    for k in range(8):
        talk.send(0, 100 + 200 * k, 200, ACK | PSH)
        talk.send(1, 110 + 200 * k, 700, ACK | PSH)
        talk.send(0, (150.1 if k % 2 else 110.1) + 200 * k)
    path = talk.write(tmp_path / "a.pcap")
    account = analyse([path]).account
    assert account.fact("to_client_max_ns")[0] < 1 * MS
    ways = classified(talk, tmp_path).samples["way"].tolist()
    assert ways.count(3) == 4


def test_every_kind_has_words_and_remarks(tmp_path):
    words = {kinds.in_words(k) for k in kinds.WORDS}
    assert len(words) == len(kinds.WORDS)
    assert "original lost" in kinds.in_words(kinds.REPEAT_FAST | kinds.FIRST_UNSEEN)
    assert "spurious" in kinds.in_words(kinds.REPEAT_FAST | kinds.SPURIOUS)
    assert kinds.is_repeat(kinds.REPEAT_TAIL | kinds.SPURIOUS)
    assert not kinds.is_repeat(kinds.COPY)


def test_round_trips_by_selective_acknowledgement_count_too(tmp_path):
    talk = request(Talk().open(), 100)
    lost = talk.send(1, 120, 1448, lost=True)
    after = talk.send(1, 121, 1448)
    talk.send(0, 124, ack=lost, options=sack((after, after + 1448)))
    samples = classified(talk, tmp_path).samples
    assert 3 * MS in np.abs(samples["rtt"][samples["way"] == 2]).tolist()
