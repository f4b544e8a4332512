"""Charges the time in which one side sends its bytes, gap by gap: each gap by what ended it."""

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.packets import ACK
from yaffle.kernels import int64, leaf, pasted
from yaffle.ledger import causes
from yaffle.ledger.pace import HELD_ACK_NS, charge_full_window, charge_pace, note_gap
from yaffle.ledger.stretch import Stretch, is_paced
from yaffle.transport.kinds import COPY, DATA, KIND_MASK, probes, repairs
from yaffle.transport.segments import CUMULATIVE, Segment, Segments

ROUND_TRIP, RATE, QUEUEING, LOSS = causes.ROUND_TRIP, causes.RATE, causes.QUEUEING, causes.LOSS
UNSEEN = causes.UNSEEN

SMALL_NS = 1_500_000  # Gaps below this are packets in flow.
# Packets looked at before one of them, so that a capture without sensible times takes no square of its length.
_FAR = 65_536
_MOST_COPIES = 256
_ROUND_SLACK_NS = 5_000_000
_FULL_AGAIN_NS = 100_000_000  # A window that is full again within this, or five round trips, is so all the while.
_NEAR_SLACK_NS, _REACH_SLACK_NS, _REACH_SLACK_LATE_NS = 300_000, 1_500_000, 3_500_000


@leaf
def loss_cover(g: Segments, blocked: Int64s) -> None:
    """blocked[i] > 0: between segment i - 1 and i bytes were missing that a repeat brought later."""
    n = g.size
    blocked[: n + 1] = 0
    any_repair = False
    for j in range(n):
        if repairs(g[j].kind):
            any_repair = True
            k = g[j].before if g[j].before >= 0 else (-2 - g[j].before if g[j].before <= -2 else -1)
            steps = 0
            while k >= 0 and g[k].before >= 0 and steps < _MOST_COPIES:
                k = g[k].before
                steps += 1
            if k < 0:
                k = j - 1
                while k > 0 and g[k].d != g[j].d:
                    k -= 1
            if k >= 0:
                blocked[k + 1] += 1
                blocked[j + 1] -= 1
    running = int64(0)
    for i in range(n if any_repair else 0):
        running += blocked[i]
        blocked[i] = running


@pasted
def _sender_was_free(last: Segment, newest: int, gap: int, stretch: Stretch) -> bool:
    """Whether nothing but the application kept the sender from sending: all acknowledged, or far less in flight than
    before. last: its last segment.

    After a loss congestion control allows less than before, so that only the former counts.
    """
    if newest >= last.e:
        return True
    if stretch.lossy:
        return False
    whole = stretch.whole
    if newest >= 0:
        # Some is outstanding: a pause within a round trip may be the pace of a sender that spreads its packets.
        most = max(stretch.high_flight, stretch.high_sent)
        return last.e - newest + stretch.mss <= most * 3 // 4 and gap > whole + whole // 4 + _ROUND_SLACK_NS
    return gap > 2 * whole + 2 * _ROUND_SLACK_NS and last.room != 0


