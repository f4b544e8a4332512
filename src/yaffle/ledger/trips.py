"""How long a trip from the point to a host and back takes at a moment, and how long senders wait to send again."""

from typing import NamedTuple

from yaffle.arrays import Int64s, Int64s2
from yaffle.kernels import int64, kernel, leaf, pasted
from yaffle.ledger.path_states import PathStates, away_at
from yaffle.ledger.selection import select
from yaffle.transport.host_clock import lasting_delay, late_ns
from yaffle.transport.kinds import DATA, after_timer
from yaffle.transport.round_trips import BARE, FEW_BARE, HELD, HOLD_NS, OPENING, Samples, most_out, without_delay
from yaffle.transport.segments import Segments

UNKNOWN = int64(1) << 60
LEAST_TIMER_NS = 200_000_000  # Least retransmission timer of common stacks above the round trip.
NEAR_NS = 1_000_000_000  # How far around a moment its round trip is looked for.
UNASKED = (BARE, FEW_BARE)  # acknowledgements for which no program was waited for
FEW = 3  # Fewer do not show how much the way varies.
_SURVEYED = 4096
_LOOKED_AHEAD = 64
_FIRST = int64(0)
TIMER_STEP_NS = 4_000_000  # of common hosts' timers: those of a held acknowledgement are no finer.
BLUR_NS = 1_000_000  # Resolution of common timestamp clocks (RFC 7323 section 5.4: 1 ms to 1 s).


# Columns of Ways.state. LEAST: the least round trip, UNKNOWN without a measure; SOONEST: what any answer took at
# least; SPREAD: what nine of ten ways out stay below, above their least; HALF_BACK, MOST_BACK: what half, and what
# 19 of 20 ways back take above their least, by the clock of the host beyond; HELD_FOR: the least time that a host
# held an acknowledgement back, UNKNOWN where it hardly ever did; TURNS: whether its host was found to take turns;
# STANDING: how much more than LEAST the connection's own least was, where others told LEAST; TICK: of the clock of the
# host beyond; TELLING: how many samples tell the way; PLACE: where one was looked for last among these; NEAR: room from
# there on.
LEAST, SOONEST, SPREAD, HALF_BACK, MOST_BACK, HELD_FOR, TURNS, STANDING, TICK, TELLING, PLACE, NEAR = range(12)
NEAREST = 5  # Samples around a moment that tell its way.
STATES = NEAR + NEAREST


class Ways(NamedTuple):
    """What is known of the ways from the point to both ends of a connection. Few arrays: each costs at every call."""

    samples: Samples  # round_trips.SAMPLE, in order of time
    extra: Int64s2  # (2, n): host_clock.extra_delays
    state: Int64s2  # (2, STATES), a row a side; LEAST: the least round trip, UNKNOWN without samples
    telling: Int64s2  # (2, samples): places of the samples that tell the way to a side, in order of time
    paths: PathStates
    connection: int  # its row in `paths`


@leaf
def retransmission_timer(samples: Samples, side: int, t: int, other_floor: int, first_ns: int) -> tuple[int, int]:
    """(smoothed round trip, retransmission timer) of the host beyond `side`'s opposite at time t.

    RFC 6298, with the least variance term of common stacks, which falls by a quarter a round trip at most and takes
    only an eighth of what a falling round trip deviates. samples: round trips to `side`; the way from the point to
    the sending host and back adds other_floor. first_ns: the first measurement, of the opening, 0 if unknown.
    """
    srtt = int64(0)
    deviation = int64(0)
    spread = int64(0)
    if first_ns > 0:
        srtt, deviation = first_ns, first_ns // 2
        spread = max(4 * deviation, LEAST_TIMER_NS)
    for k in range(samples.size):
        if samples[k].t >= t:
            break
        if samples[k].side != side or samples[k].way == OPENING:
            continue
        measured = samples[k].rtt + other_floor
        if srtt == 0:
            srtt, deviation = measured, measured // 2
            spread = max(4 * deviation, LEAST_TIMER_NS)
            continue
        error = measured - srtt
        srtt += error // 8
        step = abs(error) - deviation
        if error < 0 and step > 0:
            step //= 8  # A falling round trip is no unrest.
        deviation += step // 4
        wanted = max(4 * deviation, LEAST_TIMER_NS)
        spread = wanted if wanted > spread else spread - (spread - wanted) // 4
    if srtt == 0:
        return other_floor, other_floor + LEAST_TIMER_NS
    return srtt, srtt + spread


@leaf
def repeat_delay(copies: int, srtt: int, timer: int) -> int:
    """How long ago the first copy of a lone segment was sent, when `copies` before this one were lost.

    The first is followed by a tail loss probe, two round trips and what a receiver may hold an acknowledgement back
    for, but no later than the timer (RFC 8985 section 7.2); that by the timer, which doubles from then on (RFC 6298
    section 5.5).
    """
    total = min(timer, 2 * srtt + LEAST_TIMER_NS)
    for _ in range(1, min(copies, 8)):
        total += timer
        timer *= 2
    return total


