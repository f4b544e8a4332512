"""Cuts the wait of each exchange into charges. The definition of each cause stands in docs/measures.md.

The wait at the client is the span at the point from the first byte of the request to the acknowledgement of the last
byte of the answer, where that was not delayed: what lies between client and point then cancels out. The span has four
parts: the request on its way, the server's turn, the answer on its way, the last trip to the client. The parts on the
way are cut at every packet; each gap is charged by what ended it.
"""

from yaffle.arrays import Int64s
from yaffle.capture.packets import ACK, FIN, RST
from yaffle.exchanges.turns import UNENDED, TurnRow, TurnRows
from yaffle.kernels import int64, leaf, pasted
from yaffle.ledger import causes
from yaffle.ledger.bounds import NETWORK_OR_SERVER, NETWORK_TOO_LONG, NETWORK_TOO_SHORT, SERVER_OR_NETWORK
from yaffle.ledger.parting import NEVER, last_byte
from yaffle.ledger.stretch import Cutting, begin
from yaffle.ledger.transfers import transfer
from yaffle.ledger.trips import (
    LEAST,
    SOONEST,
    TIMER_STEP_NS,
    TURNS,
    UNKNOWN,
    Ways,
    lately,
    repeat_delay,
    retransmission_timer,
    trip_around,
    way_or_less,
)
from yaffle.transport.host_clock import late_ns
from yaffle.transport.kinds import COPY, DATA, FIRST_UNSEEN, KIND_MASK, SPURIOUS, probes, repeats
from yaffle.transport.round_trips import HELD, HELD_LEAST_NS, HOLD_NS, Samples
from yaffle.transport.segments import Segments

ROUND_TRIP, QUEUEING, LOSS = causes.ROUND_TRIP, causes.QUEUEING, causes.LOSS
PROCESSING, UNSEEN = causes.PROCESSING, causes.UNSEEN

# Packets looked at around one of them, so that a capture without sensible times takes no square of its length.
_FAR = 4096
_ANSWER_SEEN_NS = 10_000_000_000  # An acknowledgement later than this is not that of the answer's last byte alone.
_CLIENT, _SERVER = int64(0), int64(1)  # Typed, or each would compile the kernels it is given to once more.


@leaf
def effective(g: Segments, i: int, floor_out: int) -> bool:
    """Whether this copy is one that may have carried its bytes to the receiver: not a later one that was not needed."""
    kind = g[i].kind
    if kind & KIND_MASK == COPY or probes(kind):
        return False
    if repeats(kind):
        if kind & SPURIOUS:
            return False
        if g[i].before >= 0 and g[i].done > 0 and g[i].done - g[i].t < floor_out * 7 // 10:
            return False
    return True


@leaf
def charge_exchange(
    g: Segments,
    turns: TurnRows,
    x: int,
    ended: int,
    ways: Ways,
    mss: Int64s,
    windows_high: Int64s,
    blocked: Int64s,
    opened_ns: int,
    room: Cutting,
    charge: Int64s,
    doubt: Int64s,
    times: Int64s,
) -> None:
    """Charges of exchange x into `charge` (ns a column), what of them is doubtful into `doubt`, its moments into
    `times`.

    ended: the segment by which the client's wait ended, if it had not ended before (parting). room: Cutting. times:
    first, asked, answered, last, end. The sum of the charges is end - first, by construction: every stretch is given to
    exactly one column.
    """
    charge[:] = 0
    doubt[:] = 0
    lo, answer = turns[x].first, turns[x].answer
    floor_client, floor_server = way_or_less(ways, 0), way_or_less(ways, 1)
    first = g[lo].t
    # It set out earlier than its least delay to here says, by its host's own clock.
    late = late_ns(ways.extra[0], lo)
    charge[QUEUEING] += late
    times[0] = first - late - _lost_before(g, lo, ways.samples, floor_client, opened_ns, charge, doubt)
    # The request is whole when its last byte passed for the last time that mattered.
    asked = first
    limit = ended + 1 if answer < 0 else answer
    for i in range(lo, limit):
        if g[i].d == 0 and g[i].n > 0 and g[i].s < turns[x].request_end and effective(g, i, floor_server):
            asked = max(asked, g[i].t)
    stretch = room.stretch[0]
    if asked > first:  # Else there is nothing to cut.
        begin(stretch, lo, limit, _CLIENT, first, asked, floor_client, floor_server, mss[0], windows_high[1], charge)
        transfer(g, stretch, blocked, ways.extra[0], room.bins, charge, doubt)
    times[1] = asked
    if answer < 0:
        times[2] = -1
        times[3] = times[4] = _charge_unanswered(
            g, lo, ended, turns[x].request_end, asked, floor_client, floor_server, charge
        )
        return
    answered = max(g[answer].t, asked)
    _charge_turn(g, lo, answer, ways, asked, answered, floor_server, opened_ns, charge, doubt)
    last_i = _last_of_answer(g, turns[x], ended, answered, floor_client)
    last = max(answered, g[last_i].t)
    stop = max(turns[x].stop, last_i + 1)
    if last > answered:
        begin(
            stretch, answer, stop, _SERVER, answered, last, floor_server, floor_client, mss[1], windows_high[0], charge
        )
        transfer(g, stretch, blocked, ways.extra[1], room.bins, charge, doubt)
    left_ns = g[ended].t if g[ended].d == 0 and g[ended].flags & (FIN | RST) else NEVER
    whole_at = last_byte(g, turns[x])
    final = _charge_last_trip(g, answer, last_i, whole_at, last, left_ns, ways, floor_client, charge, doubt)
    times[2], times[3], times[4] = answered, last, last + final
    if turns[x].response_end == UNENDED:
        times[4] = _charge_rest(g, last_i, ended, last + final, floor_client, charge)


