import random

import numpy as np
import pytest

from tests.frames import C, S, ether, ip, pcap, udp
from tests.oracles.plain_twins import plain_answers, plain_bursts
from yaffle.analysis import analyse
from yaffle.capture.reader import read_captures
from yaffle.transport.bursts import SPANS_NS, bursts


def talk(tmp_path, packets):
    return analyse([pcap(tmp_path / "a.pcap", packets)]).datagrams


def test_answers_agree_with_the_plain_twin(tmp_path):
    rnd = random.Random(5)
    times = sorted(rnd.sample(range(1, 10**9), 400))
    sides = [rnd.randrange(2) for _ in times]
    sides[0] = 0
    packets = [
        (t, ether(udp(C, 5000, S, 53, b"q") if side == 0 else udp(S, 53, C, 5000, b"a")))
        for t, side in zip(times, sides, strict=True)
    ]
    found = talk(tmp_path, packets)
    latencies, tries, still_open = plain_answers(list(zip(times, sides, strict=True)))
    assert found.latencies_ns(0).tolist() == latencies
    assert (found.fact("tries")[0], found.fact("unanswered")[0], found.fact("answers")[0]) == (
        tries,
        still_open,
        len(latencies),
    )
    assert found.fact("longest_gap_ns")[0] == np.diff(times).max()


def test_echoes_pair_by_their_number(tmp_path):
    def echo(kind, number, src, dst):
        return ether(ip(src, dst, 1, bytes([kind, 0, 0, 0, 0, 9, 0, number]) + b"ping"))

    packets = [
        (10**9, echo(8, 1, C, S)),
        (2 * 10**9, echo(8, 2, C, S)),
        (2 * 10**9 + 7, echo(0, 2, S, C)),
        (3 * 10**9, echo(8, 3, C, S)),
        (3 * 10**9 + 9, echo(0, 3, S, C)),
    ]
    found = talk(tmp_path, packets)
    assert found.latencies_ns(0).tolist() == [7, 9]
    assert found.fact("unanswered")[0] == 1


def test_a_stream_one_way_asks_nothing(tmp_path):
    found = talk(tmp_path, [(k * 20_000_000 + 1, ether(udp(C, 5004, S, 5004, b"voice"))) for k in range(50)])
    assert (found.fact("unanswered")[0], found.fact("tries")[0], found.fact("client_packets")[0]) == (0, 0, 50)


def test_bursts_agree_with_the_plain_twin_and_casts_are_apart(tmp_path):
    rnd = random.Random(6)
    times = sorted(rnd.randrange(0, 400_000_000) for _ in range(600))
    frames = [
        ether(
            udp(C, 1, "233.252.0.1", 2, bytes(rnd.randrange(1000))), dst=b"\x01\0\x5e\0\0\1" if k % 3 else b"\xff" * 6
        )
        for k in range(600)
    ]
    packets = read_captures([pcap(tmp_path / "a.pcap", list(zip(times, frames, strict=True)))]).packets
    found = bursts(packets, np.ones(600, bool), times[0], times[-1])
    for span, peak in zip(SPANS_NS, found.peak_bps, strict=True):
        assert peak == pytest.approx(plain_bursts(times, packets.wire_bytes.tolist(), times[0], times[-1], span))
    assert found.octets["unicast"] == 0
    assert found.octets["broadcast"] == sum(len(f) for f in frames[::3])
    full = found.full_ms_per_s(found.peak_bps[0])
    assert full.sum() == 1
    with pytest.raises(ValueError, match="mask"):
        bursts(packets, np.ones(3, bool), 0, 1)
