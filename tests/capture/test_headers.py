import random
from struct import Struct

import numpy as np
import pytest

from tests.frames import ACK, FIN, SYN, C, S, ether, ip, pcap, tcp, udp
from tests.oracles.plain_headers import plain_headers
from yaffle.capture.addresses import address_text
from yaffle.capture.headers import decode, empty_ends
from yaffle.capture.packets import (
    MARK_BROADCAST,
    MARK_BROKEN,
    MARK_FRAGMENT,
    MARK_LATER_FRAGMENT,
    MARK_MULTICAST,
    MARK_SLICED,
    MARK_TUNNEL_SHIFT,
    PacketTable,
)
from yaffle.capture.plain_tcp import decode_plain
from yaffle.capture.reader import read_captures
from yaffle.capture.records import Records
from yaffle.capture.transport_layer import QUOTE
from yaffle.capture.unwrapped import empty_packet

SEGMENT = tcp(C, 40000, S, 80, 7, 9, ACK, b"hello")


def one(tmp_path, frame, link=1, wire=None):
    path = pcap(tmp_path / "a.pcap", [(1, frame, wire or len(frame))], link=link)
    return read_captures([path])


@pytest.mark.parametrize(
    ("link", "frame"),
    [
        (1, ether(SEGMENT)),
        (1, ether(SEGMENT, tags=b"\x81\x00\x00\x2a")),
        (1, ether(SEGMENT, tags=b"\x88\xa8\x00\x07\x81\x00\x00\x2a")),
        (101, SEGMENT),
        (113, b"\0\0\0\1\0\6" + bytes(8) + b"\x08\x00" + SEGMENT),
        (276, b"\x08\x00\0\0\0\0\0\1\0\1\0\6" + bytes(8) + SEGMENT),
        (0, b"\x02\0\0\0" + SEGMENT),
        (108, b"\0\0\0\x02" + SEGMENT),
        (1, ether(b"\x11\0\0\1\0\x2a\0\x21" + SEGMENT, 0x8864)),
        (1, ether(b"\0\1\x01\x40" + SEGMENT, 0x8847)),
        (1, ether(ip(C, S, 4, SEGMENT))),
        (1, ether(ip(C, S, 47, b"\0\0\x08\0" + SEGMENT))),
        (1, ether(ip(C, S, 17, Struct("!HHHH").pack(5000, 4789, 0, 0) + b"\x08" + bytes(7) + ether(SEGMENT)))),
        (1, ether(ip(C, S, 17, Struct("!HHHH").pack(5000, 2152, 0, 0) + b"\x30\xff\0\x2d\0\0\0\1" + SEGMENT))),
    ],
)
def test_every_way_of_carrying_a_segment_leads_to_it(tmp_path, link, frame):
    capture = one(tmp_path, frame, link)
    p = capture.packets
    assert (p.protocol[0], p.head["seq"][0], p.head["ack"][0], p.payload_bytes[0], p.flags[0]) == (6, 7, 9, 5, ACK)
    assert (capture.conversations.a_port[0], capture.conversations.b_port[0]) == (40000, 80)
    data = frame[p.payload_at[0] : p.payload_at[0] + 5]
    assert data == b"hello"


def test_the_innermost_vlan_and_the_tunnel_are_told(tmp_path):
    assert one(tmp_path, ether(SEGMENT, tags=b"\x88\xa8\x00\x07\x81\x00\x00\x2a")).packets.vlan[0] == 42
    assert one(tmp_path, ether(ip(C, S, 4, SEGMENT))).packets.marks[0] >> MARK_TUNNEL_SHIFT & 7 == 1


def test_ipv6_extension_headers_are_walked(tmp_path):
    inner = tcp("2001:db8::1", 1, "2001:db8::2", 2, 7, 9, ACK, b"hello")[40:]
    chain = b"\x2b\0" + bytes(6) + b"\x3c\0" + bytes(6) + b"\x06\0" + bytes(6)
    capture = one(tmp_path, ether(ip("2001:db8::1", "2001:db8::2", 0, chain + inner)))
    assert (capture.packets.protocol[0], capture.packets.payload_bytes[0]) == (6, 5)


def test_an_endless_chain_of_headers_and_of_tunnels_ends(tmp_path):
    chain = b"\x3c\0" + bytes(6)
    endless = one(tmp_path, ether(ip("2001:db8::1", "2001:db8::2", 60, chain * 60)))
    assert endless.packets.marks[0] & MARK_BROKEN
    packet = SEGMENT
    for _ in range(40):
        packet = ip(C, S, 4, packet)
    assert one(tmp_path, ether(packet)).packets.marks[0] & MARK_BROKEN