@pasted
def _lost_before(
    g: Segments, lo: int, samples: Samples, floor_client: int, opened_ns: int, charge: Int64s, doubt: Int64s
) -> int:
    """How much earlier the request began than is seen, where its first copy was lost before this point."""
    if g[lo].kind & FIRST_UNSEEN == 0 or g[lo].lost <= 0:
        return int64(0)
    srtt, timer = retransmission_timer(samples, _SERVER, g[lo].t, floor_client, opened_ns)
    back = repeat_delay(g[lo].lost, srtt, timer)
    k = lo - 1
    while k >= 0 and (g[k].d != 0 or g[k].s > g[lo].s):  # What speaks from beyond came after the lost first copy.
        k -= 1
    if k >= 0:
        back = min(back, g[lo].t - g[k].t)
    charge[LOSS] += back
    doubt[NETWORK_TOO_LONG] += back // 4  # The timer is reckoned, not seen.
    doubt[NETWORK_TOO_SHORT] += back // 4
    return back


@leaf
def _charge_unanswered(
    g: Segments, lo: int, ended: int, request_end: int, asked: int, floor_client: int, floor_server: int, charge: Int64s
) -> int:
    """Charges what follows a request that nothing answered, up to segment `ended`; returns when that ended. No answer
    could have come sooner than the way to the server and back takes. That the server closed has to reach the client.
    """
    end, acknowledged = max(asked, g[ended].t), False
    for i in range(lo, g.size):  # Its host may have held the acknowledgement back.
        if g[i].d == 1 and g[i].flags & ACK and g[i].a >= request_end:
            acknowledged = True
            break
    span = end - asked
    trip = min(span, floor_server)
    charge[ROUND_TRIP if acknowledged else UNSEEN] += trip
    charge[PROCESSING if acknowledged else UNSEEN] += span - trip
    if g[ended].d == 1 and g[ended].flags & (FIN | RST):
        charge[ROUND_TRIP] += floor_client
        end += floor_client
    return end


@leaf
def _charge_rest(g: Segments, last_i: int, ended: int, since: int, floor_client: int, charge: Int64s) -> int:
    """Charges what the client waited on, up to segment `ended`, for the rest of an answer that broke off; returns until
    when. Its server stopped after segment `last_i`, unless the client's window was shut, or nothing shows that it had
    that.
    """
    until, had, window = g[ended].t, False, int64(1)
    if g[ended].d == 1 and g[ended].flags & (FIN | RST):
        until += floor_client
    if until <= since:
        return since
    for i in range(last_i + 1, ended + 1):
        if g[i].d == 0 and g[i].flags & ACK:
            had, window = had or g[i].a >= g[last_i].s + g[last_i].n, g[i].w
    cause = UNSEEN if not had else causes.CLIENT_WINDOW if window == 0 else causes.STALL
    charge[cause] += until - since
    return until


@pasted
def _charge_turn(
    g: Segments,
    lo: int,
    answer: int,
    ways: Ways,
    asked: int,
    answered: int,
    floor_server: int,
    opened_ns: int,
    charge: Int64s,
    doubt: Int64s,
) -> None:
    """Charges the server's turn: the trip to it and back, what was lost of its answer before this point, and its own
    time.
    """
    turn = answered - asked
    if g[answer].missed > 0:  # It began unseen: when, nothing tells.
        charge[UNSEEN] += turn
        return
    if (
        ways.state[_SERVER, LEAST] >= UNKNOWN
    ):  # How far the server is nothing tells, but that no answer came sooner than it.
        unseen = min(turn, ways.state[_SERVER, SOONEST])
        charge[UNSEEN] += unseen
        charge[PROCESSING] += turn - unseen
        return
    trip, least, most = trip_around(ways, _SERVER, asked, g, answer)
    own_queue = lately(g, lo, answer, _CLIENT, asked, g[answer].t)
    trip, least, most = min(max(trip, own_queue), turn), min(least, turn), min(max(most, own_queue), turn)
    rest = turn - trip
    if g[answer].kind & FIRST_UNSEEN and g[answer].lost > 0:
        srtt, timer = retransmission_timer(ways.samples, _CLIENT, answered, floor_server, opened_ns)
        back = min(rest, repeat_delay(g[answer].lost, srtt, timer))
        charge[LOSS] += back
        rest -= back
        doubt[SERVER_OR_NETWORK] += rest  # All of it may have been the timer's, which is reckoned, not seen;
        doubt[NETWORK_OR_SERVER] += back // 4  # or a part of that was the server's.
    charge[ROUND_TRIP] += min(trip, floor_server)
    charge[QUEUEING] += trip - min(trip, floor_server)
    charge[PROCESSING] += rest
    doubt[SERVER_OR_NETWORK] += most - trip
    doubt[NETWORK_OR_SERVER] += trip - min(least, trip)


