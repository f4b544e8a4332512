"""The segments of one connection, side by side: gathered from the packet columns, in order of time, numbers
unwrapped.
"""

import numpy as np

from yaffle.arrays import Int32s, Int64s, Int64s2, Struct, Structs
from yaffle.capture.packets import (
    ACK,
    MARK_FROM_B_SHIFT,
    MARK_IPV6,
    MARK_SACK_SHIFT,
    MARK_TIMESTAMPS,
    RST,
    SYN,
    Columns,
    Head,
)
from yaffle.kernels import int64, kernel, pasted
from yaffle.prefetch import prefetch

_FIELDS = (
    ("row", np.int64),  # row in the packet columns
    ("t", np.int64),  # time of capture, ns
    ("d", np.int64),  # 0 from the client, 1 from the server
    ("flags", np.int64),
    ("s", np.int64),  # first sequence number, unwrapped, 0 is the first seen of its side
    ("e", np.int64),  # one past the last, SYN and FIN count one
    ("a", np.int64),  # acknowledged, in the numbers of the other side; -1 without ACK
    ("w", np.int64),  # window in bytes, scaled where the scale is known
    ("n", np.int64),  # payload bytes
    ("id", np.int64),  # IP identification, unwrapped where it counts up, else -1
    ("tsv", np.int64),  # timestamp value, unwrapped; -1 without
    ("tse", np.int64),  # timestamp echo in the numbers of the other side; -1 without
    ("sack", np.int64),  # first row of SACK blocks
    ("sacks", np.int64),  # number of them
    ("kind", np.int64),
    ("done", np.int64),  # when an acknowledgement of all of it passed the point; 0 never
    ("way", np.int64),  # how it was acknowledged: CUMULATIVE or SELECTIVE
    ("before", np.int64),  # the previous copy of the same bytes; -1 none; -2 - i: fills the hole that segment i showed
    ("parts", np.int64),  # segments on the wire: more than one where offload merged them
    ("again", np.int64),  # payload bytes of it that its sender had sent before
    ("missed", np.int64),  # bytes right before it that arrived and never passed here: the capture missed them
    ("lost", np.int64),  # copies known from the IP identification to be missing right before this segment
    ("flight", np.int64),  # bytes in flight of its side after it, as seen here
    ("room", np.int64),  # what the receiver's window still allowed after it; -1 not known
)
SEGMENT = np.dtype(list(_FIELDS), align=True)
Segments = Structs  # of SEGMENT
Segment = Struct  # one of them

# Facts about a connection found while gathering. Index into `facts`.
SCALE_CLIENT, SCALE_SERVER, MSS_CLIENT, MSS_SERVER, SACK_OK, SCALES_KNOWN, IDS_CLIENT, IDS_SERVER = (
    0,
    1,
    2,
    3,
    4,
    5,
    6,
    7,
)
BASE_CLIENT, BASE_SERVER, SIZE_CLIENT, SIZE_SERVER = (
    8,
    9,
    10,
    11,
)  # sequence number that counts as 0; largest payload of one segment
MISSED_CLIENT, MISSED_SERVER = 12, 13  # bytes of each side that were acknowledged and never passed here
GAPS_UNTOLD = 14  # 1 where gaps in the identification tell nothing: the capture itself missed packets
FACTS = 15

CUMULATIVE, SELECTIVE = 1, 2  # ways in which a segment was acknowledged: by the number, by a SACK block


def empty_segments(capacity: int) -> Segments:
    """Room for the segments of the longest connection."""
    return np.empty(capacity, SEGMENT)


_USUAL_SEGMENT = 1460  # What Ethernet carries (RFC 894), where no opening announced anything else.
_LEAST_SEGMENT = 536  # RFC 9293 section 3.7.1
_STAMP_BYTES = 12  # Timestamps with their padding.
_LARGEST_FRAME = 9216
_MOST_PARTS = 64

_AHEAD = 12  # Packets of a connection lie far apart: each is asked for this many steps before its turn.
_ANY_NUMBER = 1 << 30  # A step of the sequence number of a reset so large tells nothing.
_MOST_DISORDER_NS = 100_000_000  # Larger steps back are a clock that was set, not packets that crossed.


