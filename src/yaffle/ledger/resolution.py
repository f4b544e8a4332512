"""How finely a capture tells time, and what that leaves open in each bound."""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.captured import Capture
from yaffle.ledger import bounds
from yaffle.ledger.account import EXCHANGE_FIELDS
from yaffle.ledger.engine import Account

_LOOKED_AT = 20_000  # Packets of a source, evenly.
_COARSEST_NS = 1_000_000_000
_SPANS = 2  # A part is a span less a trip, each of them wrong by less than a tick.


def ticks_of_sources(capture: Capture) -> Int64s:
    """The tick of each source's times, ns: as its interfaces declare it, or the power of ten that all are multiples
    of.
    """
    ticks, sources = [], capture.packets.source
    for number, source in enumerate(capture.sources):
        key = sources.dtype.type(number)  # Of another type it would have all of the column converted.
        first, last = np.searchsorted(sources, key), np.searchsorted(sources, key, "right")
        times = capture.packets.time_ns[first : last : 1 + (last - first) // _LOOKED_AT]
        tick = max((_COARSEST_NS // face.units_per_s for face in source.interfaces), default=1)
        coarser = _COARSEST_NS
        while coarser > max(1, tick) and (times % coarser).any():
            coarser //= 10
        ticks.append(max(1, tick, coarser if times.size > 1 else 1))
    return np.array(ticks, np.int64)


def widen_by_resolution(capture: Capture, account: Account) -> None:
    """Takes what the tick of the times may hide from all lower bounds, and adds it to the upper ones."""
    owner = account.of_exchange("connection")
    if not owner.size:
        return
    ticks = ticks_of_sources(capture)
    own = ticks[0]
    if (ticks != own).any():
        own = ticks[capture.packets.source[account.order[account.starts[owner]]]]
    by_ns = _SPANS * own
    for field in bounds.FIELDS:
        column = account.exchange[:, EXCHANGE_FIELDS.index(field)]
        if field.endswith("_low_ns"):
            np.maximum(0, column - by_ns, out=column)
        else:
            column += by_ns