@leaf
def lately(g: Segments, lo: int, stop: int, side: int, until: int, before: int) -> int:
    """Least time to the acknowledgement of the last few segments of a side before `until` that were acknowledged
    earlier than `before`: a queue that the message itself filled stands in the way of its last byte, too. 0 where there
    is none. It is gone when a timer of the sender has expired.
    """
    least = UNKNOWN
    found = 0
    i = stop - 1
    while i >= lo and found < 4 and not (g[i].d == side and after_timer(g[i].kind)):
        if g[i].d == side and g[i].n > 0 and g[i].kind == DATA and g[i].t <= until and 0 < g[i].done < before:
            least = min(least, g[i].done - g[i].t)
            found += 1
        i -= 1
    return least if found >= 2 else int64(0)


@leaf
def _prompt_soon(samples: Samples, k: int, side: int) -> bool:
    """Whether an acknowledgement that was not held back follows a sample soon."""
    for n in range(k + 1, min(samples.size, k + _LOOKED_AHEAD)):
        if samples[n].t - samples[k].t > NEAR_NS:
            break
        if samples[n].side == side and samples[n].bare in UNASKED and samples[n].rtt >= 0 and samples[n].way < HELD:
            return True
    return False


@leaf
def _held_for(values: Int64s, count: int) -> int:
    """The least time that a host held acknowledgements back again and again: one that came sooner than all others by a
    quarter was sent for another reason (the connection ended). UNKNOWN where there are too few; reorders the values.
    """
    if count < FEW:
        return UNKNOWN
    least = select(values, _FIRST, count, _FIRST)
    second = select(values, _FIRST, count, int64(1))
    return second if 4 * least < 3 * second else least


