"""What a segment is by the bytes that it brings: new ones, ones that were lost before, sent again, overtaken, copied.

Sources as in `classify`. g: segments in order of time; i: the one that is looked at; own, other: its sender's side and
the other one (`side.SIDE`); counts_ids: whether the identification of its sender's packets counts up; skipped: how many
of those are missing right before it.
"""

from yaffle.arrays import Int64s
from yaffle.capture.packets import ACK, FIN, RST, SYN
from yaffle.kernels import int64, pasted
from yaffle.transport.copies import copy_of
from yaffle.transport.kinds import (
    CLOSE,
    COPY,
    DATA,
    FIRST_UNSEEN,
    KEEP_ALIVE,
    OPEN,
    OPEN_ANSWER,
    OTHER,
    OUT_OF_ORDER,
    PURE_ACK,
    REPEAT_AFTER,
    REPEAT_CLOSE,
    REPEAT_FAST,
    REPEAT_OPEN,
    REPEAT_TAIL,
    REPEAT_TIMEOUT,
    RESET,
    SPURIOUS,
    WINDOW_PROBE,
)
from yaffle.transport.segments import CUMULATIVE, MISSED_CLIENT, SACK_OK, SIZE_CLIENT, Segment, Segments
from yaffle.transport.side import KEPT_ALIVE, MOST_HOLES, PROBED, Hole, Holes, Side, drop_hole, show_hole, split_hole
from yaffle.transport.workspace import SegmentSpace

_MOST_REPEATS = 1024
_LOOK_BACK = 4096  # Segments in which the copy before is looked for.
_MOST_AHEAD = 1 << 20  # Bytes that an acknowledgement may speak from beyond what passed.
_COPY_OF_SYN_NS = 100_000_000
_TIMER_NS = 150_000_000  # No retransmission timer is shorter.
_SET_OFF_NS = 10_000_000  # What an acknowledgement sets off is not further behind it, beside a round trip.
QUIET_NS = 120_000_000  # A timer of less than this is not to be expected (RFC 6298 allows 1 s, stacks use 200 ms).
_PAUSE_NS = 20_000_000  # Longer than what is sent on and on.
_STEP_NS = 2_000_000
_LATE_MOST_NS = 50_000_000  # behind the segment that overtook it
_PROBE_SLACK_NS = 250_000_000
_FAR_NS = 1 << 40


@pasted
def _trip(own: Side, other: Side) -> int:
    """The least round trip from end to end, as far as a timer may be told from it."""
    return min(own.floor, QUIET_NS) + min(other.floor, QUIET_NS)


@pasted
def _tail_probe(quiet: int, own: Side, other: Side) -> bool:
    """Whether a repeat of the last segment comes when a probe would: about two round trips (RFC 8985 section 7.2)."""
    trip = _trip(own, other)
    return 2 * trip < quiet < 3 * trip + _PROBE_SLACK_NS


@pasted
def _expired(segment: Segment, own: Side, other: Side) -> bool:
    """Whether a retransmission of the first unacknowledged byte comes after such a silence that only a timer can have
    sent it.

    The timer is at least 200 ms above the round trip in common stacks, 1 s by RFC 6298; an acknowledgement that moves
    on or a retransmission starts it anew. What a duplicate acknowledgement sets off follows it within a quarter round
    trip.
    """
    trip, t = _trip(own, other), segment.t
    armed = max(own.last_moved, own.last_again)
    silent = t - max(own.last_any, other.last_any)
    return segment.s <= own.una and t - armed > _TIMER_NS + trip // 2 and silent > _SET_OFF_NS + trip


@pasted
def _opening(g: Segments, i: int, own: Side) -> int:
    """A SYN."""
    segment = g[i]
    kind = OPEN_ANSWER if segment.flags & ACK else OPEN
    if own.syn_count > 0:
        kind = REPEAT_OPEN
        if copy_of(g, i, own) >= 0 and segment.t - own.syn_at < _COPY_OF_SYN_NS:
            kind = COPY
    if kind != COPY:
        own.syn_count += 1
        own.syn_at = segment.t
    own.nxt = max(own.nxt, segment.e)
    return kind


