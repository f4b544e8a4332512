"""The time in which one side sends a request or an answer, while it is cut gap by gap."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Struct, Structs
from yaffle.kernels import pasted
from yaffle.ledger import causes
from yaffle.ledger.bounds import CLIENT_OR_NETWORK, NETWORK_OR_CLIENT, NETWORK_OR_SERVER, SERVER_OR_NETWORK

_NEVER = -(1 << 60)
GAP_BINS = 64  # by length, see `pace.gap_bin`
PACED_LEAST = 30  # Fewer packets show no pace.

STRETCH = np.dtype(
    [
        (name, np.int64)
        for name in (
            "lo", "hi",  # segments that are looked at: from, to before
            "side", "start", "end",  # who sends, from when to when
            "floor_send", "whole",  # least way from the sender to here and back; from end to end and back
            "mss", "window_high",  # the sender's largest segment; the greatest window of the receiver
            "stall", "held",  # charges of a sender that pauses, of a receiver that does not read
            "may_be_network", "may_be_end",  # doubts, of what the sender is given and of what the network is
            "at",  # up to when it is charged
            "previous",  # the sender's last segment; -1 none
            "high_flight", "high_sent",  # most in flight as seen here, and as the sender knew it
            "lossy",  # whether bytes were missing in it
            "reached", "echoed",  # the first segment that may not have reached the sender; acknowledged of all that had
            "loop_ns",  # least recent time from data to its acknowledgement
            "flowing",  # what was charged to packets in flow when the sender last began
            "full_at", "limited_ns",  # when the receiver's window was last full; how long it was, again and again
            "mended_at",  # when the last of its repeats so far was acknowledged
            "before_rate", "before_trip", "before_queue",  # charged before it
        )
    ]
)  # fmt: skip
Stretches = Structs  # of STRETCH
Stretch = Struct  # one of them


class Cutting(NamedTuple):
    """Room for one stretch after another."""

    stretch: Stretches  # STRETCH (1,)
    bins: Int64s2  # (2, GAP_BINS): gaps by their length


def empty_cutting() -> Cutting:
    """Room for one stretch after another."""
    return Cutting(np.zeros(1, STRETCH), np.zeros((2, GAP_BINS), np.int64))


@pasted
def begin(
    stretch: Stretch,
    lo: int,
    hi: int,
    side: int,
    start: int,
    end: int,
    floor_send: int,
    floor_receive: int,
    mss: int,
    window_high: int,
    charge: Int64s,
) -> None:
    """Nothing of it is charged yet."""
    stretch.lo, stretch.hi, stretch.side, stretch.start, stretch.end = lo, hi, side, start, end
    stretch.floor_send, stretch.whole = floor_send, floor_send + floor_receive
    stretch.mss, stretch.window_high = mss, window_high
    if side == 1:
        stretch.stall, stretch.held = causes.STALL, causes.CLIENT_WINDOW
        stretch.may_be_network, stretch.may_be_end = SERVER_OR_NETWORK, NETWORK_OR_SERVER
    else:
        stretch.stall, stretch.held = causes.PACING, causes.SERVER_WINDOW
        stretch.may_be_network, stretch.may_be_end = CLIENT_OR_NETWORK, NETWORK_OR_CLIENT
    stretch.at, stretch.previous, stretch.high_flight, stretch.high_sent, stretch.lossy = start, -1, 0, 0, 0
    stretch.reached, stretch.echoed, stretch.loop_ns = lo, -1, 0
    stretch.full_at, stretch.limited_ns, stretch.mended_at = _NEVER, 0, _NEVER
    stretch.flowing = charge[causes.ROUND_TRIP] + charge[causes.RATE]
    stretch.before_rate, stretch.before_trip = charge[causes.RATE], charge[causes.ROUND_TRIP]
    stretch.before_queue = charge[causes.QUEUEING]


@pasted
def is_paced(stretch: Stretch) -> bool:
    """Whether so many packets may show a pace."""
    return stretch.hi - stretch.lo >= PACED_LEAST