# How far the numbers of a side are unwrapped, int64 each. SEQ: of bytes; TS: of timestamps. BASE: raw number that
# counts as 0, -1 none yet; RAW: the last one; LAST: what that is, unwrapped. Beside them, of what it sent: LONGEST
# payload; STAMPED: whether any payload bore a timestamp.
_SEQ_BASE, _SEQ_RAW, _SEQ_LAST, _TS_BASE, _TS_RAW, _TS_LAST, _LONGEST, _STAMPED, _NUMBERS = range(9)


@kernel
def _in_order_of_time(order: Int32s, packets: Columns, g: Segments) -> int:
    """Sets row and time of the segments, in order of time; returns how many there are up to the last that opens."""
    n = order.size
    largest_step, latest, opening = int64(0), int64(-(1 << 62)), int64(0)
    for i in range(n):
        ahead = order[min(i + _AHEAD, n - 1)]
        prefetch(packets.time_ns, ahead)
        prefetch(packets.head, ahead)
        t = packets.time_ns[order[i]]
        if t < latest:
            largest_step = max(largest_step, latest - t)
        latest = max(latest, t)
        g[i].row, g[i].t = order[i], t
        if packets.head[order[i]].flags & SYN:
            opening = i + 1
    if largest_step == 0:
        return opening
    if largest_step < _MOST_DISORDER_NS or packets.source[order[0]] != packets.source[order[n - 1]]:
        times = np.empty(n, np.int64)
        for i in range(n):
            times[i] = g[i].t
        place = np.argsort(times, kind="mergesort")  # Stable: packets of one moment stay in order of capture.
        for i in range(n):
            g[i].row, g[i].t = order[place[i]], times[place[i]]
        return n
    # The clock was set back: it goes on from where it was, so that spans stay what they are.
    shift, before = int64(0), g[0].t
    for i in range(1, n):
        shift += max(int64(0), before - g[i].t)
        before = g[i].t
        g[i].t += shift
    return opening


@kernel
def _learn_announcements(g: Segments, packets: Columns, turned: int, facts: Int64s) -> None:
    """What both sides announced when they opened: largest segments, selective acknowledgement, scales of windows.

    turned: 1 where end `b` is the client, as in `gather`.
    """
    scale = np.full(2, -1, np.int64)  # -2: it offered none
    for i in range(g.size):
        h = packets.head[g[i].row]
        if h.flags & SYN:
            d = int64(h.marks) >> MARK_FROM_B_SHIFT ^ turned
            extra = int64(h.extra)
            facts[MSS_CLIENT + d] = extra & 0xFFFF
            if d == 1 and (extra >> 24) & 1:
                facts[SACK_OK] = 1
            offered = (extra >> 16) & 255
            scale[d] = offered - 1 if offered > 0 else -2
    if scale[0] != -1 and scale[1] != -1:
        facts[SCALES_KNOWN] = 1
        if scale[0] >= 0 and scale[1] >= 0:
            facts[SCALE_CLIENT], facts[SCALE_SERVER] = scale[0], scale[1]


@pasted
def _step(raw: int, last: int) -> int:
    """From one number of 32 bits to another, the nearer way round."""
    step = (raw - last) & 0xFFFFFFFF
    return step - 0x100000000 if step >= 0x80000000 else step


@pasted
def _sent(segment: Segment, head: Head, numbers: Int64s2) -> None:
    """Unwraps the sequence numbers of a segment. numbers: int64 (2, _NUMBERS), of both sides."""
    d, raw = segment.d, int64(head.seq)
    if numbers[d, _SEQ_BASE] < 0:
        numbers[d, _SEQ_BASE] = numbers[d, _SEQ_RAW] = raw
    step = _step(raw, numbers[d, _SEQ_RAW])
    segment.s = numbers[d, _SEQ_LAST] + step
    if step > 0 and (segment.flags & RST == 0 or step < _ANY_NUMBER):  # A reset may carry any number.
        numbers[d, _SEQ_LAST], numbers[d, _SEQ_RAW] = segment.s, raw
    segment.n = int64(head.payload)
    numbers[d, _LONGEST] = max(numbers[d, _LONGEST], segment.n)
    segment.e = segment.s + segment.n + (segment.flags >> 1 & 1) + (segment.flags & 1)


