"""Charges the time in which one side sends its bytes, gap by gap: each gap by what ended it."""

import numpy as np

from yaffle.capture.packets import ACK
from yaffle.kernels import helper, leaf
from yaffle.ledger import causes
from yaffle.ledger.bounds import CLIENT_OR_NETWORK, NETWORK_OR_CLIENT, NETWORK_OR_SERVER, SERVER_OR_NETWORK
from yaffle.transport.kinds import COPY, DATA, KIND_MASK, probes, repairs
from yaffle.transport.segments import CUMULATIVE

ROUND_TRIP, RATE, QUEUEING, LOSS = causes.ROUND_TRIP, causes.RATE, causes.QUEUEING, causes.LOSS
STALL, SERVER_WINDOW, PACING, CLIENT_WINDOW = causes.STALL, causes.SERVER_WINDOW, causes.PACING, causes.CLIENT_WINDOW
UNSEEN = causes.UNSEEN

SMALL_NS = 1_500_000  # Gaps below this are packets in flow.
# Packets looked at before one of them, so that a capture without sensible times takes no square of its length.
_FAR = 65_536
HELD_ACK_NS = (
    60_000_000  # Receivers hold acknowledgements back for about 40 ms, some longer (RFC 1122 section 4.2.3.2).
)
GAP_BINS = 64
PACED_LEAST = 30  # Fewer packets show no pace.


@leaf
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
    """Whether nothing but the application kept the sender from sending: all acknowledged, or far less in flight than
    before.

    After a loss congestion control allows less than before, so that only the former counts.
    """
    if newest >= g[previous].e:
        return True
    if lossy:
        return False
    if (
        newest >= 0
    ):  # Some is outstanding: a pause within a round trip may be the pace of a sender that spreads its packets.
        return g[previous].e - newest + mss <= high_flight * 3 // 4 and gap > whole + whole // 4 + 5_000_000
    return gap > 2 * whole + 10_000_000 and g[previous].room != 0


@helper
def gap_bin(gap_ns):  # type: ignore[no-untyped-def]
    """Which of the bins a gap falls in: three an octave, from a microsecond up."""
    return min(GAP_BINS - 1, max(0, np.int64(3 * np.log2(max(gap_ns, 1000) / 1000))))