def test_fragments_follow_their_first_one(tmp_path):
    whole = udp(C, 5000, S, 53, b"q" * 100)[20:]
    first, later = ip(C, S, 17, whole[:56], ip_id=9, fragment=0x2000), ip(C, S, 17, whole[56:], ip_id=9, fragment=7)
    capture = read_captures([pcap(tmp_path / "a.pcap", [(1, ether(first)), (2, ether(later))])])
    assert capture.packets.flow.tolist() == [0, 0]
    assert capture.packets.marks[0] & MARK_FRAGMENT
    assert capture.packets.marks[1] & MARK_LATER_FRAGMENT


def test_cast_and_slicing_are_marked(tmp_path):
    assert one(tmp_path, ether(udp(C, 1, "192.0.2.255", 2), dst=b"\xff" * 6)).packets.marks[0] & MARK_BROADCAST
    assert one(tmp_path, ether(udp(C, 1, "233.252.0.1", 2), dst=b"\x01\0\x5e\0\0\1")).packets.marks[0] & MARK_MULTICAST
    sliced = one(tmp_path, ether(tcp(C, 1, S, 2, 7, 9, ACK, b"", length=1448)), wire=1502).packets
    assert sliced.marks[0] & MARK_SLICED
    assert sliced.payload_bytes[0] == 1448


def test_tcp_options_are_read_and_overrunning_ones_are_not(tmp_path):
    syn = b"\x02\x04\x05\xb4\x01\x03\x03\x07\x04\x02"
    extra = int(one(tmp_path, ether(tcp(C, 1, S, 2, 7, 0, SYN, options=syn))).packets.head["extra"][0])
    assert (extra & 0xFFFF, (extra >> 16 & 255) - 1, extra >> 24 & 1) == (1460, 7, 1)
    sack = b"\x01\x01\x05\x12" + Struct("!IIII").pack(10, 20, 30, 40)
    capture = one(tmp_path, ether(tcp(C, 1, S, 2, 7, 9, ACK, options=sack)))
    assert (capture.sack.left.tolist(), capture.sack.right.tolist()) == ([10, 30], [20, 40])
    for broken in (b"\x05\xff\x01\x01", b"\x08\x0a\x00\x00", b"\x02\x00\x00\x00", b"\x03\x01\x01\x01"):
        assert one(tmp_path, ether(tcp(C, 1, S, 2, 7, 9, ACK, options=broken))).packets.head["tsval"][0] == 0


def test_the_kernel_agrees_with_its_plain_twin_on_mangled_frames(tmp_path):
    rnd = random.Random(7)
    seeds = [
        ether(SEGMENT),
        ether(tcp(C, 40000, S, 80, 7, 0, SYN | FIN, options=b"\x02\x04\x05\xb4\x03\x03\x07\0")),
        ether(tcp("2001:db8::1", 4, "2001:db8::2", 5, 6, 7, ACK, b"data", ts=(5, 6))),
        ether(udp(C, 53, S, 53, b"abc"), tags=b"\x81\x00\x00\x05"),
        ether(ip(C, S, 1, b"\x08\x00\0\0\0\1\0\2ping")),
    ]
    frames = []
    for _ in range(1500):
        frame = bytearray(rnd.choice(seeds))
        for _ in range(rnd.randrange(4)):
            frame[rnd.randrange(len(frame))] = rnd.randrange(256)
        frames.append(bytes(frame[: rnd.randrange(1, len(frame) + 1)]) if rnd.random() < 0.3 else bytes(frame))
    p = read_captures(
        [pcap(tmp_path / "a.pcap", [(i * 10_000_000, f, max(len(f), 60)) for i, f in enumerate(frames)])]
    ).packets
    for i, frame in enumerate(frames):
        wanted = plain_headers(frame, max(len(frame), 60))
        if wanted is None:  # The twin knows no tunnels and no fragments.
            continue
        found = {name: int(p.head[name][i]) if name in ("seq", "ack") else int(getattr(p, name)[i]) for name in wanted}
        assert found == wanted, (i, frame.hex())


