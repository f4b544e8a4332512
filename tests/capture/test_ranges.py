"""Ranges of a file that are read apart give what one reading gives, to the last column, or are said not to fit."""

import gzip
import struct
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from yaffle.capture.ranges import cuts_of, fitting, join_ranges, read_range
from yaffle.capture.reader import read_apart
from yaffle.errors import YaffleError
from yaffle.room import Room

DATA = Path(__file__).parents[1] / "data"
CAPTURES = sorted(DATA.rglob("*.pcap.gz"))[::4] + sorted(DATA.rglob("*.pcapng.gz"))


@pytest.fixture
def plain(request, tmp_path):
    """A capture of the test data, not packed."""
    path = tmp_path / request.param.stem
    path.write_bytes(gzip.decompress(request.param.read_bytes()))
    return path


def pieces_of(path, cuts):
    edges = [0, *cuts, None]
    return [read_range(path, begin, stop) for begin, stop in pairwise(edges)]


def fit_of(pieces, cuts):
    return fitting([piece.facts for piece in pieces], [piece.steady for piece in pieces], cuts)


def assert_same(one, other):
    for name in ("packets", "conversations", "sack"):
        for column, wanted in zip(getattr(one, name), getattr(other, name), strict=True):
            np.testing.assert_array_equal(column, wanted)
    np.testing.assert_array_equal(one.quotes, other.quotes)
    assert (one.sources, one.names) == (other.sources, other.names)


def joined(path, cuts):
    pieces = pieces_of(path, cuts)
    fit = fit_of(pieces, cuts)
    assert fit
    used = pieces[:fit]
    total = sum(piece.packets.time_ns.size for piece in used)
    return join_ranges(path, [piece.facts for piece in used], used, total, Room())


@pytest.mark.parametrize("plain", CAPTURES, indirect=True, ids=lambda path: path.stem)
@pytest.mark.parametrize("most", [2, 7])
def test_ranges_are_the_whole(plain, most):
    cuts = cuts_of(plain, most)
    assert cuts == sorted(set(cuts))
    if cuts:
        assert_same(joined(plain, cuts), read_apart(plain))


def test_a_morning_in_ranges(morning):
    for path in morning:
        cuts = cuts_of(path, 5)
        assert len(cuts) == 4
        assert_same(joined(path, cuts), read_apart(path))


def large(morning):
    return max((path for path in morning if path.suffix == ".pcapng"), key=lambda path: path.stat().st_size)


@pytest.mark.parametrize("share", [0.3, 0.6, 0.95])
def test_a_file_that_breaks_is_read_up_to_there(morning, tmp_path, share):
    octets = bytearray(large(morning).read_bytes())
    path = tmp_path / "broken.pcapng"
    path.write_bytes(octets)
    cuts = cuts_of(path, 4)
    octets[int(len(octets) * share) : int(len(octets) * share) + 6000] = bytes([255]) * 6000
    path.write_bytes(octets)
    found = joined(path, cuts)
    assert_same(found, read_apart(path))
    assert not found.sources[0].complete


def test_a_file_that_ends_inside_a_record(morning, tmp_path):
    path = tmp_path / "cut.pcapng"
    path.write_bytes(large(morning).read_bytes()[:-37])
    assert_same(joined(path, cuts_of(path, 3)), read_apart(path))


def test_a_cut_where_no_record_begins_is_noticed(morning):
    path = large(morning)
    cuts = [cut + 4 for cut in cuts_of(path, 3)]
    assert fit_of(pieces_of(path, cuts), cuts) in (0, 1)  # The first range ends inside a block, or breaks there.
    pieces, true = pieces_of(path, cuts_of(path, 3)), cuts_of(path, 3)
    assert fit_of(pieces, [true[0] - 4, true[1]]) == 0


def test_another_interface_in_the_middle_is_noticed(morning, tmp_path):
    path = tmp_path / "two.pcapng"
    octets = large(morning).read_bytes()
    path.write_bytes(octets)
    cuts = cuts_of(path, 4)
    face = struct.pack("<IIHHII", 1, 20, 1, 0, 0, 20)
    path.write_bytes(octets[: cuts[1]] + face + octets[cuts[1] :])
    moved = [cuts[0], cuts[1], cuts[2] + 20]
    assert fit_of(pieces_of(path, moved), moved) == 0
    path.write_bytes(octets[: cuts[1]] + octets[:])  # Another section.
    assert fit_of(pieces_of(path, cuts[:2]), cuts[:2]) == 0


def test_what_is_packed_or_no_capture_is_not_cut(tmp_path):
    assert cuts_of(CAPTURES[0], 4) == []
    wrong = tmp_path / "wrong.pcap"
    wrong.write_bytes(b"no capture at all" * 1000)
    assert cuts_of(wrong, 4) == []
    (tmp_path / "empty.pcap").write_bytes(b"")
    assert cuts_of(tmp_path / "empty.pcap", 4) == []


def test_a_file_that_changed_meanwhile_is_said_to_have(morning, tmp_path):
    path = tmp_path / "changed.pcapng"
    path.write_bytes(large(morning).read_bytes())
    cut = cuts_of(path, 2)[0]
    path.write_bytes(b"something else" * 100_000)
    with pytest.raises(YaffleError, match="another file than before"):
        read_range(path, cut, None)
