"""How finely a capture tells time, and what that leaves open in each bound."""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.captured import Capture
from yaffle.ledger.accounts import OwnAccount

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


def hidden_ns(capture: Capture, account: OwnAccount) -> Int64s:
    """What the tick of the times may hide of each exchange's parts: one for all, where all ticks are the same."""
    ticks = ticks_of_sources(capture)
    if not ticks.size or (ticks == ticks[0]).all():
        return _SPANS * ticks[:1]
    return _SPANS * ticks[capture.packets.source[account.order[account.starts[account.of_exchange("connection")]]]]
