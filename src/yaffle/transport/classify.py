"""Tells the segments of one connection apart, in one pass in order of time.

Sources: RFC 9293 (sequence numbers), RFC 5681 section 2 (duplicate acknowledgement), RFC 2018 and 2883 (SACK, D-SACK),
RFC 3522 and 7323 (timestamps), RFC 6298 section 3 (Karn's rule), RFC 8985 section 7 (tail loss probe).

A repeat is what the sender sent again, even if its first copy never reached this point: then its identification or its
timestamp is newer than that of the bytes behind it. A late original is older than those. A copy has the identification
of the packet it copies.
"""

from yaffle.arrays import Int32s, Int64s
from yaffle.capture.packets import ACK, RST, SYN, Columns, SackBlocks
from yaffle.kernels import int64, kernel, pasted
from yaffle.transport.acknowledging import acknowledged, acknowledgement
from yaffle.transport.kinds import COPY, DATA, PURE_ACK
from yaffle.transport.round_trips import Samples
from yaffle.transport.segments import (
    GAPS_UNTOLD,
    IDS_CLIENT,
    IDS_SERVER,
    MISSED_CLIENT,
    MISSED_SERVER,
    MSS_CLIENT,
    MSS_SERVER,
    SCALES_KNOWN,
    SIZE_CLIENT,
    SIZE_SERVER,
    Segment,
    Segments,
    gather,
)
from yaffle.transport.sending import sent
from yaffle.transport.side import Side, begin
from yaffle.transport.workspace import SegmentSpace

_OPTION_BYTES, _USUAL_FULL = 12, 1448  # Timestamps with their padding; Ethernet's payload of a segment that bears them.
_MOST_SKIPPED = 4096  # Larger steps of the identification are another counter's, not lost packets.


@kernel
def classify(g: Segments, facts: Int64s, sack: SackBlocks, space: SegmentSpace) -> int:
    """Sets kind, done, way, before, lost, missed, flight and room of each segment, and the round-trip samples, whose
    number it returns.

    Where the capture missed packets itself, gaps in the identification tell nothing: then it is done again without
    them.
    """
    count = _classify(g, facts, sack, space)
    if facts[MISSED_CLIENT] + facts[MISSED_SERVER] > 0 and facts[IDS_CLIENT] + facts[IDS_SERVER] > 0:
        facts[MISSED_CLIENT] = facts[MISSED_SERVER] = 0
        facts[GAPS_UNTOLD] = 1
        for i in range(g.size):
            g[i].kind, g[i].done, g[i].way, g[i].before, g[i].again, g[i].lost, g[i].missed = 0, 0, 0, -1, 0, 0, 0
        count = _classify(g, facts, sack, space)
    return count


@pasted
def _full_bytes(facts: Int64s) -> int:
    """What a full segment carries at least."""
    one, other = facts[MSS_CLIENT], facts[MSS_SERVER]
    full = (min(one, other) if one > 0 and other > 0 else max(one, other)) - _OPTION_BYTES
    return full if full > 0 else max(_USUAL_FULL, max(facts[SIZE_CLIENT], facts[SIZE_SERVER]))


@pasted
def _skipped(segment: Segment, own: Side, counts_ids: bool, facts: Int64s) -> int:
    """How many packets of its sender are missing right before a segment, by their identification."""
    if not counts_ids or facts[GAPS_UNTOLD] != 0 or own.high_id < 0:
        return int64(0)
    step = segment.id - own.high_id
    return step - 1 if 1 < step < _MOST_SKIPPED else int64(0)


@pasted
def _leave(segment: Segment, kind: int, own: Side, other: Side, counts_ids: bool, facts: Int64s) -> None:
    """Notes what is known of both sides once a segment has passed."""
    if kind != COPY and not segment.flags & RST and segment.flags & (ACK | SYN):
        own.window = segment.w
    if counts_ids:
        own.high_id = max(own.high_id, segment.id + segment.parts - 1)
    own.reach, own.reach_acked = max(own.reach, segment.e), max(own.reach_acked, segment.a)
    segment.kind = kind
    segment.flight = own.nxt - own.una
    if other.window >= 0 and own.acked and facts[SCALES_KNOWN]:
        segment.room = own.una + other.window - own.nxt
    elif other.window == 0:
        segment.room = 0
    if kind != COPY:
        own.owed = 0
        if segment.e > segment.s:
            own.last_sent = segment.t
            other.owed += 1
            if kind == DATA:
                own.last_new = segment.t
        own.last_any = segment.t


@kernel
def _classify(g: Segments, facts: Int64s, sack: SackBlocks, space: SegmentSpace) -> int:
    """One pass of classify. sack: SackBlocks; space: SegmentSpace."""
    begin(space.sides[0])
    begin(space.sides[1])
    full = _full_bytes(facts)
    count = int64(0)
    for i in range(g.size):
        segment = g[i]
        own, other = space.sides[segment.d], space.sides[1 - segment.d]
        if not own.started:
            own.started, own.nxt = 1, segment.s
            if not own.acked:
                own.una = segment.s
        counts_ids = facts[IDS_CLIENT + segment.d] == 1 and segment.id >= 0
        skipped = _skipped(segment, own, counts_ids, facts)
        kind = sent(g, i, own, other, skipped, counts_ids, facts, space)
        if segment.flags & ACK and kind != COPY and not segment.flags & RST:
            if kind == PURE_ACK:
                kind = acknowledgement(g, i, kind, own, other, counts_ids)
            if kind != COPY:
                count = acknowledged(g, i, kind, own, other, facts, sack, space, full, count)
        _leave(segment, kind, own, other, counts_ids, facts)
    return count


@kernel
def told_apart(
    rows: Int32s, packets: Columns, sack: SackBlocks, space: SegmentSpace, facts: Int64s
) -> tuple[Segments, Samples]:
    """(segments of a connection, samples of its round trips) by its packets, in the space; sets the facts.

    rows: of its packets, in order of capture; sack: SackBlocks of the capture; facts: int64 (FACTS,).
    """
    segments = space.segments[: rows.size]
    gather(rows, packets, segments, facts)
    return segments, space.samples[: classify(segments, facts, sack, space)]
