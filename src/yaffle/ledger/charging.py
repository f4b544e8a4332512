"""Cuts the wait of each exchange into charges. The definition of each cause stands in docs/measures.md.

The wait at the client is the span at the point from the first byte of the request to the acknowledgement of the last
byte of the answer, where that was not delayed: what lies between client and point then cancels out. The span has four
parts: the request on its way, the server's turn, the answer on its way, the last trip to the client. The parts on the
way are cut at every packet; each gap is charged by what ended it.
"""

import numpy as np

from yaffle.capture.packets import ACK, RST, SYN
from yaffle.kernels import helper, kernel
from yaffle.ledger import causes
from yaffle.transport.kinds import COPY, DATA, FIRST_UNSEEN, KIND_MASK, SPURIOUS, probes, repairs, repeats
from yaffle.transport.round_trips import OPENING
from yaffle.transport.segments import CUMULATIVE

SET_UP, ROUND_TRIP, RATE, QUEUEING, LOSS = causes.SET_UP, causes.ROUND_TRIP, causes.RATE, causes.QUEUEING, causes.LOSS
PROCESSING, STALL, SERVER_WINDOW = causes.PROCESSING, causes.STALL, causes.SERVER_WINDOW
PACING, CLIENT_WINDOW, UNSEEN = causes.PACING, causes.CLIENT_WINDOW, causes.UNSEEN

_SMALL_NS = 1_500_000  # Gaps below this are packets in flow.
_TIMER_NS = 200_000_000  # Least retransmission timer of common stacks above the round trip.
_NEAR_NS = 1_000_000_000  # How far around a moment its round trip is looked for.
_FAR = 4096  # Packets looked at around one of them, so that a capture without sensible times takes no square of its length.
_NEAR_PACKETS = 2048  # But no further than this, however dense they are.
_UNKNOWN = np.int64(1) << 60
_HELD_ACK_NS = 60_000_000  # Receivers hold acknowledgements back for about 40 ms, some longer (RFC 1122 section 4.2.3.2).
_GAP_BINS = 64
_PACED_LEAST = 30  # Fewer packets show no pace.
_CLIENT, _SERVER = np.int64(0), np.int64(1)  # Typed, or each would compile the kernels it is given to once more.


