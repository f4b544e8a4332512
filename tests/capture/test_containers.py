import itertools
import random
from struct import Struct

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.frames import ACK, SYN, C, S, ether, pcap, tcp
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.capture.reader import read_captures
from yaffle.errors import Cancelled, YaffleError

FRAME = ether(tcp(C, 40000, S, 80, 1, 0, SYN))


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("nano", [True, False])
def test_classic_captures_are_read_in_both_orders_and_resolutions(tmp_path, order, nano):
    path = pcap(tmp_path / "a.pcap", [(5_000_001_000, FRAME), (5_000_002_000, FRAME)], order=order, nano=nano)
    capture = read_captures([path])
    assert capture.packets.time_ns.tolist() == [5_000_001_000, 5_000_002_000]
    assert capture.sources[0].complete


def _blocks(order, resolution, offset_s):
    def block(kind, body):
        body += b"\0" * (-len(body) % 4)
        return Struct(order + "II").pack(kind, len(body) + 12) + body + Struct(order + "I").pack(len(body) + 12)

    def option(code, value):
        return Struct(order + "HH").pack(code, len(value)) + value + b"\0" * (-len(value) % 4)

    section = block(0x0A0D0D0A, Struct(order + "IHHq").pack(0x1A2B3C4D, 1, 0, -1))
    options = option(9, bytes([resolution])) + option(14, Struct(order + "q").pack(offset_s)) + option(0, b"")
    face = block(1, Struct(order + "HHI").pack(1, 0, 0) + options)
    names = block(4, option(1, bytes([198, 51, 100, 10]) + b"desk.northpoint.harbourline.example\0") + option(0, b""))
    return block, section, face, names


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize(
    ("resolution", "ticks", "expected_ns"),
    [
        (9, 3_000_000_005, 3_000_000_005),
        (6, 3_000_000, 3_000_000_000),
        (0x80 | 10, 3 << 10, 3_000_000_000),
        (12, 3_000_000_000_000, 3_000_000_000),
    ],
)
def test_block_captures_are_read_in_any_resolution_with_offset_and_names(
    tmp_path, order, resolution, ticks, expected_ns
):
    block, section, face, names = _blocks(order, resolution, 100)
    enhanced = block(
        6, Struct(order + "IIIII").pack(0, ticks >> 32, ticks & 0xFFFFFFFF, len(FRAME), len(FRAME)) + FRAME
    )
    simple = block(3, Struct(order + "I").pack(len(FRAME)) + FRAME)
    path = tmp_path / "a.pcapng"
    path.write_bytes(section + face + names + enhanced + simple)
    capture = read_captures([path])
    assert (
        capture.packets.time_ns.tolist() == [expected_ns + 100_000_000_000] * 2
    )  # The simple block takes the time before it.
    assert capture.names == {C: "desk.northpoint.harbourline.example"}
    assert any("no time" in note for note in capture.sources[0].notes)


def test_several_sections_and_interfaces_keep_their_link_types(tmp_path):
    block, section, face, _ = _blocks("<", 9, 0)
    raw = block(1, Struct("<HHI").pack(101, 0, 0))
    bare, other = FRAME[14:], tcp(C, 40001, S, 80, 1, 0, SYN)

    def enhanced(link, data):
        return block(6, Struct("<IIIII").pack(link, 0, 7, len(data), len(data)) + data)

    path = tmp_path / "a.pcapng"
    path.write_bytes(section + face + raw + enhanced(1, bare) + enhanced(0, FRAME) + section + raw + enhanced(0, other))
    capture = read_captures([path])
    assert capture.packets.protocol.tolist() == [6, 6, 6]
    assert len(capture.sources[0].interfaces) == 3


