"""Records that are walked while those before them are decoded give what they give one after another."""

import gzip
import random
from struct import Struct

import numpy as np
import pytest

from tests.frames import ACK, C, S, ether, pcap, tcp
from yaffle.capture import byte_source, one_file
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.capture.reader import read_captures
from yaffle.errors import Cancelled


@pytest.fixture
def small(monkeypatch):
    """Blocks and windows of a few packets."""
    monkeypatch.setattr(one_file, "BLOCK", 7)
    monkeypatch.setattr(byte_source, "WINDOW", 1 << 14)
    monkeypatch.setattr(byte_source, "_STEP", 1 << 12)


@pytest.fixture
def capture_file(tmp_path):
    noise = random.Random(3)
    sizes = [noise.choice((0, 1, 700, 1460, 9000)) for _ in range(400)]
    frames = [ether(tcp(C, 40_000 + i % 9, S, 80, i, 0, ACK, noise.randbytes(n))) for i, n in enumerate(sizes)]
    return pcap(tmp_path / "a.pcap", [(i * 1000, frame) for i, frame in enumerate(frames)])


def _packed(path):
    found = path.with_suffix(".gz")
    found.write_bytes(gzip.compress(path.read_bytes()))
    return found


@pytest.mark.parametrize("packed", [False, True])
def test_walked_ahead_or_in_turn_a_capture_is_the_same(small, capture_file, packed, monkeypatch):
    path = _packed(capture_file) if packed else capture_file
    monkeypatch.setattr(one_file, "_FAR_APART", -1)
    ahead = read_captures([path])
    monkeypatch.setattr(one_file, "_FAR_APART", 1 << 30)
    in_turn = read_captures([path])
    assert ahead.packets.flow.size == 400
    for one, other in zip(ahead.packets, in_turn.packets, strict=True):
        assert np.array_equal(one, other)
    assert ahead.sources == in_turn.sources


@pytest.mark.parametrize("packed", [False, True])
def test_reading_stops_between_blocks_that_are_walked_ahead(small, capture_file, packed, monkeypatch):
    monkeypatch.setattr(one_file, "_FAR_APART", -1)
    shares = []

    def go_on_for_a_while(share, _words):
        shares.append(share)
        return len(shares) < 10

    with pytest.raises(Cancelled):
        read_captures([_packed(capture_file) if packed else capture_file], go_on_for_a_while)
    assert len(shares) == 10
    assert shares == sorted(shares)


def test_a_break_is_told_after_what_was_walked_before_it(small, capture_file, monkeypatch):
    monkeypatch.setattr(one_file, "_FAR_APART", -1)
    whole = read_captures([capture_file])
    at = int(whole.packets.position[300]) - 8  # where the record tells how long the packet is
    data = bytearray(capture_file.read_bytes())
    data[at : at + 4] = b"\xff\xff\xff\x7f"
    capture_file.write_bytes(data)
    broken = read_captures([capture_file])
    assert broken.packets.time_ns.tolist() == whole.packets.time_ns[:300].tolist()
    assert f"byte {at}" in " ".join(broken.sources[0].notes)


def test_reading_stops_where_there_are_no_packets(small, tmp_path):
    path = tmp_path / "a.pcapng"
    write_pcapng(path, [])
    custom = Struct("<IIII").pack(0x0BAD, 16 + 4000, 32473, 0) + bytes(4000 - 4)  # RFC 5612: of an example
    with path.open("ab") as file:
        file.write((custom + Struct("<I").pack(16 + 4000)) * 40)
    asked = []
    with pytest.raises(Cancelled):
        read_captures([path], lambda _share, _words: asked.append(1) or len(asked) < 4)
    assert len(asked) == 4
    assert read_captures([path]).sources[0].packets == 0
