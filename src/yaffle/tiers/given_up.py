"""Calls that who made them gave up: closed before the answer began, which then only met a reset."""

import numpy as np

from yaffle.arrays import Int8s, Int32s, Int64s, Structs
from yaffle.capture.packets import FIN, RST, Columns
from yaffle.kernels import kernel
from yaffle.ledger.accounts import Account

NEVER = np.iinfo(np.int64).max
_LOOKED_AT = 64  # packets at the end of a connection;
_RESETS = 8  # a reset that an answer met is among so many


@kernel
def _closed(
    connections: Int64s, starts: Int64s, order: Int32s, time_ns: Int64s, head: Structs, direction: Int8s, out: Int64s
) -> None:
    """Fills out with when the client of each connection closed it for good, NEVER where it did not. One that goes on to
    acknowledge has closed its own way only.
    """
    for k in range(connections.size):
        first, end = starts[connections[k]], starts[connections[k] + 1]
        out[k], reset = NEVER, False
        for place in range(max(first, end - _RESETS), end):
            reset |= direction[order[place]] == 0 and head[order[place]].flags & RST != 0
        if reset:
            for place in range(max(first, end - _LOOKED_AT), end):
                if direction[order[place]] == 0:
                    closes = head[order[place]].flags & (FIN | RST) != 0
                    out[k] = min(out[k], time_ns[order[place]]) if closes else NEVER


def given_up_ns(account: Account, packets: Columns, connections: Int64s) -> Int64s:
    """When the clients of some connections closed them, both ways: what came later met a reset (RFC 9293 section
    3.10.7.1), so that nobody was waiting for it any more. NEVER where they did not.
    """
    out = np.empty(connections.size, np.int64)
    _closed(connections, account.starts, account.order, packets.time_ns, packets.head, packets.direction, out)
    return out
