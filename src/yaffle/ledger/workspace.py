"""Room for the account of one connection after another, and what it is made from."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int32s, Int64s, Int64s2
from yaffle.exchanges.turns import TurnRows, empty_turns
from yaffle.ledger.stretch import Cutting, empty_cutting
from yaffle.transport.workspace import SegmentSpace, segment_space


class Workspace(NamedTuple):
    """What `account` writes to besides its tables. Nothing that one connection left there is read for the next."""

    segment: SegmentSpace
    turns: TurnRows
    scratch: Int64s  # (3 n + 8,)
    telling: Int64s2  # (2, 3 n + 8): round trips that tell of the way to each side
    delays: Int64s2  # (2, n): of segments, what their sender's clock says
    blocked: Int64s  # (n + 2,): repaired loss up to each segment
    cutting: Cutting


class Connections(NamedTuple):
    """Packets of connection c: order[starts[c]:starts[c + 1]]."""

    starts: Int64s
    order: Int32s


class Given(NamedTuple):
    """Exchanges of connection c that its messages tell: turns[starts[c]:starts[c + 1]]; none where turns of bytes have
    to
    do.
    """

    starts: Int64s
    turns: TurnRows


def workspace(longest: int, most_messages: int) -> Workspace:
    """Room for connections of up to so many packets and messages."""
    return Workspace(
        segment_space(longest),
        empty_turns(longest + most_messages),
        np.empty(3 * longest + 8, np.int64),
        np.empty((2, 3 * longest + 8), np.int64),
        np.empty((2, longest), np.int64),
        np.empty(longest + 2, np.int64),
        empty_cutting(),
    )
