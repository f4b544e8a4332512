"""What a segment acknowledges: bytes by the number, by SACK blocks, repeats that were not needed; round trips by that.

Sources as in `classify`. g: segments in order of time; i: the one that is looked at; own, other: its sender's side, and
the one whose bytes it acknowledges (`side.SIDE`); count: of samples so far. What takes a sample gives that number.
"""

from yaffle.arrays import Int64s, Int64s2, Uint32s
from yaffle.capture.packets import FIN, SYN, SackBlocks
from yaffle.kernels import int64, kernel, pasted
from yaffle.transport.copies import answered_syn, copy_of
from yaffle.transport.kinds import (
    CLOSE,
    COPY,
    DATA,
    DUPLICATE_ACK,
    FIRST_UNSEEN,
    KEEP_ALIVE_ANSWER,
    OPEN_ANSWER,
    PURE_ACK,
    REPEAT_OPEN,
    SPURIOUS,
    WINDOW_PROBE_ANSWER,
    WINDOW_UPDATE,
)
from yaffle.transport.kinds import repeats as is_repeat
from yaffle.transport.round_trips import (
    ACKNOWLEDGED,
    BARE,
    ECHOED,
    FEW_BARE,
    HELD,
    OPENING,
    SACKED,
    WITH_CLOSE,
    WITH_DATA,
    Samples,
)
from yaffle.transport.segments import BASE_CLIENT, CUMULATIVE, MISSED_CLIENT, SELECTIVE, Segments
from yaffle.transport.side import KEPT_ALIVE, Holes, Side, drop_hole
from yaffle.transport.workspace import SegmentSpace

_HELD_SUSPECT_NS, _HELD_MOST_NS = 20_000_000, 500_000_000
_TOGETHER_NS = 5_000_000  # Segments sent within this arrive together.
_LOOK_BACK = 4096  # Segments in which the repeat is looked for that was not needed.
_LARGEST_BLOCK = 1 << 30


@pasted
def _sample(samples: Samples, count: int, t: int, rtt: int, side: int, way: int, i: int, bare: int) -> int:
    """A round trip to a side that segment i tells."""
    if count < samples.size:
        sample = samples[count]
        sample.t, sample.rtt, sample.side = t, rtt, side
        sample.way, sample.i, sample.bare = way, i, bare
        count += 1
    return count


@pasted
def acknowledgement(g: Segments, i: int, kind: int, own: Side, other: Side, counts_ids: bool) -> int:
    """What an acknowledgement without bytes is."""
    segment = g[i]
    same = other.acked and segment.a == other.una
    if other.probed and segment.a == other.una:
        return KEEP_ALIVE_ANSWER if other.probed == KEPT_ALIVE else WINDOW_PROBE_ANSWER
    if same and other.nxt > other.una and other.started:
        if counts_ids and segment.id <= own.high_id and copy_of(g, i, own) >= 0:
            return COPY
        return DUPLICATE_ACK if segment.w == own.window or segment.sacks > 0 else WINDOW_UPDATE
    if same and segment.w != own.window:
        return WINDOW_UPDATE
    if other.acked and segment.a <= other.una and counts_ids and segment.id <= own.high_id:
        return COPY if copy_of(g, i, own) >= 0 else kind
    return kind


@pasted
def _of_pending(g: Segments, a: int, t: int, other: Side, pending: Int64s2, o: int) -> int:
    """Segments that passed once are acknowledged; the last of them, -1 none."""
    newest = int64(-1)
    while other.head < other.tail:
        k = pending[o, other.head]
        if g[k].e > a:
            break
        if g[k].done == 0:
            g[k].done = t
            g[k].way = CUMULATIVE
            newest = k
        other.head += 1
    return newest


@pasted
def _of_repeats(
    g: Segments, i: int, other: Side, repeats: Int64s2, newest: int, samples: Samples, count: int
) -> tuple[int, int]:
    """Repeats are acknowledged: (the newest segment that gives a sample still, number of samples)."""
    a, t, o = g[i].a, g[i].t, 1 - g[i].d
    m = 0
    while m < other.repeats:
        k = repeats[o, m]
        if g[k].e > a:
            m += 1
            continue
        if g[k].done == 0:
            g[k].done = t
            g[k].way = CUMULATIVE
            if not g[k].kind & FIRST_UNSEEN and 0 <= g[i].tse < g[k].tsv:
                g[k].kind |= SPURIOUS  # The answer speaks of the first copy (RFC 3522 section 3.2).
            elif 0 <= g[k].tsv <= g[i].tse:
                count = _sample(samples, count, t, t - g[k].t, 1 - o, ECHOED, i, 0)
        if newest >= 0 and g[newest].s < g[k].e and g[newest].e > g[k].s:
            newest = int64(-1)
        other.repeats -= 1
        repeats[o, m] = repeats[o, other.repeats]
    return newest, count


