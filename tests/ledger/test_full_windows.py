"""A receiver's window that is full: by a reader that does not keep up, or by what waits behind a hole."""

import pytest

from tests.frames import ACK, PSH, Talk
from yaffle.analysis import analyse
from yaffle.ledger import causes

MS = 1_000_000
SMALL, LARGE = 91, 1000  # windows as they stand in packets, 128 bytes each


def filled():
    """Eight segments fill the window; the number of the first."""
    talk = Talk(ts=False).open()
    talk.send(1, 20, window=SMALL)
    first = talk.send(0, 100, 1448)
    for k in range(7):
        talk.send(0, 100.05 + k * 0.05, 1448)
    return talk, first


def charged(talk, goes_on_ms, tmp_path):
    """Charges where the window opens then, for the last of it."""
    talk.send(1, goes_on_ms, window=LARGE)
    talk.send(0, goes_on_ms + 0.02, 1448, ACK | PSH)
    talk.send(1, goes_on_ms + 14, 500, ACK | PSH)
    talk.send(0, goes_on_ms + 24)
    return analyse([talk.write(tmp_path / "a.pcap")]).account.connection_charges[0] / MS


def test_a_window_that_fills_behind_a_hole_is_the_holes_doing(tmp_path):
    talk, first = filled()
    for k in range(4):
        talk.send(1, 110 + k * 0.05, ack=first, window=SMALL)
    talk.send(0, 111, 1448, seq=first)  # acknowledged 10 ms later, and all behind it
    charges = charged(talk, 121, tmp_path)
    assert charges[causes.SERVER_WINDOW] == 0
    assert charges[causes.LOSS] == pytest.approx(21.0, abs=0.1)


def test_a_window_that_fills_without_one_is_the_receivers(tmp_path):
    talk, _ = filled()
    charges = charged(talk, 140, tmp_path)
    assert charges[causes.SERVER_WINDOW] > 30
    assert charges[causes.LOSS] == 0
