"""How long a trip from the point to a host and back takes at a moment, and how long senders wait before they send again."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.kernels import helper, kernel
from yaffle.ledger.path_states import PathStates, away_at
from yaffle.ledger.selection import select
from yaffle.transport.host_clock import lasting_delay
from yaffle.transport.kinds import DATA
from yaffle.transport.round_trips import HELD, OPENING, most_out

UNKNOWN = np.int64(1) << 60
_TIMER_NS = 200_000_000  # Least retransmission timer of common stacks above the round trip.
_NEAR_NS = 1_000_000_000  # How far around a moment its round trip is looked for.
_NEAR_SAMPLES = 256  # But over no more samples than this.
_NEAREST = 5  # Samples around a moment that tell its way.
_FEW = 3  # Fewer do not show how much the way varies.
_SURVEYED = 4096
_FIRST = np.int64(0)
_TICK_NS = 1_000_000  # Resolution of common timestamp clocks (RFC 7323 section 5.4: 1 ms to 1 s).


class Ways(NamedTuple):
    """What is known of the ways from the point to both ends of one connection."""

    samples: Array  # round_trips.SAMPLE, in order of time
    floors: Array  # int64 (2,): least round trip to the client, to the server; UNKNOWN without samples
    extra: Array  # int64 (2, n): host_clock.extra_delays
    spread: Array  # int64 (2,): what nine of ten ways out stay below, above their least
    back: Array  # int64 (2, 2): what half, and what 19 of 20 ways back take above their least, by the clock of the host beyond
    held: Array  # int64 (2,): the least time that a host held an acknowledgement back; UNKNOWN where it hardly ever did
    paths: PathStates
    connection: int  # its row in `paths`


@kernel
def retransmission_timer(samples, side, t, other_floor, first_ns):  # type: ignore[no-untyped-def]
    """(smoothed round trip, retransmission timer) of the host beyond `side`'s opposite at time t.

    RFC 6298, with the least variance term of common stacks, which falls by a quarter a round trip at most and takes only an
    eighth of what a falling round trip deviates. samples: round trips to `side`; the way from the point to the sending host
    and back adds other_floor. first_ns: the first measurement, of the opening, 0 if unknown.
    """
    srtt = np.int64(0)
    deviation = np.int64(0)
    spread = np.int64(0)
    if first_ns > 0:
        srtt, deviation = first_ns, first_ns // 2
        spread = max(4 * deviation, _TIMER_NS)
    for k in range(samples.size):
        if samples[k].t >= t:
            break
        if samples[k].side != side or samples[k].way == OPENING:
            continue
        measured = samples[k].rtt + other_floor
        if srtt == 0:
            srtt, deviation = measured, measured // 2
            spread = max(4 * deviation, _TIMER_NS)
            continue
        error = measured - srtt
        srtt += error // 8
        step = abs(error) - deviation
        if error < 0 and step > 0:
            step //= 8  # A falling round trip is no unrest.
        deviation += step // 4
        wanted = max(4 * deviation, _TIMER_NS)
        spread = wanted if wanted > spread else spread - (spread - wanted) // 4
    if srtt == 0:
        return other_floor, other_floor + _TIMER_NS
    return srtt, srtt + spread


@kernel
def repeat_delay(copies, srtt, timer):  # type: ignore[no-untyped-def]
    """How long ago the first copy of a lone segment was sent, when `copies` before this one were lost.

    The first is followed by a tail loss probe, two round trips and what a receiver may hold an acknowledgement back for, but
    no later than the timer (RFC 8985 section 7.2); that by the timer, which doubles from then on (RFC 6298 section 5.5).
    """
    total = min(timer, 2 * srtt + _TIMER_NS)
    for _ in range(1, min(copies, 8)):
        total += timer
        timer *= 2
    return total


@kernel
def lately(g, lo, stop, side, until, before):  # type: ignore[no-untyped-def]
    """Least time to the acknowledgement of the last few segments of a side before `until` that were acknowledged earlier than
    `before`: a queue that the message itself filled stands in the way of its last byte, too. 0 where there is none.
    """
    least = UNKNOWN
    found = 0
    i = stop - 1
    while i >= lo and found < 4:
        if g[i].d == side and g[i].n > 0 and g[i].kind == DATA and g[i].t <= until and 0 < g[i].done < before:
            least = min(least, g[i].done - g[i].t)
            found += 1
        i -= 1
    return least if found >= 2 else np.int64(0)


@helper
def _way_out(ways, k):  # type: ignore[no-untyped-def]
    """What the way out of sample k took above the least round trip, the way back taken off where the host's clock tells it."""
    sample = ways.samples[k]
    back = max(np.int64(0), ways.extra[sample.side, sample.i])
    over = sample.rtt - ways.floors[sample.side] - back
    return max(np.int64(0), over - ways.held[sample.side] if sample.way == HELD else over)


@helper
def _tells(ways, k):  # type: ignore[no-untyped-def]
    """Whether sample k measures the way: no program was waited for, and what its host held it back for is known."""
    sample = ways.samples[k]
    return sample.bare and sample.rtt >= 0 and (sample.way < HELD or ways.held[sample.side] < UNKNOWN)