@pytest.mark.parametrize("packer", ["gzip", "zstd", "lz4"])
def test_packed_captures_give_the_same_as_plain_ones(tmp_path, packer):
    noise = random.Random(1)
    plain = pcap(
        tmp_path / "a.pcap",
        [(i * 1000, ether(tcp(C, i, S, 80, 1, 0, ACK, noise.randbytes(1400)))) for i in range(1, 500)],
    )
    data = plain.read_bytes()
    if packer == "gzip":
        import gzip

        packed = gzip.compress(data)
    elif packer == "zstd":
        import zstandard

        packed = zstandard.compress(data)
    else:
        import lz4.frame

        packed = lz4.frame.compress(data)
    path = tmp_path / "b.pcap.packed"
    path.write_bytes(packed)
    assert read_captures([path]).packets.time_ns.tolist() == read_captures([plain]).packets.time_ns.tolist()
    path.write_bytes(packed[: len(packed) // 2])
    cut = read_captures([path]).sources[0]
    assert not cut.complete
    assert 100 < cut.packets < 499


def test_a_file_cut_anywhere_gives_what_came_before(tmp_path):
    whole = pcap(tmp_path / "a.pcap", [(i * 1000, FRAME) for i in range(1, 6)]).read_bytes()
    record = 16 + len(FRAME)
    for size in range(24, len(whole)):
        path = tmp_path / "cut.pcap"
        path.write_bytes(whole[:size])
        source = read_captures([path]).sources[0]
        assert source.packets == (size - 24) // record
        assert source.complete == ((size - 24) % record == 0)
        assert source.complete or any("inside a record" in note for note in source.notes)


def test_a_length_that_cannot_be_is_not_believed_and_the_place_is_told(tmp_path):
    data = bytearray(pcap(tmp_path / "a.pcap", [(1000, FRAME), (2000, FRAME)]).read_bytes())
    at = 24 + 16 + len(FRAME) + 8
    data[at : at + 4] = b"\xff\xff\xff\x7f"
    path = tmp_path / "bad.pcap"
    path.write_bytes(data)
    source = read_captures([path]).sources[0]
    assert source.packets == 1
    assert f"byte {at}" in " ".join(source.notes)


@pytest.mark.parametrize("content", [b"", b"hello world, this is no capture at all", b"\xa1\xb2", b"\x0a\x0d\x0d\x0a"])
def test_what_is_no_capture_is_refused_in_one_line(tmp_path, content):
    path = tmp_path / "x"
    path.write_bytes(content)
    if content == b"\x0a\x0d\x0d\x0a":
        path.write_bytes(content + b"\0" * 4)
    with pytest.raises(YaffleError) as caught:
        read_captures([path])
    assert "\n" not in str(caught.value)


def test_a_missing_file_and_a_folder_are_refused(tmp_path):
    for path in (tmp_path / "nothing.pcap", tmp_path):
        with pytest.raises(YaffleError):
            read_captures([path])


def test_reading_stops_when_told(tmp_path):
    path = pcap(tmp_path / "a.pcap", [(i, FRAME) for i in range(50)])
    with pytest.raises(Cancelled):
        read_captures([path], lambda share, words: False)


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_broken_files_give_packets_or_a_clear_error_nothing_else(tmp_path, data):
    source = tmp_path / "seed"
    if data.draw(st.booleans()):
        pcap(source, [(i * 1000, ether(tcp(C, 40000, S, 80, i, 0, ACK, b"hello"))) for i in range(8)])
    else:
        write_pcapng(
            source, [(i * 1000, len(FRAME), FRAME) for i in range(8)], names={C: "a.b.c.example"}, interface="eth0"
        )
    content = bytearray(source.read_bytes())
    for _ in range(data.draw(st.integers(1, 6))):
        content[data.draw(st.integers(0, len(content) - 1))] = data.draw(st.integers(0, 255))
    del content[data.draw(st.integers(0, len(content))) :]
    path = tmp_path / "mutated"
    path.write_bytes(content)
    try:
        capture = read_captures([path])
    except YaffleError:
        return
    assert capture.packets.time_ns.size <= 8
    assert (capture.packets.flow < capture.conversations.point.size).all()


def test_two_files_of_one_point_drop_the_same_packets_once(tmp_path):
    packets = [(i * 10_000_000, ether(tcp(C, 40000, S, 80, 100 + i, 0, ACK, b"x", ip_id=i + 1))) for i in range(40)]
    one, two = pcap(tmp_path / "1.pcap", packets[:30]), pcap(tmp_path / "2.pcap", packets[20:])
    capture = read_captures([two, one])
    assert capture.dropped_copies == 10
    assert len(capture.points) == 1
    assert capture.conversations.point.size == 1
    assert np.unique(capture.packets.time_ns).size == 40


def test_the_same_packets_later_elsewhere_are_two_points(tmp_path):
    packets = [(i * 10_000_000, ether(tcp(C, 40000, S, 80, 100 + i, 0, ACK, b"x", ip_id=i + 1))) for i in range(40)]
    later = [(t + 5_000_000, frame[:22] + bytes([60]) + frame[23:]) for t, frame in packets]
    capture = read_captures([pcap(tmp_path / "1.pcap", packets), pcap(tmp_path / "2.pcap", later)])
    assert capture.points == ["1.pcap", "2.pcap"]
    assert capture.dropped_copies == 0


def test_the_sums_of_a_source_are_those_of_plain_counting(tmp_path):
    import random

    rnd = random.Random(2)
    packets = [(rnd.randrange(10**9), bytes(rnd.randrange(20, 80)), rnd.randrange(80, 3000)) for _ in range(300)]
    source = read_captures([pcap(tmp_path / "a.pcap", packets)]).sources[0]
    times = [t for t, _, _ in packets]
    assert (source.packets, source.bytes) == (300, sum(wire for _, _, wire in packets))
    assert (source.first_ns, source.last_ns) == (min(times), max(times))
    back = sum(b < a for a, b in itertools.pairwise(times))
    assert f"timestamps go backwards {back:,} times" in source.notes
    assert any(note.startswith("300 packets truncated (snap length ") for note in source.notes)