@pasted
def _acknowledged(segment: Segment, head: Head, numbers: Int64s2) -> None:
    """Unwraps what a segment acknowledges."""
    segment.a = -1
    if segment.flags & ACK:
        o, raw = 1 - segment.d, int64(head.ack)
        if numbers[o, _SEQ_BASE] < 0:
            numbers[o, _SEQ_BASE] = numbers[o, _SEQ_RAW] = raw
        segment.a = numbers[o, _SEQ_LAST] + _step(raw, numbers[o, _SEQ_RAW])


@pasted
def _stamped(segment: Segment, head: Head, numbers: Int64s2) -> None:
    """Unwraps timestamps and their echoes."""
    segment.tsv, segment.tse = -1, -1
    if int64(head.marks) & MARK_TIMESTAMPS == 0:
        return
    d, raw = segment.d, int64(head.tsval)
    if numbers[d, _TS_BASE] < 0:
        numbers[d, _TS_BASE] = numbers[d, _TS_RAW] = raw
    step = _step(raw, numbers[d, _TS_RAW])
    segment.tsv = numbers[d, _TS_LAST] + step
    numbers[d, _STAMPED] |= segment.n > 0
    if step > 0:
        numbers[d, _TS_LAST], numbers[d, _TS_RAW] = segment.tsv, raw
    if segment.flags & ACK:
        o, raw = 1 - d, int64(head.tsecr)
        if numbers[o, _TS_BASE] < 0:
            numbers[o, _TS_BASE] = numbers[o, _TS_RAW] = raw
        segment.tse = numbers[o, _TS_LAST] + _step(raw, numbers[o, _TS_RAW])


@pasted
def _untold(segment: Segment) -> None:
    """Nothing is known of a segment yet but its header."""
    segment.kind, segment.done, segment.way, segment.before = 0, 0, 0, -1
    segment.parts, segment.again, segment.missed, segment.lost = 1, 0, 0, 0
    segment.flight, segment.room = 0, -1


@kernel
def gather(order: Int32s, packets: Columns, g: Segments, facts: Int64s) -> None:
    """Fills the segments from the packet rows of one connection, and the facts that follow from its opening.

    Heads say which end sent each packet; which end is the client is the same for all, so one direction tells it.
    """
    facts[:] = 0
    first = order[0]
    turned = int64(packets.head[first].marks) >> MARK_FROM_B_SHIFT ^ int64(packets.direction[first])
    opening = _in_order_of_time(order, packets, g)
    _learn_announcements(g[:opening], packets, turned, facts)
    numbers = np.zeros((2, _NUMBERS), np.int64)
    numbers[:, _SEQ_BASE], numbers[:, _TS_BASE] = -1, -1
    for i in range(g.size):
        segment, head = g[i], packets.head[g[i].row]
        flags, marks = int64(head.flags), int64(head.marks)
        segment.d, segment.flags = marks >> MARK_FROM_B_SHIFT ^ turned, flags
        _sent(segment, head, numbers)
        _acknowledged(segment, head, numbers)
        opens = segment.flags & SYN
        segment.w = int64(head.window) << (int64(0) if opens else facts[SCALE_CLIENT + segment.d])
        segment.sacks = int64(0) if opens else (marks >> MARK_SACK_SHIFT) & 7
        segment.sack = int64(head.extra)
        segment.id = int64(head.ip_id) if marks & MARK_IPV6 == 0 else int64(-1)
        _stamped(segment, head, numbers)
        _untold(segment)
    facts[BASE_CLIENT], facts[BASE_SERVER] = numbers[0, _SEQ_BASE], numbers[1, _SEQ_BASE]
    _learn_segment_sizes(g, numbers, facts)
    _unwrap_identification(g, facts)