@pasted
def _round_trip(
    g: Segments, i: int, newest: int, confirmed: int, own: Side, other: Side, full: int, space: SegmentSpace, count: int
) -> int:
    """The round trip that the acknowledgement of a segment tells. confirmed: what was acknowledged before.

    A bare acknowledgement of less than two full segments, much later than need be: its host held it back (RFC 1122
    section 4.2.3.2 allows it for no more).
    """
    segment, first = g[i], g[newest]
    o, size = 1 - segment.d, segment.n
    trip = segment.t - first.t
    over = trip - min(own.floor, trip)
    few = segment.a - confirmed < 2 * full
    bare = WITH_DATA
    if size == 0:
        bare = WITH_CLOSE if segment.flags & FIN else FEW_BARE if few else BARE
    held = size == 0 and few and _HELD_SUSPECT_NS < over < _HELD_MOST_NS
    # Two that arrive together are acknowledged at once: no timer runs for either.
    with_next = other.head < other.tail and g[space.pending[o, other.head]].t - first.t < _TOGETHER_NS
    soon = segment.t - other.prompt_ack < _HELD_SUSPECT_NS and first.t - other.prompt_sent < _TOGETHER_NS
    if with_next and held:
        other.doubted, other.doubted_by = count, space.pending[o, other.head]
    if with_next or soon:
        held, bare = False, bare if bare == WITH_CLOSE else min(bare, BARE)
    count = _sample(space.samples, count, segment.t, trip, 1 - o, HELD if held else ACKNOWLEDGED, i, bare)
    own.floor = min(own.floor, trip)
    if not held:
        other.prompt_ack, other.prompt_sent = segment.t, first.t
    return count


@pasted
def _was_repeated(g: Segments, k: int, other: Side, repeats: Int64s2, o: int) -> bool:
    """Whether a segment was sent again, so that either copy may have arrived (Karn's rule, RFC 6298 section 3)."""
    found = False
    for m in range(other.repeats):
        again = g[repeats[o, m]]
        found |= again.s < g[k].e and again.e > g[k].s
    return found


@pasted
def _without_next(g: Segments, a: int, other: Side, o: int, space: SegmentSpace, count: int) -> None:
    """What was sent right after a segment is acknowledged. Had it to be repeated, then the first one came alone: what
    was acknowledged so late was held back.
    """
    if other.doubted < 0 or a < g[other.doubted_by].e:
        return
    if _was_repeated(g, other.doubted_by, other, space.repeats, o) and other.doubted < count:
        sample = space.samples[other.doubted]
        sample.way, sample.bare = HELD, FEW_BARE
    other.doubted = -1


@pasted
def _close_holes(g: Segments, a: int, other: Side, o: int, facts: Int64s, holes: Holes) -> None:
    """Holes below the acknowledgement arrived by another way, or were missed here."""
    k = 0
    while k < other.holes:
        hole = holes[o, k]
        if hole.end > a:
            k += 1
            continue
        facts[MISSED_CLIENT + o] += hole.end - hole.start
        g[hole.i].missed += hole.end - hole.start
        drop_hole(other, holes, o, k)


@pasted
def _further(
    g: Segments, i: int, own: Side, other: Side, facts: Int64s, space: SegmentSpace, full: int, count: int
) -> int:
    """Bytes are acknowledged that were not before."""
    segment = g[i]
    o, a, t = 1 - segment.d, segment.a, segment.t
    other.dup_acks = 0
    confirmed = other.una
    other.una, other.acked, other.last_moved = a, 1, t
    if not other.started:
        other.started, other.nxt = 1, a
    if a > other.nxt + 1:  # Acknowledges what never passed here: the capture missed it. (One may be a closing.)
        facts[MISSED_CLIENT + o] += a - other.nxt
        other.behind += a - other.nxt
    other.nxt = max(other.nxt, a)
    _without_next(g, a, other, o, space, count)
    newest = _of_pending(g, a, t, other, space.pending, o)
    newest, count = _of_repeats(g, i, other, space.repeats, newest, space.samples, count)
    if newest >= 0 and (g[newest].kind == DATA or g[newest].kind == CLOSE):
        count = _round_trip(g, i, newest, confirmed, own, other, full, space, count)
    elif newest >= 0 and 0 <= g[newest].tsv <= segment.tse:
        count = _sample(space.samples, count, t, t - g[newest].t, 1 - o, ECHOED, i, 0)
    _close_holes(g, a, other, o, facts, space.holes)
    return count


@pasted
def _first_beyond(g: Segments, right: int, other: Side, pending: Int64s2, o: int) -> int:
    """The first of the segments that are not acknowledged yet, in order, that ends beyond a place."""
    low, high = other.head, other.tail
    while low < high:
        middle = (low + high) >> 1
        if g[pending[o, middle]].e <= right:
            low = middle + 1
        else:
            high = middle
    return low