def test_the_short_way_for_plain_segments_gives_what_the_long_one_gives(tmp_path):
    rnd = random.Random(9)
    seeds = [
        ether(tcp(C, 40000, S, 80, 7, 9, ACK, b"x" * 40, ts=(5, 6))),
        ether(SEGMENT),
        ether(tcp(C, 1, S, 2, 7, 9, ACK, b"", ts=(8, 9), length=1448)),
    ]
    frames = []
    for _ in range(2000):
        frame = bytearray(rnd.choice(seeds))
        for _ in range(rnd.randrange(3)):
            frame[rnd.randrange(len(frame))] = rnd.randrange(256)
        frames.append(bytes(frame[: rnd.randrange(50, len(frame) + 1)]))
    buffer = np.frombuffer(b"".join(frames), np.uint8)
    lengths = np.array([len(f) for f in frames])
    starts = np.cumsum(lengths) - lengths
    results = []
    for short in (True, False):
        table, ends, sack = PacketTable(len(frames)), empty_ends(len(frames)), np.empty(8 * len(frames), np.uint32)
        out = table.window(0, len(frames))
        rest, wire = np.arange(len(frames)), np.maximum(lengths, 1500)
        if short:
            records = Records(np.zeros_like(starts), starts, lengths, wire, np.zeros_like(starts))
            left = decode_plain(buffer, records, np.array([True]), out, ends, rest)
            assert 0 < left < len(frames)
            rest = rest[:left]
            np.testing.assert_array_equal(out.captured_bytes[rest], lengths[rest])
            np.testing.assert_array_equal(out.wire_bytes[rest], wire[rest])
        out.captured_bytes[:], out.wire_bytes[:], out.link[:] = lengths, wire, 0
        quotes = np.zeros(len(frames), QUOTE)
        decode(buffer, starts, rest, np.array([1]), out, ends, empty_packet(), sack, sack, 0, quotes)
        results.append((out, ends))
    skip = {"time_ns", "position", "flow", "source", "outer"}
    for one_way, other_way in zip(*results, strict=True):
        for name in one_way._fields:
            if name not in skip:
                same = getattr(one_way, name) == getattr(other_way, name)
                if name == "head":  # Where SACK blocks stand depends on how many came before.
                    same |= one_way.head["marks"] >> 4 & 7 > 0
                assert same.all(), name


def test_a_tunnel_keeps_its_outer_addresses_and_number(tmp_path):
    outer = ether(
        ip(
            "192.0.2.1",
            "192.0.2.2",
            17,
            Struct("!HHHH").pack(5000, 4789, 0, 0) + b"\x08\0\0\0\0\x01\x02\0" + ether(SEGMENT),
        )
    )
    flows = one(tmp_path, outer).conversations
    assert (address_text(0, flows.outer_a_lo[0], False), address_text(0, flows.outer_b_lo[0], False)) == (
        "192.0.2.1",
        "192.0.2.2",
    )
    assert (flows.tunnel[0], flows.tunnel_id[0]) == (3, 0x0102)
    gre = ether(ip("192.0.2.1", "192.0.2.2", 47, b"\x20\0\x08\0\0\0\0\x2a" + SEGMENT))
    assert one(tmp_path, gre).conversations.tunnel_id[0] == 42
    teid = ether(
        ip("192.0.2.1", "192.0.2.2", 17, Struct("!HHHH").pack(5000, 2152, 0, 0) + b"\x30\xff\0\x2d\0\0\0\7" + SEGMENT)
    )
    assert one(tmp_path, teid).conversations.tunnel_id[0] == 7


def test_later_fragments_follow_their_own_datagram(tmp_path):
    def piece(number, offset, more, body, src_port=0):
        datagram = Struct("!HHHH").pack(src_port, 53, 8 + 24, 0) + body if offset == 0 else body
        packet = bytearray(ip(C, S, 17, datagram))
        packet[4:8] = Struct("!HH").pack(number, (0x2000 if more else 0) | offset // 8)
        return ether(bytes(packet))

    frames = [
        piece(7, 0, True, bytes(16), 1111),
        piece(8, 0, True, bytes(16), 2222),
        piece(7, 24, False, bytes(8)),
        piece(8, 24, False, bytes(8)),
    ]
    capture = read_captures([pcap(tmp_path / "a.pcap", list(enumerate(frames)))])
    ports = [int(capture.conversations.a_port[f]) for f in capture.packets.flow]
    assert ports == [1111, 2222, 1111, 2222]


def test_dates_far_off_and_backward_steps_are_kept(tmp_path):
    capture = read_captures(
        [pcap(tmp_path / "a.pcap", [(4_294_967_295 * 10**9, ether(SEGMENT)), (0, ether(SEGMENT)), (5, ether(SEGMENT))])]
    )
    assert np.diff(capture.packets.time_ns)[0] < 0
    assert any("backwards" in note for note in capture.sources[0].notes)
