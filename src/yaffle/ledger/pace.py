"""What the gaps of a whole stretch tell together: the pace of a bottleneck, and a receiver's room that set the pace."""

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.kernels import helper, int64, pasted
from yaffle.ledger import causes
from yaffle.ledger.stretch import GAP_BINS, Stretch

# Receivers hold acknowledgements back for about 40 ms, some longer (RFC 1122 section 4.2.3.2).
HELD_ACK_NS = 60_000_000


@helper
def gap_bin(gap_ns: int) -> int:
    """Which of the bins a gap falls in: three an octave, from a microsecond up."""
    return min(GAP_BINS - 1, max(0, int64(3 * np.log2(max(gap_ns, 1000) / 1000))))


@pasted
def note_gap(bins: Int64s2, gap: int, trip: int) -> None:
    """A gap, and how much of it was charged to the round trip. bins: int64 (2, GAP_BINS)."""
    k = gap_bin(gap)
    bins[0, k] += gap
    bins[1, k] += trip


@pasted
def charge_pace(stretch: Stretch, bins: Int64s2, charge: Int64s) -> None:
    """Nearly all of the time in gaps of one length, shorter than a round trip: that is a bottleneck's pace."""
    most = 0
    for k in range(GAP_BINS):
        if bins[0, k] > bins[0, most]:
            most = k
    near = int64(0)
    for k in range(max(0, most - 1), min(GAP_BINS, most + 2)):
        near += bins[0, k]
    span = stretch.end - stretch.start
    if near * 5 > span * 3 and gap_bin(max(int64(1), stretch.whole * 8 // 10)) > most:
        for k in range(max(0, most - 1), min(GAP_BINS, most + 2)):
            charge[causes.ROUND_TRIP] -= bins[1, k]
            charge[causes.RATE] += bins[1, k]


@pasted
def _moved(column: int, before: int, held: int, charge: Int64s) -> None:
    move = charge[column] - before
    charge[column] -= move
    charge[held] += move


@pasted
def charge_full_window(stretch: Stretch, charge: Int64s) -> None:
    """The window was filled again and again, nearly all the time: the receiver's room set the pace."""
    span, whole = stretch.end - stretch.start, stretch.whole
    filled = stretch.limited_ns * 5 > span * 3 and span > 10 * whole and stretch.window_high > 0
    if filled and stretch.loop_ns <= 2 * whole + HELD_ACK_NS:
        _moved(causes.RATE, stretch.before_rate, stretch.held, charge)
        _moved(causes.ROUND_TRIP, stretch.before_trip, stretch.held, charge)
        _moved(causes.QUEUEING, stretch.before_queue, stretch.held, charge)