@kernel
def _learn_segment_sizes(g: Segments, numbers: Int64s2, facts: Int64s) -> None:
    """The largest payload that one segment of each side carries on the wire, and how many segments each packet stands
    for.

    A host that captures itself hands down super-segments, which the device cuts, and gets merged ones; the cuts are at
    the largest segment that both ends announced (RFC 9293 section 3.7.1) less the timestamps' 12 bytes (RFC 7323
    appendix A). The identification counts segments on the wire, so its steps settle what the announcements leave open.
    """
    for d in range(2):
        longest = numbers[d, _LONGEST]
        one, other = facts[MSS_CLIENT], facts[MSS_SERVER]
        known = one > 0 or other > 0
        limit = (min(one, other) if one > 0 and other > 0 else max(one, other)) if known else _USUAL_SEGMENT
        limit = max(limit - (_STAMP_BYTES if numbers[d, _STAMPED] else 0), _LEAST_SEGMENT)
        facts[SIZE_CLIENT + d] = min(longest, limit)
        if longest <= limit + _STAMP_BYTES:
            facts[SIZE_CLIENT + d] = longest
            continue
        total, single, fitting, least, at_most, beyond = 0, 0, 0, int64(0), 0, 0
        previous = int64(-1)
        for i in range(g.size):
            if g[i].d != d or g[i].id < 0 or g[i].flags & (SYN | RST):
                continue
            if previous >= 0 and g[previous].n > limit and g[i].s == g[previous].e:
                step = (g[i].id - g[previous].id) & 0xFFFF
                if 1 <= step <= _MOST_PARTS:
                    total += 1
                    single += step == 1
                    fitting += step == (g[previous].n + limit - 1) // limit
                    size = (g[previous].n + step - 1) // step
                    if size <= limit:
                        least = max(least, size)
            previous = i
        for i in range(g.size):
            if g[i].d == d and g[i].n > limit:
                beyond += 1
                at_most += g[i].n == longest
        # Without an announcement: large frames of a network that carries them, where most are as large as the largest.
        jumbo = not known and total == 0 and longest <= _LARGEST_FRAME and at_most * 2 >= beyond
        if single * 2 > total or jumbo:
            facts[SIZE_CLIENT + d] = longest
            continue
        if total >= 3 and fitting * 2 < total and least >= _LEAST_SEGMENT // 2:
            limit = least
        facts[SIZE_CLIENT + d] = limit
        for i in range(g.size):
            if g[i].d == d and g[i].n > limit:
                g[i].parts = (g[i].n + limit - 1) // limit


@kernel
def _unwrap_identification(g: Segments, facts: Int64s) -> None:
    """Tells whether a side counts its IP identification up by one a packet, and unwraps it if so.

    A host that does gives away what was lost before the point. Constant, zero or random numbers do not.
    """
    up, total = np.zeros(2, np.int64), np.zeros(2, np.int64)
    previous = np.full(2, -1, np.int64)
    for i in range(g.size):
        if g[i].id >= 0 and g[i].flags & (SYN | RST) == 0:
            d = g[i].d
            if previous[d] >= 0:
                total[d] += 1
                if 1 <= (g[i].id - previous[d]) & 0xFFFF <= 16:
                    up[d] += 1
            previous[d] = g[i].id + g[i].parts - 1
    for d in range(2):
        facts[IDS_CLIENT + d] = 1 if total[d] >= 1 and up[d] * 10 >= total[d] * 7 else 0
    high = np.full(2, -1, np.int64)
    for i in range(g.size):
        d = g[i].d
        if g[i].id < 0:
            continue
        counts = facts[IDS_CLIENT + d] == 1
        if not counts or g[i].flags & (SYN | RST):  # Openings and resets may be numbered by someone else (0).
            g[i].id = -1 if counts else -2 - g[i].id
            continue
        if high[d] < 0:
            high[d] = g[i].id + (1 << 20)
            g[i].id = high[d]
            continue
        step = (g[i].id - high[d]) & 0xFFFF
        if step >= 0x8000:
            step -= 0x10000
        g[i].id = high[d] + step
        high[d] = max(high[d], g[i].id + g[i].parts - 1)