@kernel
def retransmission_timer(samples, side, t, other_floor, first_ns):  # type: ignore[no-untyped-def]
    """The timer of the host beyond `side`'s opposite at time t (RFC 6298, with the least variance term of common stacks).

    samples: round trips to `side`; the way from the point to the sending host and back adds other_floor.
    first_ns: the first measurement, of the opening (an opening that was repeated measures long), 0 if unknown.
    """
    srtt = np.int64(0)
    deviation = np.int64(0)
    spread = np.int64(0)
    if first_ns > 0:
        srtt, deviation = first_ns, first_ns // 2
        spread = max(deviation * 4 // 2, _TIMER_NS)
    for k in range(samples.size):
        if samples[k].t >= t:
            break
        if samples[k].side != side or samples[k].way == OPENING:
            continue
        measured = samples[k].rtt + other_floor
        if srtt == 0:
            srtt, deviation = measured, measured // 2
            spread = max(measured, _TIMER_NS)
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
        return other_floor + _TIMER_NS
    return srtt + spread


@kernel
def repeat_delay(copies, timer):  # type: ignore[no-untyped-def]
    """How long ago the first copy was sent, when `copies` before this one were lost: timers double after the second."""
    total = np.int64(0)
    for k in range(min(copies, 8)):
        total += timer
        if k >= 1:
            timer *= 2
    return total


@kernel
def effective(g, i, floor_out):  # type: ignore[no-untyped-def]
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


@kernel
def round_trip_at(samples, side, t, floor, extra, g, i):  # type: ignore[no-untyped-def]
    """Round trip to a side around the time t, told by that side's clock at its packet i where it has one.

    A lasting rise of the one-way delay is taken for both ways (asymmetry cannot be seen from one point), a passing one
    for this way only; a sample taken nearby is the upper bound.
    """
    if floor >= _UNKNOWN:
        return np.int64(0)
    if i < 0 or extra[i] <= 0:
        return floor
    # Lasting is what all packets before or all packets after share, for a while.
    before = after = extra[i]
    d = g[i].d
    k = i - 1
    while k >= i - _NEAR_PACKETS and k >= 0 and g[i].t - g[k].t < _NEAR_NS and before > 0:
        if g[k].d == d and extra[k] >= 0:
            before = min(before, extra[k])
        k -= 1
    k = i + 1
    seen = 0
    while k < min(g.size, i + _NEAR_PACKETS) and g[k].t - g[i].t < _NEAR_NS and after > 0:
        if g[k].d == d and extra[k] >= 0:
            after = min(after, extra[k])
            seen += 1
        k += 1
    later = after > before and seen >= 2
    lasting = after if later else before
    earliest, latest = (t - 1_000, t + _NEAR_NS) if later else (t - _NEAR_NS, t + 1_000)
    value = floor + 2 * lasting + (extra[i] - lasting)
    if lasting > 0:
        nearest = _UNKNOWN
        low, high = 0, samples.size
        while low < high:
            middle = (low + high) >> 1
            if samples[middle].t < earliest:
                low = middle + 1
            else:
                high = middle
        for k in range(low, samples.size):
            if samples[k].t > latest:
                break
            if samples[k].side == side:
                nearest = min(nearest, samples[k].rtt)
        value = max(floor, min(value, nearest))
    return value


@kernel
def lately(g, lo, stop, side, until, before):  # type: ignore[no-untyped-def]
    """Least time to the acknowledgement of the last few segments of a side before `until` that were acknowledged earlier than
    `before`: a queue that the message itself filled stands in the way of its last byte, too. 0 where there is none.
    """
    least = _UNKNOWN
    found = 0
    i = stop - 1
    while i >= lo and found < 4:
        if g[i].d == side and g[i].n > 0 and g[i].kind == DATA and g[i].t <= until and 0 < g[i].done < before:
            least = min(least, g[i].done - g[i].t)
            found += 1
        i -= 1
    return least if found >= 2 else np.int64(0)


@kernel
def loss_cover(g, blocked):  # type: ignore[no-untyped-def]
    """blocked[i] > 0: between segment i - 1 and i bytes were missing that a repeat brought later."""
    n = g.size
    blocked[: n + 1] = 0
    for j in range(n):
        if repairs(g[j].kind):
            k = g[j].before if g[j].before >= 0 else (-2 - g[j].before if g[j].before <= -2 else -1)
            steps = 0
            while k >= 0 and g[k].before >= 0 and steps < 256:
                k = g[k].before
                steps += 1
            if k < 0:
                k = j - 1
                while k > 0 and g[k].d != g[j].d:
                    k -= 1
            if k >= 0:
                blocked[k + 1] += 1
                blocked[j + 1] -= 1
    running = np.int64(0)
    for i in range(n):
        running += blocked[i]
        blocked[i] = running


@helper
def _sender_was_free(g, previous, newest, gap, mss, high_flight, whole, lossy):  # type: ignore[no-untyped-def]
    """Whether nothing but the application kept the sender from sending: all acknowledged, or far less in flight than before.

    After a loss congestion control allows less than before, so that only the former counts.
    """
    if newest >= g[previous].e:
        return True
    if lossy:
        return False
    if newest >= 0:  # Some is outstanding: a pause within a round trip may be the pace of a sender that spreads its packets.
        return g[previous].e - newest + mss <= high_flight * 3 // 4 and gap > whole + whole // 4 + 5_000_000
    return gap > 2 * whole + 10_000_000 and g[previous].room != 0


@helper
def gap_bin(gap_ns):  # type: ignore[no-untyped-def]
    """Which of the bins a gap falls in: three an octave, from a microsecond up."""
    return min(_GAP_BINS - 1, max(0, np.int64(3 * np.log2(max(gap_ns, 1000) / 1000))))


@kernel
def _transfer(g, lo, hi, side, start, end, floor_send, floor_receive, mss, blocked, window_high, extra_send, charge):  # type: ignore[no-untyped-def]
    """Charges the time from start to end, in which `side` sent its bytes, gap by gap. Entries lo..hi are looked at."""
    stall = STALL if side == 1 else PACING
    held = CLIENT_WINDOW if side == 1 else SERVER_WINDOW
    whole = floor_send + floor_receive
    at = start
    previous = np.int64(-1)
    high_flight = np.int64(0)
    lossy = False
    high_sent = np.int64(0)  # most in flight as the sender knew it
    limited_ns = np.int64(0)
    full_at = np.int64(-(1 << 60))
    before_rate, before_trip, before_queue = charge[RATE], charge[ROUND_TRIP], charge[QUEUEING]
    loop_ns = np.int64(0)  # least recent data-to-acknowledgement time of this stretch
    paced = hi - lo >= _PACED_LEAST
    gaps_ns, trips_ns = np.zeros(_GAP_BINS if paced else 0, np.int64), np.zeros(_GAP_BINS if paced else 0, np.int64)
    for i in range(lo, hi):
        if g[i].d != side:
            continue
        if g[i].n == 0 or g[i].kind & KIND_MASK == COPY:
            continue
        if g[i].t <= start:
            previous = i
            high_flight = max(high_flight, g[i].flight)
            continue
        if g[i].t > end:
            break
        gap = g[i].t - at
        if g[i].done > 0 and g[i].way == CUMULATIVE and g[i].kind & KIND_MASK == DATA:
            loop_ns = g[i].done - g[i].t
        cause = RATE
        lossy = lossy or blocked[i] > 0
        repeat = repairs(g[i].kind)
        if previous >= 0 and 0 <= g[previous].room < max(3 * mss, (g[previous].room + g[previous].flight) // 5):
            if g[i].t - full_at <= max(5 * whole, 100_000_000):
                limited_ns += g[i].t - full_at
            full_at = g[i].t
        if gap <= _SMALL_NS:
            cause = LOSS if blocked[i] > 0 else RATE
        elif repeat or probes(g[i].kind):
            cause = LOSS if repeat else held
        else:
            # What the receiver sent in between, and whether one of it set this packet off.
            newest = np.int64(-1)
            set_off = False
            latest_window = np.int64(-1)
            # It left its host when its own clock says: queues on its way to here are taken off first.
            lag = floor_send + max(np.int64(0), extra_send[i])
            slack = 1_500_000 if extra_send[i] <= 0 else 3_500_000
            reach = g[i].t - lag - floor_send * 3 // 10 - slack
            nearest = g[i].t - lag + floor_send * 3 // 10 + 300_000
            k = i - 1
            while k >= 0 and (g[k].t >= reach or k > previous) and i - k < 16 * _FAR:
                if g[k].d != side and g[k].flags & ACK:
                    if latest_window < 0:
                        latest_window = g[k].w
                    newest = max(newest, g[k].a) if g[k].t <= nearest else newest
                    if reach <= g[k].t <= nearest:
                        set_off = True
                k -= 1
            shut = False
            if previous >= 0 and g[previous].room >= 0 and g[previous].room < mss:
                behind = g[previous].room + g[previous].flight < window_high // 2 or latest_window == 0
                # Where acknowledgements come late, a queue on the way fills the window, not the reader.
                queued = loop_ns > 2 * whole + _HELD_ACK_NS and g[previous].room + g[previous].flight >= window_high * 3 // 4
                if behind or (not queued and gap > whole + whole // 2 + 5_000_000 + max(np.int64(0), extra_send[i])):
                    shut = True  # A reader that keeps up opens its window within a round trip.
            if blocked[i] > 0:
                cause = LOSS  # A window that fills behind a hole is the hole's doing.
            elif shut:
                cause = held
            elif set_off:
                cause = ROUND_TRIP
            elif previous >= 0 and _sender_was_free(g, previous, newest, gap, mss, max(high_flight, high_sent), whole, lossy):
                cause = stall
            else:
                cause = ROUND_TRIP
            if newest >= 0 and previous >= 0:
                high_sent = max(high_sent, g[previous].e - newest)
        trip = np.int64(0)
        if cause == ROUND_TRIP:
            trip = min(gap, whole)
            charge[ROUND_TRIP] += trip
            charge[QUEUEING] += gap - trip
        elif cause == RATE and loop_ns < whole + whole // 2 + 2_000_000:
            trip = gap
            charge[ROUND_TRIP] += gap  # Packets of one round, no queue: the round is what takes the time.
        else:
            charge[cause] += gap
        if paced and gap > 0:
            k = gap_bin(gap)
            gaps_ns[k] += gap
            trips_ns[k] += trip
        at = g[i].t
        previous = i
        high_flight = max(high_flight, g[i].flight)
    if at < end:
        charge[ROUND_TRIP] += end - at
    span = end - start
    if paced:
        # Nearly all of the time in gaps of one length, shorter than a round trip: that is a bottleneck's pace.
        most = 0
        for k in range(_GAP_BINS):
            if gaps_ns[k] > gaps_ns[most]:
                most = k
        near = gaps_ns[most] + (gaps_ns[most - 1] if most > 0 else 0) + (gaps_ns[most + 1] if most + 1 < _GAP_BINS else 0)
        if near * 5 > span * 3 and gap_bin(max(np.int64(1), whole * 8 // 10)) > most:
            for k in range(max(0, most - 1), min(_GAP_BINS, most + 2)):
                charge[ROUND_TRIP] -= trips_ns[k]
                charge[RATE] += trips_ns[k]
    if limited_ns * 5 > span * 3 and span > 10 * whole and window_high > 0 and loop_ns <= 2 * whole + _HELD_ACK_NS:
        # The window was filled again and again, nearly all the time: the receiver's room set the pace.
        for column in (RATE, ROUND_TRIP, QUEUEING):
            move = charge[column] - (before_rate if column == RATE else before_trip if column == ROUND_TRIP else before_queue)
            charge[column] -= move
            charge[held] += move


@kernel
def charge_exchange(g, turns, x, samples, floors, extra_client, extra_server, mss, windows_high, blocked, opened_ns, charge, times):  # type: ignore[no-untyped-def]
    """Charges of exchange x into `charge` (ns a column) and its moments into `times`: first, asked, answered, last, end.

    The sum of the charges is end - first, by construction: every stretch is given to exactly one column.
    """
    charge[:] = 0
    lo, hi, answer = turns[x].first, turns[x].stop, turns[x].answer
    n = g.size
    floor_client = floors[0] if floors[0] < _UNKNOWN else 0
    floor_server = floors[1] if floors[1] < _UNKNOWN else 0
    first = g[lo].t
    # A request whose first copy was lost before this point began earlier than what is seen.
    if g[lo].kind & FIRST_UNSEEN and g[lo].lost > 0:
        timer = retransmission_timer(samples, _SERVER, first, floor_client, opened_ns)
        back = repeat_delay(g[lo].lost, timer)
        k = lo - 1
        while k >= 0 and (g[k].d != 0 or g[k].s > g[lo].s):  # What speaks from beyond came after the lost first copy.
            k -= 1
        if k >= 0:
            back = min(back, first - g[k].t)
        charge[LOSS] += back
        times[0] = first - back
    else:
        times[0] = first
    # The request is whole when its last byte passed for the last time that mattered.
    asked = first
    limit = n if answer < 0 else answer
    for i in range(lo, limit):
        if g[i].d == 0 and g[i].n > 0 and g[i].s < turns[x].request_end and effective(g, i, floor_server):
            asked = max(asked, g[i].t)
    if answer < 0:
        end = asked
        for i in range(lo, n):
            end = max(end, g[i].t)
        _transfer(g, lo, limit, _CLIENT, first, asked, floor_client, floor_server, mss[0], blocked, windows_high[1], extra_client, charge)
        acknowledged = False
        for i in range(lo, n):
            if g[i].d == 1 and g[i].flags & ACK and g[i].a >= turns[x].request_end:
                acknowledged = True
        charge[PROCESSING if acknowledged else UNSEEN] += end - asked
        times[1], times[2], times[3], times[4] = asked, -1, end, end
        return
    answered = max(g[answer].t, asked)
    _transfer(g, lo, answer, _CLIENT, first, asked, floor_client, floor_server, mss[0], blocked, windows_high[1], extra_client, charge)
    # The server's turn.
    turn = answered - asked
    trip = round_trip_at(samples, _SERVER, g[answer].t, floors[1], extra_server, g, answer)
    trip = min(max(trip, lately(g, lo, answer, _CLIENT, asked, g[answer].t)), turn)
    rest = turn - trip
    if g[answer].kind & FIRST_UNSEEN and g[answer].lost > 0:
        timer = retransmission_timer(samples, _CLIENT, answered, floor_server, opened_ns)
        back = min(rest, repeat_delay(g[answer].lost, timer))
        charge[LOSS] += back
        rest -= back
    base_trip = min(trip, floor_server)
    charge[ROUND_TRIP] += base_trip
    charge[QUEUEING] += trip - base_trip
    charge[PROCESSING] += rest
    # The answer on its way.
    last = answered
    last_i = answer
    for i in range(answer, n):
        if i >= hi and g[i].kind & KIND_MASK == DATA and (g[i].t > g[hi - 1].t or i > hi + _FAR):
            break
        if g[i].d == 1 and g[i].n > 0 and g[i].s < turns[x].response_end and (i < hi or repeats(g[i].kind)):
            if effective(g, i, floor_client) and g[i].t >= last:
                last, last_i = g[i].t, i
    _transfer(g, answer, max(hi, last_i + 1), _SERVER, answered, last, floor_server, floor_client, mss[1], blocked, windows_high[0], extra_server, charge)
    # The last trip, by the acknowledgement of the last byte unless that was held back.
    seen = np.int64(-1)
    seen_i = -1
    for i in range(last_i + 1, n):
        if g[i].d == 0 and g[i].flags & ACK and g[i].a >= turns[x].response_end and g[i].kind & KIND_MASK != COPY:
            seen = g[i].t - last
            seen_i = i
            break
        if g[i].t - last > 10_000_000_000 or i > last_i + 16 * _FAR:
            break
    recent = np.int64(0)
    found = 0
    high = samples.size - 1
    low = np.int64(0)
    while low <= high:
        middle = (low + high) >> 1
        if samples[middle].t <= last:
            low = middle + 1
        else:
            high = middle - 1
    k = high
    while k >= 0 and found < 4 and samples[k].t >= answered:
        if samples[k].side == 0:
            recent = max(recent, samples[k].rtt)
            found += 1
        k -= 1
    expected = max(recent, floor_client)
    if seen_i >= 0:
        expected = max(expected, lately(g, answer, last_i, _SERVER, last, last + seen))
        expected = max(expected, round_trip_at(samples, _CLIENT, g[seen_i].t, floors[0], extra_client, g, seen_i))
    if seen < 0 or g[seen_i].n > 0 or seen > expected + expected // 2 + 8_000_000:
        final = expected  # An acknowledgement that waited for a timer or for data tells nothing of the way.
        if seen >= 0:
            final = min(final, seen)
    else:
        final = seen
    base_trip = min(final, floor_client)
    charge[ROUND_TRIP] += base_trip
    charge[QUEUEING] += final - base_trip
    times[1], times[2], times[3], times[4] = asked, answered, last, last + final


@kernel
def charge_opening(g, floors, charge, times):  # type: ignore[no-untyped-def]
    """Charges of setting up the connection; times: first SYN, and when the client had its answer (at the point).

    Returns 0 complete, 1 unseen, 2 refused, 3 unanswered.
    """
    n = g.size
    first_syn, last_syn, answer, last_answer, end = -1, -1, -1, -1, -1
    for i in range(min(n, 64)):
        if g[i].kind & KIND_MASK == COPY:
            continue
        if g[i].flags & SYN and g[i].d == 0 and not g[i].flags & ACK:
            if first_syn < 0:
                first_syn = i
            if answer < 0:
                last_syn = i
        elif g[i].flags & SYN and g[i].d == 1:
            if answer < 0:
                answer = i
            last_answer = i
        elif g[i].flags & RST and g[i].d == 1 and answer < 0 and first_syn >= 0:
            times[0], times[1] = g[first_syn].t, g[i].t
            charge[LOSS] += g[last_syn].t - g[first_syn].t
            charge[SET_UP] += g[i].t - g[last_syn].t
            return 2
        elif g[i].d == 0 and answer >= 0 and g[i].flags & ACK:
            end = i
            break
    if first_syn < 0:
        times[0] = times[1] = g[0].t
        return 1
    if answer < 0:
        times[0], times[1] = g[first_syn].t, g[n - 1].t
        charge[UNSEEN] += g[n - 1].t - g[first_syn].t
        for i in range(n):
            if g[i].d == 1:
                return 1
        return 3
    floor_client = floors[0] if floors[0] < _UNKNOWN else 0
    began, until = g[first_syn].t, g[answer].t + floor_client
    if end >= 0 and last_answer == answer and (g[end].n == 0 or g[end].t - g[answer].t < floor_client):
        until = g[end].t
    elif end >= 0 and last_answer > answer:
        # Several answers: the client had one of them; the acknowledgement tells when.
        until = min(g[end].t, g[last_answer].t + floor_client)
    until = max(until, began)  # Packets that lie in the file in an order they cannot have had give no negative time.
    lost = max(np.int64(0), g[last_syn].t - began)
    if last_answer > answer and until > g[last_answer].t:
        lost += g[last_answer].t - g[answer].t
    lost = max(np.int64(0), min(lost, until - began))
    times[0], times[1] = began, until
    charge[LOSS] += lost
    charge[SET_UP] += until - began - lost
    return 0