@pasted
def _asked_for_life(own: Side, other: Side) -> int:
    """A segment that brings nothing new to have an acknowledgement."""
    own.probed = PROBED if other.window == 0 else KEPT_ALIVE
    return WINDOW_PROBE if other.window == 0 else KEEP_ALIVE


@pasted
def _behind_hole(segment: Segment, i: int, own: Side, kind: int, skipped: int, facts: Int64s, holes: Holes) -> int:
    """New bytes, those before which did not pass."""
    show_hole(own, holes, segment, i)
    own.pool = 0
    usual = max(int64(1), facts[SIZE_CLIENT + segment.d])
    hidden = skipped - (segment.s - own.nxt + usual - 1) // usual
    if hidden > 0 and segment.t - own.last_sent > QUIET_NS // 3 and segment.t - own.last_any > _PAUSE_NS:
        # More packets are missing than the hole had: this one went out before, too (a tail probe).
        kind = REPEAT_TAIL | FIRST_UNSEEN
        segment.lost, segment.again = hidden, segment.n
    return kind


@pasted
def _ends_in_probe(segment: Segment, quiet: int, own: Side, other: Side) -> bool:
    """Whether new bytes come when a tail loss probe would, in the middle of what their side says."""
    goes_on = own.last_sent > other.last_new
    return goes_on and segment.n > 0 and quiet > _PAUSE_NS and _tail_probe(quiet, own, other)


@pasted
def _after_missing(segment: Segment, own: Side, other: Side, kind: int, skipped: int) -> int:
    """New bytes, before which packets are missing, and no byte is: they carried these bytes, unless they were bare
    acknowledgements.

    A first copy was sent after the packet before it, and after what it answers; its timer takes longer than that.
    """
    quiet = segment.t - max(own.last_any, other.last_new)
    # Bare acknowledgements may be what is missing, unless a server pauses so much longer than it usually does.
    explained = own.pool <= own.owed and (segment.d == 0 or quiet < 4 * own.usual_turn)
    if (quiet > QUIET_NS and not explained) or own.timeout_end > segment.s:
        kind = (REPEAT_CLOSE if segment.n == 0 else REPEAT_TIMEOUT) | FIRST_UNSEEN
        segment.lost, segment.again = skipped, segment.n
        own.timeout_end = max(own.timeout_end, segment.s + 1)
        own.pool -= 1
    elif own.pool > own.owed and _ends_in_probe(segment, quiet, own, other):
        kind = REPEAT_TAIL | FIRST_UNSEEN
        segment.lost, segment.again = skipped, segment.n
        own.pool = 0
    else:
        own.pool = 0
    return kind


@pasted
def _new_bytes(g: Segments, i: int, own: Side, other: Side, skipped: int, facts: Int64s, space: SegmentSpace) -> int:
    """Bytes beyond all that passed."""
    segment = g[i]
    kind = CLOSE if segment.n == 0 else DATA
    # What lies before its first bytes was sent before the capture began.
    before_start = own.spoke == 0 and own.syn_count == 0
    if segment.s > own.nxt and own.holes < MOST_HOLES and not before_start:
        kind = _behind_hole(segment, i, own, kind, skipped, facts, space.holes)
    elif skipped > 0 and own.last_any > 0 and segment.t - own.last_sent > _STEP_NS:
        own.pool += skipped
    own.spoke = 1
    if segment.a >= other.nxt and other.started and other.acked and other.una >= other.nxt:
        other.pool = 0  # All of the other side arrived: nothing of it is missing any more.
    if segment.s == own.nxt and own.pool > 0:
        kind = _after_missing(segment, own, other, kind, skipped)
    if kind == DATA and segment.d == 1 and other.last_new > own.last_new:
        turn = segment.t - max(other.last_new, other.last_again)
        own.usual_turn = turn if own.usual_turn == 0 else own.usual_turn + (turn - own.usual_turn) // 4
    own.nxt = segment.e
    space.pending[segment.d, own.tail] = i
    own.tail += 1
    return kind


