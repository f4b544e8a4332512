"""Files read apart and joined are what one reading of all gives."""

import itertools
from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.capture.joined import joined
from yaffle.capture.packets import Columns
from yaffle.capture.reader import read_apart, read_captures, settled
from yaffle.ledger.accounts import whole
from yaffle.ledger.arrangement import arrange
from yaffle.ledger.engine import own_accounts
from yaffle.parts import account_part, cut_part, join_parts
from yaffle.room import Room

DATA = Path(__file__).parents[1] / "data"
GROUPS = [
    sorted((DATA / "path").glob("voice-*.pcap.gz")),
    sorted((DATA / "path").glob("tail-loss-*.pcap.gz")),
    sorted((DATA / "services").glob("*.pcap.gz"))[:6],
    [*sorted((DATA / "tiers").glob("*.pcap.gz"))[:2], *sorted((DATA / "flows").glob("*.pcap.gz"))],
]


def read_and_joined(paths, size_of=lambda packets: packets):
    drafts = [read_apart(path) for path in paths]
    return settled(joined(drafts, [size_of(one.packets.time_ns.size) for one in drafts], Room()))


@pytest.mark.parametrize("paths", GROUPS, ids=lambda paths: paths[0].stem)
def test_files_read_apart(paths):
    one, other = read_captures(paths), read_and_joined(paths)
    for name in Columns._fields:
        assert np.array_equal(getattr(one.packets, name), getattr(other.packets, name)), name
    for mine, theirs in zip(one.conversations, other.conversations, strict=True):
        assert np.array_equal(mine, theirs)
    assert np.array_equal(one.sack.left, other.sack.left)
    assert np.array_equal(one.quotes, other.quotes)
    assert (one.points, one.names, one.dropped_copies) == (other.points, other.names, other.dropped_copies)
    assert one.sources == other.sources


@pytest.mark.parametrize("size_of", [int, lambda _: 1, lambda packets: 10**9 // (1 + packets), lambda _: 0])
def test_a_morning_read_apart(morning, size_of):
    """However large files are, beside their packets."""
    one, other = read_captures(morning), read_and_joined(morning, size_of)
    assert all(np.array_equal(a, b) for a, b in zip(one.packets, other.packets, strict=True))
    assert one.sources == other.sources


@pytest.mark.parametrize("cuts", [(), (1,), (3, 4, 9), (2, 30)])
def test_parts_joined_are_the_whole(morning, cuts):
    capture, arranged = arrange(read_captures(morning))
    count = arranged.flow.size
    ends = [0, *(cut for cut in cuts if cut < count), count]
    found = [
        account_part(cut_part(capture, arranged, first, last), capture.sources)
        for first, last in itertools.pairwise(ends)
    ]
    messages, account = join_parts(capture, arranged, found, Room())
    at_once = account_part(cut_part(capture, arranged, 0, count), capture.sources)
    again = own_accounts(capture, arranged, messages)
    one, other = ([whole(pieces) for pieces in zip(*found.exchanges, strict=True)] for found in (account, again))
    for mine, theirs in (
        *zip(one, other, strict=True),
        (account.kind, again.kind),
        (account.connection, again.connection),
        (account.connection_charges, again.connection_charges),
        (messages.turns, at_once.messages.turns),
        (messages.starts, at_once.messages.starts),
    ):
        assert np.array_equal(mine, theirs)
    assert messages.label == at_once.messages.label
    assert messages.protocol == at_once.messages.protocol
    assert messages.host == at_once.messages.host


def test_nothing_at_all(tmp_path):
    capture = tmp_path / "empty.pcap"
    capture.write_bytes(bytes.fromhex("4d3cb2a1020004000000000000000000ffff000001000000"))
    assert analyse([capture]).account.flow.size == 0
    assert read_and_joined([capture, capture]).packets.time_ns.size == 0
