import random

import numpy as np

from tests.frames import ACK, FIN, RST, SYN, C, S, ether, ip, pcap, tcp, udp
from tests.oracles.plain_twins import plain_conversations
from yaffle.analysis import analyse
from yaffle.capture.icmp_errors import in_words
from yaffle.capture.reader import read_captures
from yaffle.findings.slow_exchanges import find


def test_the_table_agrees_with_its_plain_twin_on_ports_that_are_used_again(tmp_path):
    rnd = random.Random(3)
    hosts = [C, S, "192.0.2.7", "2001:db8::7", "2001:db8::8"]
    packets, frames = [], []
    for _ in range(3000):
        a, b = rnd.sample(hosts[3:] if rnd.random() < 0.3 else hosts[:3], 2)
        src, dst = (a, rnd.choice((80, 4000, 4001))), (b, rnd.choice((80, 4000, 4001)))
        flags, seq, protocol = (
            rnd.choice((SYN, SYN | ACK, ACK, FIN | ACK, RST)),
            rnd.choice((100, 100, 200)),
            rnd.choice((6, 6, 6, 17)),
        )
        packets.append((protocol, src, dst, flags if protocol == 6 else 0, seq))
        frames.append(ether(tcp(*src, *dst, seq, 1, flags) if protocol == 6 else udp(*src, *dst, b"x")))
    capture = read_captures([pcap(tmp_path / "a.pcap", [(i * 10_000_000, f) for i, f in enumerate(frames)])])
    wanted = plain_conversations(packets)
    assert capture.packets.flow.tolist() == [row for row, _ in wanted]
    assert (capture.packets.direction == 0).tolist() == [first for _, first in wanted]
    assert capture.conversations.packets.sum() == len(frames)


def test_the_table_grows_and_loses_nothing(tmp_path):
    frames = [ether(udp(C, 1024 + k % 20_000, S, 53, b"q")) for k in range(40_000)]
    capture = read_captures([pcap(tmp_path / "a.pcap", [(i, f) for i, f in enumerate(frames)])])
    assert capture.conversations.point.size == 20_000
    assert (np.bincount(capture.packets.flow) == 2).all()


def test_an_icmp_error_is_tied_to_the_connection_it_quotes(tmp_path):
    syn = tcp(C, 40000, S, 80, 7, 0, SYN)
    error = ip("192.0.2.254", C, 1, b"\x03\x01\0\0\0\0\0\0" + syn[:28])
    times = [(k * 10**9, ether(syn)) for k in (1, 2, 4)]
    path = pcap(tmp_path / "a.pcap", sorted([*times, (1_010_000_000, ether(error)), (2_010_000_000, ether(error))]))
    analysis = analyse([path])
    flow = int(analysis.account.flow[0])
    assert dict(analysis.quotes[flow]) == {0x0301: 2}
    finding = find(analysis, analysis.speaker)[0]
    assert finding.party == "network"
    assert "host unreachable" in finding.sentence


def test_an_error_that_quotes_too_little_or_a_stranger_is_tied_to_nothing(tmp_path):
    stranger = ip("192.0.2.254", C, 1, b"\x03\x03\0\0\0\0\0\0" + udp(C, 9, S, 9)[:28])
    short = ip("192.0.2.254", C, 1, b"\x03\x03\0\0\0\0\0\0" + bytes(10))
    six = ip("2001:db8::9", "2001:db8::1", 58, b"\x01\x04\0\0\0\0\0\0" + udp("2001:db8::1", 7, "2001:db8::2", 8, b"x"))
    asked = udp("2001:db8::1", 7, "2001:db8::2", 8, b"x")
    capture = read_captures(
        [pcap(tmp_path / "a.pcap", [(i, ether(p)) for i, p in enumerate((stranger, short, asked, six))])]
    )
    assert capture.quotes["flow"].tolist() == [-1, capture.packets.flow[2]]
    assert in_words(0x0104, True) == "port unreachable"
    assert in_words(0x2A07, False) == "ICMP type 42 code 7"