@leaf
def transfer(  # type: ignore[no-untyped-def]
    g, lo, hi, side, start, end, floor_send, floor_receive, mss, blocked, window_high, extra_send, bins, charge, doubt
):
    """Charges the time from start to end, in which `side` sent its bytes, gap by gap. Entries lo..hi are looked at.

    bins: int64 (2, GAP_BINS), room.
    """
    stall = STALL if side == 1 else PACING
    held = CLIENT_WINDOW if side == 1 else SERVER_WINDOW
    whole = floor_send + floor_receive
    at = start
    previous = np.int64(-1)
    high_flight = np.int64(0)
    lossy = False
    high_sent = np.int64(0)  # most in flight as the sender knew it
    echoed = np.int64(-1)  # what was acknowledged of all that had reached the sender, by what its packet echoes
    reached = lo
    may_be_network, may_be_end = (
        (SERVER_OR_NETWORK, NETWORK_OR_SERVER) if side == 1 else (CLIENT_OR_NETWORK, NETWORK_OR_CLIENT)
    )
    limited_ns = np.int64(0)
    full_at = np.int64(-(1 << 60))
    flowing = charge[ROUND_TRIP] + charge[RATE]
    before_rate, before_trip, before_queue = charge[RATE], charge[ROUND_TRIP], charge[QUEUEING]
    loop_ns = np.int64(0)  # least recent data-to-acknowledgement time of this stretch
    paced = hi - lo >= PACED_LEAST
    gaps_ns, trips_ns = bins[0], bins[1]
    if paced:
        bins[:] = 0
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
        # What it echoes (RFC 7323 section 4.3) tells what had reached its host by then, whatever the queues on the way.
        while g[i].tse >= 0 and reached < i and not (g[reached].d != side and g[reached].tsv > g[i].tse):
            if g[reached].d != side and g[reached].flags & ACK:
                echoed = max(echoed, g[reached].a)
            reached += 1
        if g[i].done > 0 and g[i].way == CUMULATIVE and g[i].kind & KIND_MASK == DATA:
            loop_ns = g[i].done - g[i].t
        cause = RATE
        lossy = lossy or blocked[i] > 0
        repeat = repairs(g[i].kind)
        if previous >= 0 and 0 <= g[previous].room < max(3 * mss, (g[previous].room + g[previous].flight) // 5):
            if g[i].t - full_at <= max(5 * whole, 100_000_000):
                limited_ns += g[i].t - full_at
            full_at = g[i].t
        if gap <= SMALL_NS:
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
            while k >= 0 and (g[k].t >= reach or k > previous) and i - k < _FAR:
                if g[k].d != side and g[k].flags & ACK:
                    if latest_window < 0:
                        latest_window = g[k].w
                    newest = max(newest, g[k].a) if g[k].t <= nearest else newest
                    if reach <= g[k].t <= nearest:
                        set_off = True
                k -= 1
            if echoed >= 0:
                newest = echoed if newest < 0 or extra_send[i] > 0 else min(newest, echoed)
            shut = False
            if previous >= 0 and g[previous].room >= 0 and g[previous].room < mss:
                behind = g[previous].room + g[previous].flight < window_high // 2 or latest_window == 0
                # Where acknowledgements come late, a queue on the way fills the window, not the reader.
                queued = (
                    loop_ns > 2 * whole + HELD_ACK_NS and g[previous].room + g[previous].flight >= window_high * 3 // 4
                )
                if behind or (not queued and gap > whole + whole // 2 + 5_000_000 + max(np.int64(0), extra_send[i])):
                    shut = True  # A reader that keeps up opens its window within a round trip.
            if g[i].missed > 0:
                cause = UNSEEN  # What the capture missed may have passed in it.
            elif blocked[i] > 0:
                cause = LOSS  # A window that fills behind a hole is the hole's doing.
            elif shut:
                cause = held
            elif set_off:
                cause = ROUND_TRIP
            elif previous >= 0 and _sender_was_free(
                g, previous, newest, gap, mss, max(high_flight, high_sent), whole, lossy
            ):
                cause = stall
            else:
                cause = ROUND_TRIP
            if newest >= 0 and previous >= 0:
                high_sent = max(high_sent, g[previous].e - newest)
            free = previous < 0 or newest >= g[previous].e
            if cause == stall and previous >= 0 and g[previous].flight + mss > max(high_flight, high_sent):
                doubt[may_be_network] += min(gap, whole)  # It may have had to wait for the acknowledgement first.
            elif cause == ROUND_TRIP and free:
                doubt[may_be_end] += gap
            if cause == stall:  # Its program may have stopped before all that it had handed down was sent.
                doubt[may_be_end] += charge[ROUND_TRIP] + charge[RATE] - flowing
                flowing = charge[ROUND_TRIP] + charge[RATE]
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
        for k in range(GAP_BINS):
            if gaps_ns[k] > gaps_ns[most]:
                most = k
        near = (
            gaps_ns[most] + (gaps_ns[most - 1] if most > 0 else 0) + (gaps_ns[most + 1] if most + 1 < GAP_BINS else 0)
        )
        if near * 5 > span * 3 and gap_bin(max(np.int64(1), whole * 8 // 10)) > most:
            for k in range(max(0, most - 1), min(GAP_BINS, most + 2)):
                charge[ROUND_TRIP] -= trips_ns[k]
                charge[RATE] += trips_ns[k]
    if limited_ns * 5 > span * 3 and span > 10 * whole and window_high > 0 and loop_ns <= 2 * whole + HELD_ACK_NS:
        # The window was filled again and again, nearly all the time: the receiver's room set the pace.
        for column in (RATE, ROUND_TRIP, QUEUEING):
            before = before_rate if column == RATE else before_trip if column == ROUND_TRIP else before_queue
            move = charge[column] - before
            charge[column] -= move
            charge[held] += move