@pasted
def _note(g: Segments, i: int, stretch: Stretch, blocked: Int64s) -> None:
    """What segment i tells of the stretch, whatever ended the gap before it."""
    # What it echoes (RFC 7323 section 4.3) tells what had reached its host by then, whatever the queues on the way.
    while g[i].tse >= 0 and stretch.reached < i:
        other = g[stretch.reached]
        if other.d != stretch.side and other.tsv > g[i].tse:
            break
        if other.d != stretch.side and other.flags & ACK:
            stretch.echoed = max(stretch.echoed, other.a)
        stretch.reached += 1
    if g[i].done > 0 and g[i].way == CUMULATIVE and g[i].kind & KIND_MASK == DATA:
        stretch.loop_ns = g[i].done - g[i].t
    if blocked[i] > 0:
        stretch.lossy = 1
    if stretch.previous >= 0:
        last = g[stretch.previous]
        if 0 <= last.room < max(3 * stretch.mss, (last.room + last.flight) // 5):
            since = g[i].t - stretch.full_at
            if since <= max(5 * stretch.whole, _FULL_AGAIN_NS):
                stretch.limited_ns += since
            stretch.full_at = g[i].t


@pasted
def _heard(g: Segments, i: int, stretch: Stretch, extra: int) -> tuple[int, bool, int]:
    """What the receiver sent before segment i: (acknowledged, whether one of it set this one off, its last window).

    extra: what that took above its least to here; it left its host when its own clock says, so that queues on its way
    are taken off first.
    """
    newest, set_off, window = int64(-1), False, int64(-1)
    lag = stretch.floor_send + max(int64(0), extra)
    near = stretch.floor_send * 3 // 10
    reach = g[i].t - lag - near - (_REACH_SLACK_NS if extra <= 0 else _REACH_SLACK_LATE_NS)
    nearest = g[i].t - lag + near + _NEAR_SLACK_NS
    k = i - 1
    while k >= 0 and (g[k].t >= reach or k > stretch.previous) and i - k < _FAR:
        if g[k].d != stretch.side and g[k].flags & ACK:
            if window < 0:
                window = g[k].w
            if g[k].t <= nearest:
                newest = max(newest, g[k].a)
                set_off = set_off or g[k].t >= reach
        k -= 1
    if stretch.echoed >= 0:
        newest = stretch.echoed if newest < 0 or extra > 0 else min(newest, stretch.echoed)
    return newest, set_off, window


@pasted
def _shut(last: Segment, gap: int, stretch: Stretch, extra: int, window: int) -> bool:
    """Whether the receiver's window kept the sender from sending. last: its last segment; window: the last heard of.

    A reader that keeps up opens its window within a round trip. Where acknowledgements come late, a queue on the way
    fills the window, not the reader.
    """
    if last.room < 0 or last.room >= stretch.mss:
        return False
    whole, allowed = stretch.whole, last.room + last.flight
    if allowed < stretch.window_high // 2 or window == 0:
        return True
    queued = stretch.loop_ns > 2 * whole + HELD_ACK_NS and allowed >= stretch.window_high * 3 // 4
    return not queued and gap > whole + whole // 2 + _ROUND_SLACK_NS + max(int64(0), extra)


@pasted
def _mending(t: int, last: Segment, stretch: Stretch, extra: int, window: int) -> bool:
    """Whether a window that was full until t was so because of a hole: what had filled that was sent already, and its
    acknowledgement ended the wait. The receiver had read all before the hole.
    """
    heard_by = stretch.mended_at + stretch.floor_send + max(int64(0), extra) + _ROUND_SLACK_NS
    return window != 0 and last.t < stretch.mended_at and t <= heard_by


@pasted
def _doubted(cause: int, gap: int, newest: int, g: Segments, stretch: Stretch, charge: Int64s, doubt: Int64s) -> None:
    """What of the gap may be another's."""
    free, little = True, False
    if stretch.previous >= 0:
        last = g[stretch.previous]
        if newest >= 0:
            stretch.high_sent = max(stretch.high_sent, last.e - newest)
        free = newest >= last.e
        little = last.flight + stretch.mss <= max(stretch.high_flight, stretch.high_sent)
    if cause == stretch.stall and stretch.previous >= 0 and not little:
        # It may have had to wait for the acknowledgement first.
        doubt[stretch.may_be_network] += min(gap, stretch.whole)
    elif cause == ROUND_TRIP and free:
        doubt[stretch.may_be_end] += gap
    if cause == stretch.stall:  # Its program may have stopped before all that it had handed down was sent.
        flowing = charge[ROUND_TRIP] + charge[RATE]
        doubt[stretch.may_be_end] += flowing - stretch.flowing
        stretch.flowing = flowing


@pasted
def _pause(
    g: Segments, i: int, gap: int, stretch: Stretch, blocked: Int64s, extra: int, charge: Int64s, doubt: Int64s
) -> int:
    """What ended a gap that is longer than packets in flow have between them."""
    newest, set_off, window = _heard(g, i, stretch, extra)
    cause = int64(ROUND_TRIP)
    if g[i].missed > 0:
        cause = int64(UNSEEN)  # What the capture missed may have passed in it.
    elif blocked[i] > 0:
        cause = int64(LOSS)  # A window that fills behind a hole is the hole's doing.
    elif stretch.previous >= 0:
        last = g[stretch.previous]
        if _shut(last, gap, stretch, extra, window):
            cause = int64(LOSS) if _mending(g[i].t, last, stretch, extra, window) else stretch.held
        elif not set_off and _sender_was_free(last, newest, gap, stretch):
            cause = stretch.stall
    _doubted(cause, gap, newest, g, stretch, charge, doubt)
    return cause


@pasted
def _charge_gap(cause: int, gap: int, stretch: Stretch, charge: Int64s) -> int:
    """Gives a gap to its cause; how much of it to the round trip."""
    whole = stretch.whole
    trip = int64(0)
    if cause == ROUND_TRIP:
        trip = min(gap, whole)
        charge[QUEUEING] += gap - trip
    elif cause == RATE and stretch.loop_ns < whole + whole // 2 + 2_000_000:
        trip = gap  # Packets of one round, no queue: the round is what takes the time.
    else:
        charge[cause] += gap
    charge[ROUND_TRIP] += trip
    return trip


@leaf
def transfer(
    g: Segments, stretch: Stretch, blocked: Int64s, extra_send: Int64s, bins: Int64s2, charge: Int64s, doubt: Int64s
) -> None:
    """Charges a stretch of time in which one side sent its bytes, gap by gap.

    bins: int64 (2, GAP_BINS), room.
    """
    paced = is_paced(stretch)
    if paced:
        bins[:] = 0
    for i in range(stretch.lo, stretch.hi):
        if g[i].d != stretch.side or g[i].n == 0 or g[i].kind & KIND_MASK == COPY:
            continue
        if g[i].t > stretch.end:
            break
        if g[i].t > stretch.start:
            gap = g[i].t - stretch.at
            _note(g, i, stretch, blocked)
            repeat = repairs(g[i].kind)
            if gap <= SMALL_NS:
                cause = int64(LOSS if blocked[i] > 0 else RATE)
            elif repeat or probes(g[i].kind):
                cause = int64(LOSS) if repeat else stretch.held
            else:
                cause = _pause(g, i, gap, stretch, blocked, extra_send[i], charge, doubt)
            trip = _charge_gap(cause, gap, stretch, charge)
            if paced and gap > 0:
                note_gap(bins, gap, trip)
            stretch.at = g[i].t
        stretch.previous = i
        stretch.high_flight = max(stretch.high_flight, g[i].flight)
        if repairs(g[i].kind):
            stretch.mended_at = max(stretch.mended_at, g[i].done)
    if stretch.at < stretch.end:
        charge[ROUND_TRIP] += stretch.end - stretch.at
    if paced:
        charge_pace(stretch, bins, charge)
    charge_full_window(stretch, charge)
