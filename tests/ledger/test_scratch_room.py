"""What a thread's workshop held before changes no figure: kernels read only what they wrote for this connection."""

import gzip
from pathlib import Path

import numpy as np
import pytest

from tests.frames import Talk, pcap
from yaffle.analysis import analyse
from yaffle.ledger import engine

DATA = Path(__file__).parents[1] / "data" / "path"


def account_over(path, junk, monkeypatch):
    """The account of a capture, made in workshops whose rooms are full of something."""

    class Littered(engine.Workshop):
        def __init__(self, longest, most_messages):
            super().__init__(longest, most_messages)
            segment, *own, cutting = self.space
            for room in (*segment, *own, *cutting):
                if room.dtype.names:
                    room.view(np.uint8)[:] = junk & 127
                else:
                    room[:] = junk

    monkeypatch.setattr(engine, "Workshop", Littered)
    return analyse([path]).account


def talks(path):
    """Short conversations and a longer one after them, whose servers acknowledge with their answers alone: what the
    way back took tells most.
    """
    long = Talk(sport=41_000, start_ms=0).open(9000.0)
    at = 9020.0
    for _ in range(60):
        long.send(0, at, 200)
        long.send(1, at + 12, 0)
        long.send(1, at + 30, 900)
        long.send(0, at + 30.05)
        at += 50
    packets = long.out
    for k in range(8):
        short = Talk(sport=42_000 + k).open(100.0 * k)
        for n in range(4):
            short.send(0, 100.0 * k + 5000 + 20 * n, 150)
            short.send(1, 100.0 * k + 5016 + 20 * n, 300)
        packets = packets + short.out
    return pcap(path, sorted(packets, key=lambda p: p[0]))


def real(path):
    """A captured one."""
    path.write_bytes(gzip.decompress((DATA / "tail-loss-near_server.pcap.gz").read_bytes()))
    return path


@pytest.mark.parametrize("make", [talks, real])
def test_what_rooms_held_before_changes_nothing(tmp_path, monkeypatch, make):
    path = make(tmp_path / "a.pcap")
    clean, full, other = (account_over(path, junk, monkeypatch) for junk in (0, 123_456_789, -987_654_321))
    for account in (full, other):
        for column in ("connection", "connection_charges", "exchange", "exchange_charges"):
            assert np.array_equal(getattr(account, column), getattr(clean, column)), column
