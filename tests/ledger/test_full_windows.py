"""A receiver's window that is full: by a reader that does not read, or by what waits behind a hole."""

import pytest

from tests.frames import ACK, PSH, Talk
from yaffle.analysis import analyse
from yaffle.ledger import causes

MS = 1_000_000
SMALL, LARGE, SHUT = 91, 1000, 0  # windows as they stand in packets, 128 bytes each


def upload(tmp_path, window_behind_hole):
    """Eight segments fill the window; the first is lost behind the point, and its repeat acknowledged 10 ms later."""
    talk = Talk(ts=False).open()
    talk.send(1, 20, window=SMALL)
    first = talk.send(0, 100, 1448)
    for k in range(7):
        talk.send(0, 100.05 + k * 0.05, 1448)
    for k in range(4):
        talk.send(1, 110 + k * 0.05, ack=first, window=window_behind_hole)
    talk.send(0, 111, 1448, seq=first)
    talk.send(1, 121, window=LARGE)
    talk.send(0, 121.02, 1448, ACK | PSH)
    talk.send(1, 135, 500, ACK | PSH)
    talk.send(0, 145)
    return analyse([talk.write(tmp_path / "a.pcap")]).account.connection_charges[0]


def test_a_window_that_fills_behind_a_hole_is_the_holes_doing(tmp_path):
    charges = upload(tmp_path, SMALL)
    assert charges[causes.SERVER_WINDOW] == 0
    assert charges[causes.LOSS] / MS == pytest.approx(21.0, abs=0.1)


def test_a_reader_that_shut_its_window_is_what_is_waited_for(tmp_path):
    charges = upload(tmp_path, SHUT)
    assert charges[causes.SERVER_WINDOW] / MS == pytest.approx(10, abs=0.1)