@pasted
def _of_block(
    g: Segments, i: int, left: int, right: int, own: Side, other: Side, space: SegmentSpace, count: int
) -> int:
    """Segments within a SACK block have arrived."""
    o, t = 1 - g[i].d, g[i].t
    # Unacknowledged segments are in order: walk down from the right edge to what is known already.
    first = True
    for m in range(_first_beyond(g, right, other, space.pending, o) - 1, other.head - 1, -1):
        k = space.pending[o, m]
        if g[k].s < left or g[k].done != 0:
            break
        g[k].done = t
        g[k].way = SELECTIVE
        if first and g[k].kind == DATA and not _was_repeated(g, k, other, space.repeats, o):
            first = False
            count = _sample(space.samples, count, t, t - g[k].t, 1 - o, SACKED, i, 1 if g[i].n == 0 else 0)
            own.floor = min(own.floor, t - g[k].t)
    for m in range(other.repeats):
        k = space.repeats[o, m]
        if g[k].s >= left and g[k].e <= right and g[k].done == 0:
            g[k].done = t
            g[k].way = SELECTIVE
    return count


@pasted
def _blocks(
    g: Segments, i: int, own: Side, other: Side, facts: Int64s, sack: SackBlocks, space: SegmentSpace, count: int
) -> int:
    """SACK blocks (RFC 2018), of which the first may tell of bytes that came twice (RFC 2883)."""
    segment = g[i]
    o, a, row = 1 - segment.d, segment.a, segment.sack
    blocks = min(segment.sacks, max(int64(0), sack.left.size - row))
    for b in range(blocks):
        raw = int64(sack.left[row + b]) - facts[BASE_CLIENT + o]
        step = (raw - (a & 0xFFFFFFFF)) & 0xFFFFFFFF
        if step >= 0x80000000:
            step -= 0x100000000
        left = a + step
        right = left + ((int64(sack.right[row + b]) - int64(sack.left[row + b])) & 0xFFFFFFFF)
        if right - left > _LARGEST_BLOCK:
            continue
        if b == 0 and (right <= a or (blocks > 1 and _inside(sack.left, sack.right, row))):
            _mark_spurious(g, i, o, left, right)
            if right <= a:
                continue
        other.sacked_high = max(other.sacked_high, right)
        count = _of_block(g, i, left, right, own, other, space, count)
    return count


@pasted
def _of_opening(
    g: Segments, i: int, kind: int, own: Side, other: Side, advanced: bool, samples: Samples, count: int
) -> int:
    """Opening round trips, where no copy leaves a doubt."""
    segment = g[i]
    if segment.d == 1 and segment.flags & SYN and (kind == OPEN_ANSWER or kind == REPEAT_OPEN):
        answered = answered_syn(g, i) if other.syn_count > 1 or own.syn_count > 1 else other.syn_at
        if answered >= 0 and other.syn_count > 0:
            count = _sample(samples, count, segment.t, segment.t - answered, 1, OPENING, i, 1)
            own.floor = min(own.floor, segment.t - answered)
    elif segment.d == 0 and other.syn_count == 1 and other.syn_at > 0:
        if kind == PURE_ACK and advanced and segment.n == 0:
            count = _sample(samples, count, segment.t, segment.t - other.syn_at, 0, OPENING, i, 1)
            own.floor = min(own.floor, segment.t - other.syn_at)
        other.syn_at = -1
    return count


@pasted
def acknowledged(
    g: Segments,
    i: int,
    kind: int,
    own: Side,
    other: Side,
    facts: Int64s,
    sack: SackBlocks,
    space: SegmentSpace,
    full: int,
    count: int,
) -> int:
    """Segment i acknowledges. full: what a full segment carries at least."""
    segment = g[i]
    a = segment.a
    advanced = a > other.una or not other.acked
    if kind == DUPLICATE_ACK:
        other.dup_acks += 1
    # A probe that its receiver needed stays open until more is acknowledged (RFC 8985 section 7.4).
    of_probe = a == other.probe_end and segment.n == 0 and (not advanced or segment.sacks > 0)
    if a > other.probe_end or of_probe:
        other.probe_end = -1
    other.probed = 0
    if advanced:
        count = _further(g, i, own, other, facts, space, full, count)
    count = _blocks(g, i, own, other, facts, sack, space, count)
    return _of_opening(g, i, kind, own, other, advanced, space.samples, count)


@kernel
def _inside(sack_left: Uint32s, sack_right: Uint32s, first: int) -> bool:
    """Whether the first block lies within the second (a duplicate above the cumulative number, RFC 2883 section
    4.2).
    """
    size = (int64(sack_right[first]) - int64(sack_left[first])) & 0xFFFFFFFF
    into = (int64(sack_left[first]) - int64(sack_left[first + 1])) & 0xFFFFFFFF
    whole = (int64(sack_right[first + 1]) - int64(sack_left[first + 1])) & 0xFFFFFFFF
    return into + size <= whole


@kernel
def _mark_spurious(g: Segments, i: int, side: int, left: int, right: int) -> None:
    """A D-SACK tells that the latest repeat of these bytes was not needed."""
    k = i - 1
    looked = 0
    while k >= 0 and looked < _LOOK_BACK:
        if g[k].d == side and g[k].e > g[k].s:
            looked += 1
            if g[k].s < right and g[k].e > left and is_repeat(g[k].kind):
                g[k].kind |= SPURIOUS
                return
        k -= 1