@kernel
def survey_ways(ways, side, values):  # type: ignore[no-untyped-def]
    """Sets `held`, `spread` and `back` of a side. values: room.

    Hosts hold acknowledgements back for one time again and again, so that the least of what they took beside the way tells
    the rest. Quantiles are by nearest rank, of at most some thousand packets evenly spread over the connection.
    """
    ways.held[side] = 0
    least, times = UNKNOWN, 0
    for k in range(ways.samples.size):
        if ways.samples[k].side == side and ways.samples[k].way == HELD:
            least = min(least, _way_out(ways, k))
            times += 1
    ways.held[side] = least if times >= _FEW else UNKNOWN
    count = np.int64(0)
    for k in range(0, ways.samples.size, 1 + ways.samples.size // _SURVEYED):
        if ways.samples[k].side == side and _tells(ways, k):
            values[count] = _way_out(ways, k)
            count += 1
    ways.spread[side] = select(values, _FIRST, count, (count * 9 + 9) // 10 - 1) if count > 0 else np.int64(0)
    count = np.int64(0)
    for i in range(0, ways.extra.shape[1], 1 + ways.extra.shape[1] // _SURVEYED):
        if ways.extra[side, i] >= 0:
            values[count] = ways.extra[side, i]
            count += 1
    middle, high = (count + 1) // 2 - 1, (count * 19 + 19) // 20 - 1
    ways.back[side, 0] = select(values, _FIRST, count, middle) if count > 0 else np.int64(0)
    ways.back[side, 1] = select(values, middle, count, high) if count > 0 else np.int64(0)


@kernel
def _nearest_ways_out(ways, side, t, room):  # type: ignore[no-untyped-def]
    """The ways out that began closest to t, nearest first, into room; returns how many. Only those no program was waited for in."""
    low, high = 0, ways.samples.size
    while low < high:
        middle = (low + high) >> 1
        if ways.samples[middle].t < t:
            low = middle + 1
        else:
            high = middle
    before, after = low - 1, low
    count = 0
    for _ in range(_NEAR_SAMPLES):
        if count == room.size:
            break
        past = t - (ways.samples[before].t - ways.samples[before].rtt) if before >= 0 else UNKNOWN
        next_ = abs(ways.samples[after].t - ways.samples[after].rtt - t) if after < ways.samples.size else UNKNOWN
        if min(abs(past), next_) > _NEAR_NS:
            break
        k = before if abs(past) <= next_ else after
        if k == before:
            before -= 1
        else:
            after += 1
        sample = ways.samples[k]
        if sample.side == side and _tells(ways, k):
            room[count] = _way_out(ways, k)
            count += 1
    return count


@kernel
def _as_on_the_way_back(ways, side, t, g, back):  # type: ignore[no-untyped-def]
    """(estimate, least, most) of the way out above its least, where nothing measures it: what lasts on the way back lasts on both
    ways, unless answers came sooner than that; what varies there varies here, independently."""
    late = max(np.int64(0), ways.extra[side, back] if back >= 0 else np.int64(0))
    lasting = lasting_delay(g, ways.extra[side], back)
    usual, most = max(np.int64(0), ways.back[side, 0] - lasting), max(ways.back[side, 1] - lasting, late - lasting)
    if lasting > most_out(ways.samples, side, t, late, ways.floors[side], ways.extra[side]):
        lasting = np.int64(0)
    return lasting + usual, np.int64(0), lasting + max(most, usual)


@kernel
def trip_around(ways, side, t, g, back):  # type: ignore[no-untyped-def]
    """(estimate, least, most) of a trip to a side that began at time t, whose packet on the way back is segment `back` (-1 none).

    The way back above its least is told by the host's own clock (timestamps, RFC 7323). The way out is that of the samples
    around it: the middle one is the estimate, the extremes are the bounds; where other connections passed the same path at
    that moment, they tell it. Where nothing tells it, it is taken to be as on the way back.
    """
    floor = ways.floors[side]
    if floor >= UNKNOWN:
        return np.int64(0), np.int64(0), UNKNOWN
    late = ways.extra[side, back] if back >= 0 else np.int64(-1)
    room = np.empty(_NEAREST, np.int64)
    count = _nearest_ways_out(ways, side, t, room)
    near = room[:count]
    near.sort()
    away, least, most = away_at(ways.paths, ways.connection, side, t)
    if away >= 0:
        if count > 0:
            least, most = min(least, near[0]), max(most, near[count - 1])
    elif count > 0:
        away, least, most = near[(count - 1) // 2], near[0], near[count - 1]
    else:
        away, least, most = _as_on_the_way_back(ways, side, t, g, back)
    if count < _FEW:
        most = max(most, ways.spread[side])
    late = max(np.int64(0), late)
    blur = min(late, _TICK_NS)
    return floor + late + away, floor + late - blur + least, floor + late + blur + max(most, away)
