"""Captures made to take the square of their length: they end like any other (the time limit of the tests would
tell).
"""

from tests.frames import ACK, SYN, C, S, ether, pcap, tcp
from yaffle.analysis import analyse
from yaffle.findings.slow_exchanges import find

MS = 1_000_000


def ends(tmp_path, packets):
    analysis = analyse([pcap(tmp_path / "a.pcap", packets)])
    find(analysis, analysis.speaker)
    account = analysis.account
    assert (account.connection_charges.sum(axis=1) == account.fact("wait_ns")).all()
    assert (account.exchange_charges >= 0).all()
    return account


def test_a_capture_in_which_all_happens_at_once(tmp_path):
    ask, answer = (tcp(C, 40000, S, 80, 1, 1, ACK, b"q"), tcp(S, 80, C, 40000, 1, 2, ACK, b"a"))
    packets = []
    for k in range(20_000):
        ask, answer = tcp(C, 40000, S, 80, 1 + k, 1 + k, ACK, b"q"), tcp(S, 80, C, 40000, 1 + k, 2 + k, ACK, b"a")
        packets += [(0, ether(ask)), (0, ether(answer))]
    assert ends(tmp_path, packets).fact("exchanges")[0] == 20_000


def test_repeats_that_nobody_ever_acknowledges(tmp_path):
    again = [ether(tcp(S, 80, C, 40000, first, 5, ACK, b"x" * 100)) for first in (1000, 5000)]
    held = ether(
        tcp(C, 40000, S, 80, 5, 1000, ACK, options=b"\x01\x01\x05\x0a" + bytes((0, 0, 0x13, 0x88, 0, 0, 0x13, 0xEC)))
    )
    packets = [(k * 2 * MS, held if k % 2 else again[k % 3 > 0]) for k in range(40_000)]
    assert ends(tmp_path, packets).side(1, "retransmitted_packets")[0] > 10_000


def test_a_round_trip_of_an_hour_and_data_without_end(tmp_path):
    packets = [
        (0, ether(tcp(C, 40000, S, 80, 0, 0, SYN))),
        (3_600_000 * MS, ether(tcp(S, 80, C, 40000, 0, 1, SYN | ACK))),
    ]
    for k in range(40_000):
        data = (
            tcp(S, 80, C, 40000, 1 + k * 100, 11, ACK, b"x" * 100)
            if k % 2
            else tcp(C, 40000, S, 80, 1 + k, 1, ACK, b"q")
        )
        packets.append((7_200_000 * MS + k * 2 * MS, ether(data)))
    assert ends(tmp_path, packets).fact("exchanges")[0] > 1000


def test_holes_without_end(tmp_path):
    packets = [(k * MS, ether(tcp(S, 80, C, 40000, 1 + k * 3000, 5, ACK, b"x" * 100))) for k in range(20_000)]
    account = ends(tmp_path, packets)
    assert account.side(1, "packets")[0] == 20_000