@pasted
def _late(segment: Segment, hole: Hole, own: Side, other: Side, counts_ids: bool) -> bool:
    """Whether a segment that fills a hole was sent before the one that showed it."""
    if counts_ids and hole.id >= 0:
        return segment.id < hole.id
    if segment.tsv >= 0 and hole.tsv >= 0 and segment.tsv != hole.tsv:
        return segment.tsv < hole.tsv
    whole = min(own.floor, int64(_FAR_NS)) + min(other.floor, int64(_FAR_NS))
    return segment.t - hole.t < min(whole * 9 // 10, _LATE_MOST_NS)


@pasted
def _fill(segment: Segment, own: Side, other: Side, counts_ids: bool, holes: Holes) -> tuple[bool, bool]:
    """(whether it fills holes, whether it was sent before the segment that showed the last of them)."""
    d, s, e = segment.d, segment.s, segment.e
    filled, late = False, False
    k = 0
    while k < own.holes:
        hole = holes[d, k]
        if s < hole.end and e > hole.start:
            filled = True
            segment.before = -2 - hole.i
            late = _late(segment, hole, own, other, counts_ids)
            if s <= hole.start and e >= hole.end:
                drop_hole(own, holes, d, k)
                continue
            if s <= hole.start:
                hole.start = e
            elif e >= hole.end:
                hole.end = s
            elif own.holes < MOST_HOLES:
                split_hole(own, holes, d, k, s, e)
                k += 1
        k += 1
    return filled, late


@pasted
def _why_again(segment: Segment, own: Side, other: Side, facts: Int64s) -> int:
    """What made the sender send bytes again."""
    t, s, e = segment.t, segment.s, segment.e
    if segment.n == 0:
        return REPEAT_CLOSE
    if _expired(segment, own, other):
        free = facts[SACK_OK] == 1 and own.last_again < own.last_moved and own.probe_end < 0
        if e >= own.nxt and free and _tail_probe(t - own.last_sent, own, other):
            return REPEAT_TAIL
        own.timeout_end = own.nxt
        return REPEAT_TIMEOUT
    if own.timeout_end > s:
        return REPEAT_FAST if own.sacked_high > s else REPEAT_AFTER
    if own.sacked_high > s or own.dup_acks >= 3:
        return REPEAT_FAST
    if e >= own.nxt and own.una <= s and facts[SACK_OK] == 1 and _tail_probe(t - own.last_sent, own, other):
        return REPEAT_TAIL
    if t - other.last_any <= _SET_OFF_NS + _trip(own, other):
        return REPEAT_FAST  # An acknowledgement has just set it off.
    own.timeout_end = own.nxt
    return REPEAT_TIMEOUT


@pasted
def _copy_before(g: Segments, i: int) -> int:
    """The copy before: for Karn's rule and for telling which copy was the one that helped; -1 none."""
    d, s, e = g[i].d, g[i].s, g[i].e
    k = i - 1
    looked = 0
    while k >= 0 and looked < _LOOK_BACK:
        if g[k].d == d and g[k].e > g[k].s:
            looked += 1
            if g[k].s < e and g[k].e > s and g[k].kind != COPY:
                return k
        k -= 1
    return -1


@pasted
def _repeated(g: Segments, i: int, own: Side, other: Side, skipped: int, filled: bool, facts: Int64s) -> int:
    """Bytes that their sender sent again."""
    segment = g[i]
    kind = _why_again(segment, own, other, facts)
    segment.again = max(int64(0), min(min(segment.e, own.nxt) - segment.s, segment.n))
    own.last_again = segment.t
    if kind == REPEAT_TAIL:
        own.probe_end = own.nxt
    elif kind == REPEAT_TIMEOUT:
        own.probe_end = -1
    if filled:
        kind |= FIRST_UNSEEN
        showed = g[-2 - segment.before]
        if showed.n == 0 and segment.s >= own.una:
            # A bare acknowledgement showed the hole: the whole message was under way, and lost, before it.
            segment.lost = max(int64(1), showed.lost) + skipped
    else:
        before = _copy_before(g, i)
        if before >= 0:
            segment.before = before
    if own.una >= segment.e and own.acked:
        kind |= SPURIOUS
    return kind


@pasted
def _bytes_again(
    g: Segments, i: int, own: Side, other: Side, skipped: int, counts_ids: bool, facts: Int64s, space: SegmentSpace
) -> int:
    """Bytes some of which passed before, or lie before some that passed."""
    segment = g[i]
    filled, late = _fill(segment, own, other, counts_ids, space.holes)
    if filled and late:
        kind = OUT_OF_ORDER
    elif counts_ids and not filled and segment.id <= own.high_id:
        # Numbered before what passed already: no new sending, but what the network doubled, alone or merged with what
        # follows.
        kind = COPY if segment.e <= own.nxt else DATA
        segment.again = min(segment.n, own.nxt - segment.s)
    else:
        kind = _repeated(g, i, own, other, skipped, filled, facts)
    own.nxt = max(own.nxt, segment.e)
    if kind != COPY:
        if own.repeats == _MOST_REPEATS:  # Acknowledged by nobody for so long: the oldest is given up.
            own.repeats -= 1
            for m in range(own.repeats):
                space.repeats[segment.d, m] = space.repeats[segment.d, m + 1]
        space.repeats[segment.d, own.repeats] = i
        own.repeats += 1
    return kind


@pasted
def _bytes(
    g: Segments, i: int, own: Side, other: Side, skipped: int, counts_ids: bool, facts: Int64s, space: SegmentSpace
) -> int:
    """A segment with bytes, or with a FIN, which counts as one."""
    segment = g[i]
    d, s, e, size = segment.d, segment.s, segment.e, segment.n
    # Acknowledged before it passes here: captured in the wrong order, or a copy of what the capture missed.
    overtaken = size > 0 and own.behind > 0 and s >= own.nxt - own.behind and e <= own.nxt
    if overtaken:
        own.behind -= size
        facts[MISSED_CLIENT + d] -= size
    else:
        segment.missed += own.behind
        own.behind = 0
    copied = int64(-1)
    if s < own.nxt or (counts_ids and segment.id <= own.high_id):
        copied = copy_of(g, i, own)
    if copied >= 0:
        segment.before = copied
        return COPY
    if overtaken:
        segment.done, segment.way = segment.t, CUMULATIVE
        return DATA
    if size == 1 and s == own.nxt - 1 and e == own.nxt and own.una >= e:
        return _asked_for_life(own, other)
    if s >= own.nxt:
        return _new_bytes(g, i, own, other, skipped, facts, space)
    return _bytes_again(g, i, own, other, skipped, counts_ids, facts, space)


@pasted
def _without_bytes(segment: Segment, i: int, own: Side, other: Side, skipped: int, holes: Holes) -> int:
    """An acknowledgement without bytes."""
    ahead = segment.s - own.nxt
    if 0 < ahead < _MOST_AHEAD and own.holes < MOST_HOLES:
        # It speaks from beyond what passed here: the bytes between were sent and lost before this point.
        show_hole(own, holes, segment, i)
        own.nxt = segment.s
        segment.lost = skipped
    alone = not segment.flags & (FIN | SYN | RST)
    if segment.s == own.nxt - 1 and own.nxt > 0 and own.acked and own.una == own.nxt and alone:
        return _asked_for_life(own, other)
    return PURE_ACK


@pasted
def sent(
    g: Segments, i: int, own: Side, other: Side, skipped: int, counts_ids: bool, facts: Int64s, space: SegmentSpace
) -> int:
    """What segment i is by its own bytes."""
    segment = g[i]
    if segment.flags & RST:
        return RESET
    if segment.flags & SYN:
        return _opening(g, i, own)
    if segment.e > segment.s:
        return _bytes(g, i, own, other, skipped, counts_ids, facts, space)
    if segment.flags & ACK:
        return _without_bytes(segment, i, own, other, skipped, space.holes)
    return OTHER