@kernel
def survey_ways(samples: Samples, side: int, extra: Int64s, state: Int64s, telling: Int64s, values: Int64s) -> None:
    """Prepares a side of Ways: `out` of its samples, which of them tell the way, and its state beside LEAST.

    Hosts hold acknowledgements back for one time again and again, so that the least of what they took beside the way
    tells the rest, to within the step of a host's timer. A sample tells the way where no program was waited for, and
    what its host held it back for is known; one that was held back on a way that is shorter than that step, only where
    none around it was not. Quantiles are by
    nearest rank, of at most some thousand samples evenly spread over the connection. extra,
    state, telling: of that side; values: room.
    """
    soonest, times = UNKNOWN, int64(0)
    blur = 2 * max(BLUR_NS, state[TICK])
    for k in range(samples.size):
        if samples[k].side == side:
            soonest = min(soonest, samples[k].rtt)
            if samples[k].way < HELD and samples[k].rtt >= 0:  # Never one way back without what delays it there.
                state[LEAST] = min(state[LEAST], without_delay(samples[k], extra) + blur)
    for k in range(samples.size):
        if samples[k].side == side:
            samples[k].out = samples[k].rtt - state[LEAST] - late_ns(extra, samples[k].i)
            if samples[k].way == HELD and samples[k].bare in UNASKED:
                values[times] = max(int64(0), samples[k].out)
                times += 1
    held = HOLD_NS if state[TURNS] else _held_for(values, times)
    count, latest = int64(0), -UNKNOWN
    for k in range(samples.size):
        if samples[k].side == side:
            way = samples[k].way
            if way == HELD and held < UNKNOWN:
                samples[k].out -= held
                if state[LEAST] < TIMER_STEP_NS and samples[k].out < 2 * TIMER_STEP_NS:
                    samples[k].out = 0  # What is left is the timer's, not a queue's on so short a way.
            samples[k].out = max(int64(0), samples[k].out)
            if samples[k].bare in UNASKED and samples[k].rtt >= 0 and way <= HELD:
                if way < HELD:
                    latest = samples[k].t
                elif held >= UNKNOWN or (
                    state[LEAST] < TIMER_STEP_NS and (samples[k].t - latest < NEAR_NS or _prompt_soon(samples, k, side))
                ):
                    continue
                telling[count] = k
                count += 1
    state[SOONEST], state[HELD_FOR], state[TELLING], state[PLACE] = soonest, held, count, 0
    step = 1 + count // _SURVEYED
    few = int64(0)
    for place in range(0, count, step):
        values[few] = samples[telling[place]].out
        few += 1
    state[SPREAD] = select(values, _FIRST, few, (few * 9 + 9) // 10 - 1) if few > 0 else int64(0)
    few, varies = int64(0), False
    for i in range(0, extra.size, 1 + extra.size // _SURVEYED):
        if extra[i] >= 0:
            values[few] = extra[i]
            varies |= extra[i] > 0
            few += 1
    few *= varies
    middle, high = (few + 1) // 2 - 1, (few * 19 + 19) // 20 - 1
    state[HALF_BACK] = select(values, _FIRST, few, middle) if few > 0 else int64(0)
    state[MOST_BACK] = select(values, middle, few, high) if few > 0 else int64(0)


@leaf
def _first_not_before(samples: Samples, telling: Int64s, count: int, t: int, near: int) -> int:
    """The first of the telling samples that is not before t, looked for from a place on in steps that grow: exchanges
    follow one another.
    """
    low, high, step = int64(0), count, int64(1)
    if near < count and samples[telling[near]].t < t:
        low = near + 1
        while near + step < count and samples[telling[near + step]].t < t:
            low = near + step + 1
            step *= 2
        high = min(count, near + step)
    else:
        high = near
        while near - step >= 0 and samples[telling[near - step]].t >= t:
            high = near - step
            step *= 2
        low = max(int64(0), near - step + 1)
    while low < high:
        middle = (low + high) >> 1
        if samples[telling[middle]].t < t:
            low = middle + 1
        else:
            high = middle
    return low


@leaf
def _nearest_ways_out(samples: Samples, telling: Int64s, state: Int64s, t: int) -> int:
    """The ways out of the telling samples closest to t, in order of size, into the state from NEAR on; returns how
    many. telling, state: of that side.
    """
    count = state[TELLING]
    state[PLACE] = _first_not_before(samples, telling, count, t, state[PLACE])
    before, after = state[PLACE] - 1, state[PLACE]
    found = 0
    while found < NEAREST:
        past, future = UNKNOWN, UNKNOWN
        if before >= 0:
            past = abs(t - samples[telling[before]].t + samples[telling[before]].rtt)
        if after < count:
            future = abs(samples[telling[after]].t - samples[telling[after]].rtt - t)
        if min(past, future) > NEAR_NS:
            break
        if past <= future:
            out = samples[telling[before]].out
            before -= 1
        else:
            out = samples[telling[after]].out
            after += 1
        place = found
        while place > 0 and state[NEAR + place - 1] > out:
            state[NEAR + place] = state[NEAR + place - 1]
            place -= 1
        state[NEAR + place] = out
        found += 1
    return found


@leaf
def way_or_less(ways: Ways, side: int) -> int:
    """The least round trip to a side; where nothing measured it, what any answer took at least. 0 without any."""
    if ways.state[side, LEAST] < UNKNOWN:
        return ways.state[side, LEAST]
    return ways.state[side, SOONEST] if ways.state[side, SOONEST] < UNKNOWN else int64(0)


@leaf
def _as_on_the_way_back(ways: Ways, side: int, t: int, g: Segments, back: int) -> tuple[int, int, int]:
    """(estimate, least, most) of the way out above its least, where nothing measures it: what lasts on the way back
    lasts on both ways, unless answers came sooner than that; what varies there varies here, independently. A queue that
    stood whenever the way was measured stands."""
    late = max(int64(0), ways.extra[side, back] if back >= 0 else int64(0))
    lasting = lasting_delay(g, ways.extra[side], back)
    usual, most = (
        max(int64(0), ways.state[side, HALF_BACK] - lasting),
        max(ways.state[side, MOST_BACK] - lasting, late - lasting),
    )
    if lasting > 0 and lasting > most_out(ways.samples, side, t, late, ways.state[side, LEAST], ways.extra[side]):
        lasting = int64(0)
    standing = ways.state[side, STANDING]
    return standing + lasting + usual, int64(0), standing + lasting + max(most, usual)


@pasted
def trip_around(ways: Ways, side: int, t: int, g: Segments, back: int) -> tuple[int, int, int]:
    """(estimate, least, most) of a trip to a side that began at time t, whose packet on the way back is segment `back`
    (-1 none).

    The way back above its least is told by the host's own clock (timestamps, RFC 7323). The way out is that of the
    samples around it: the middle one is the estimate, the extremes are the bounds; where other connections passed
    the same path at that moment, they tell it. Where nothing tells it, it is taken to be as on the way back.
    """
    floor = ways.state[side, LEAST]
    if floor >= UNKNOWN:
        return int64(0), int64(0), UNKNOWN
    late = ways.extra[side, back] if back >= 0 else int64(-1)
    near = ways.state[side]
    count = _nearest_ways_out(ways.samples, ways.telling[side], near, t)
    away, least, most = away_at(ways.paths, ways.connection, side, t)
    if away >= 0:
        if count > 0:
            least, most = min(least, near[NEAR]), max(most, near[NEAR + count - 1])
    elif count > 0:
        away, least, most = near[NEAR + (count - 1) // 2], near[NEAR], near[NEAR + count - 1]
    else:
        away, least, most = _as_on_the_way_back(ways, side, t, g, back)
    if count < FEW:  # So few may all have been quick ones: it varies as far as it does elsewhere.
        most = max(most, ways.state[side, SPREAD])
    late = max(int64(0), late)
    blur = min(late, BLUR_NS)
    return floor + late + away, floor + late - blur + least, floor + late + blur + max(most, away)