@pasted
def _last_of_answer(g: Segments, turn: TurnRow, ended: int, answered: int, floor_client: int) -> int:
    """The segment that brought the last of the answer: repeats that mattered may follow the turn's end. What came when
    the client had left, brought nothing.
    """
    last, last_i = answered, turn.answer
    for i in range(turn.answer, ended + 1):
        if i >= turn.stop and g[i].kind & KIND_MASK == DATA and (g[i].t > g[turn.stop - 1].t or i > turn.stop + _FAR):
            break
        if g[i].d == 1 and g[i].n > 0 and g[i].s < turn.response_end and (i < turn.stop or repeats(g[i].kind)):
            if effective(g, i, floor_client) and g[i].t >= last:
                last, last_i = g[i].t, i
    return last_i


@pasted
def _was_held(samples: Samples, g: Segments, i: int, over: int) -> bool:
    """Whether the bare acknowledgement i was held back by its host: by its sample, else where it came so much later
    than any trip.
    """
    low, high = 0, samples.size
    while low < high:
        middle = (low + high) >> 1
        if samples[middle].t < g[i].t:
            low = middle + 1
        else:
            high = middle
    while low < samples.size and samples[low].t == g[i].t:
        if samples[low].i == i and samples[low].way <= HELD:
            return samples[low].way == HELD
        low += 1
    return over > HELD_LEAST_NS


@pasted
def _charge_last_trip(
    g: Segments,
    answer: int,
    last_i: int,
    response_end: int,
    last: int,
    left_ns: int,
    ways: Ways,
    floor_client: int,
    charge: Int64s,
    doubt: Int64s,
) -> int:
    """Charges the last trip, by the acknowledgement of the last byte unless that was held back; returns how long it
    took. left_ns: when the client left, which waited no longer.
    """
    seen_i = int64(-1)
    for i in range(last_i + 1, g.size):
        if g[i].d == 0 and g[i].flags & ACK and g[i].a >= response_end and g[i].kind & KIND_MASK != COPY:
            seen_i = i
            break
        if g[i].t - last > _ANSWER_SEEN_NS or i > last_i + 16 * _FAR:
            break
    trip, least, most = trip_around(ways, _CLIENT, last, g, seen_i)
    # The wait ends when the client has the last byte: what its acknowledgement took longer than its least is taken off.
    late = late_ns(ways.extra[0], seen_i)
    trip, least, most = max(int64(0), trip - late), max(int64(0), least - late), max(int64(0), most - late)
    trip = max(trip, lately(g, answer, last_i, _SERVER, last, last + 1 if seen_i < 0 else g[seen_i].t))
    most = max(most, trip)
    if seen_i < 0:
        final = trip
    else:
        seen = max(int64(0), g[seen_i].t - late - last)
        most = min(most, seen)
        # An acknowledgement that waited for a timer or for data tells nothing of the way, but what its host may hold it
        # back for.
        asked = g[seen_i].n > 0 or g[seen_i].flags & FIN != 0
        held = not asked and _was_held(ways.samples, g, seen_i, seen - most)
        final = min(trip, seen) if asked or held else seen
        if ways.state[_CLIENT, TURNS] and (asked or held):
            most = seen - HOLD_NS * held
            least = min(max(least, seen - HOLD_NS - TIMER_STEP_NS), seen)
            final = max(min(trip, most), least)
    if final > left_ns - last:
        final = least = most = max(int64(0), left_ns - last)
    if most < UNKNOWN:
        doubt[NETWORK_TOO_SHORT] += max(int64(0), most - final)
    doubt[NETWORK_TOO_LONG] += max(int64(0), final - least)
    if ways.state[_CLIENT, LEAST] >= UNKNOWN:  # Nothing tells how far the client is, nor whether it held that back.
        charge[UNSEEN] += final
        return final
    charge[ROUND_TRIP] += min(final, floor_client)
    charge[QUEUEING] += final - min(final, floor_client)
    return final
