"""Whether a host held an acknowledgement back, by the turns that it and its peer take.

A host that sends bytes soon after it got some takes turns: it holds the next acknowledgement back, to send it with
bytes of its own. If its timer fires first, it acknowledges at once from then on, until it sends bytes soon again. (RFC
1122 section 4.2.3.2 allows an acknowledgement to be held back; when it is, is the host's choice: this is the Linux
kernel's, tcp_event_data_sent and tcp_delack_timer_handler, of which some versions take turns only after three times.)

Where a way varies by as much as that timer takes, nothing else tells one that was held back from one that came late.
Whether a host does so shows where no doubt is: an acknowledgement that came sooner than any timer was not held back.
"""

from typing import NamedTuple

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.packets import FIN, RST, SYN
from yaffle.kernels import int64, kernel, leaf
from yaffle.transport.host_clock import late_ns, on_the_least_way
from yaffle.transport.kinds import COPY, KIND_MASK
from yaffle.transport.round_trips import ACKNOWLEDGED, FEW_BARE, HELD, HELD_LEAST_NS, HOLD_NS, Samples, without_delay
from yaffle.transport.segments import Segments

_FINE_NS = 1_000_000  # The tick of a clock by which turns can be told,
_BLUR_NS = 2 * _FINE_NS  # since two times are compared.
_TIMES = (1, 3)  # How often bytes were sent soon, before a host holds acknowledgements back.
_LEAST_CLEAR = 2
_NEVER = -(int64(1) << 60)


class Followed(NamedTuple):
    """How a host's acknowledgements agree with turns."""

    soon: int  # at once by the turns, and sooner than any timer
    late: int  # at once by the turns, later than a timer takes
    held: int  # held back by the turns, later than a timer takes
    against: int  # held back by the turns, and yet sooner


@leaf
def _over(samples: Samples, first: int, i: int, floor: int, extra: Int64s) -> tuple[int, int]:
    """(place, how much longer than the least way) of the sample of less than two segments that segment i told alone.

    The place -1 where there is none. first: the first sample that i may have told.
    """
    k = first
    while k < samples.size and samples[k].i == i:
        if samples[k].bare == FEW_BARE and (samples[k].way == ACKNOWLEDGED or samples[k].way == HELD):
            return k, samples[k].rtt - floor - late_ns(extra, i)
        k += 1
    return int64(-1), int64(0)


@leaf
def _follow(
    g: Segments, samples: Samples, extra: Int64s, side: int, floor: int, times: int, releases: bool
) -> Followed:
    """How a side's acknowledgements agree with turns. times: of _TIMES; releases: whether samples that were not held
    back become measures of the way.
    """
    soon = late = held = against = int64(0)
    acknowledged = got_at = _NEVER  # the highest number; when bytes came last, by the host's clock
    quick = times if not g[0].flags & SYN else int64(0)  # how often it sent soon
    sure = g[0].flags & SYN > 0
    place = int64(0)
    for i in range(g.size):
        if g[i].d != side or g[i].kind & KIND_MASK == COPY or g[i].flags & (SYN | RST):
            continue
        while place < samples.size and samples[place].i < i:
            place += 1
        at = on_the_least_way(g, extra, i)
        further = g[i].a > acknowledged
        acknowledged = max(acknowledged, g[i].a)
        if g[i].n > 0 or g[i].flags & FIN:
            if further:
                quick, sure, got_at = max(quick + 1, times), True, at  # It held back what it sends with bytes now.
            elif at - got_at < HOLD_NS - _BLUR_NS:
                quick += 1
            elif at - got_at < HOLD_NS + _BLUR_NS:
                sure = False
            elif not sure:
                quick, sure = int64(0), True
            continue
        if not further:
            continue
        k, over = _over(samples, place, i, floor, extra)
        if k < 0:
            got_at = at
            continue
        holds, waited = quick >= times, over >= HOLD_NS - _BLUR_NS
        if sure:
            soon += not holds and not waited
            late += not holds and waited
            held += holds and waited
            against += holds and not waited
            if releases and not holds:
                samples[k].way = ACKNOWLEDGED
        got_at = at
        if holds and waited and sure:
            got_at, quick = _NEVER, int64(0)  # What it sends now comes later than its timer.
    return Followed(soon, late, held, against)


@leaf
def _takes_turns(g: Segments, samples: Samples, extra: Int64s2, side: int) -> bool:
    """Whether a side's host was found to take turns; its samples that were not held back are measures again."""
    floor, suspects, varies = int64(1) << 60, int64(0), False
    for k in range(samples.size):
        if samples[k].side == side:
            suspects += samples[k].way == HELD
            varies |= extra[side, samples[k].i] >= HELD_LEAST_NS
            if samples[k].way < HELD and samples[k].rtt >= 0:
                floor = min(floor, without_delay(samples[k], extra[side]))
    if suspects == 0 or not varies:
        return False
    for times in _TIMES:
        found = _follow(g, samples, extra[side], side, floor, times, False)
        if found.soon >= _LEAST_CLEAR and found.soon >= found.late and 4 * found.against <= found.held + found.against:
            _follow(g, samples, extra[side], side, floor, times, True)
            return True
    return False


@kernel
def release_by_turns(g: Segments, samples: Samples, extra: Int64s2, ticks: tuple[int, int]) -> tuple[bool, bool]:
    """Takes samples for measures of the way again where turns tell that they were not held back. Returns whether the
    client, whether the server was found to take turns: then it holds back for HOLD_NS, and no longer.

    Looked for only where the way from a host varies by as much as what hosts hold back, by the host's own clock; found
    where what came soon and what came late agrees with turns, but for a quarter. extra: as in `release_held`; ticks: of
    the clock of each, which must be fine enough.
    """
    client = 0 < ticks[0] <= _FINE_NS and _takes_turns(g, samples, extra, int64(0))
    server = 0 < ticks[1] <= _FINE_NS and _takes_turns(g, samples, extra, int64(1))
    return client, server
