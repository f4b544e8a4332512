"""Tells the segments of one connection apart, in one pass in order of time.

Sources: RFC 9293 (sequence numbers), RFC 5681 section 2 (duplicate acknowledgement), RFC 2018 and 2883 (SACK, D-SACK),
RFC 3522 and 7323 (timestamps), RFC 6298 section 3 (Karn's rule), RFC 8985 section 7 (tail loss probe).

A repeat is what the sender sent again, even if its first copy never reached this point: then its identification or its
timestamp is newer than that of the bytes behind it. A late original is older than those. A copy has the identification
of the packet it copies.
"""

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.packets import ACK, FIN, RST, SYN
from yaffle.kernels import helper, kernel
from yaffle.transport import kinds
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
)
from yaffle.transport.segments import (
    BASE_CLIENT,
    CUMULATIVE,
    GAPS_UNTOLD,
    IDS_CLIENT,
    IDS_SERVER,
    MISSED_CLIENT,
    MISSED_SERVER,
    MSS_CLIENT,
    MSS_SERVER,
    SACK_OK,
    SCALES_KNOWN,
    SELECTIVE,
    SIZE_CLIENT,
)

OTHER, DATA, PURE_ACK, DUPLICATE_ACK, WINDOW_UPDATE = (
    kinds.OTHER,
    kinds.DATA,
    kinds.PURE_ACK,
    kinds.DUPLICATE_ACK,
    kinds.WINDOW_UPDATE,
)
OPEN, OPEN_ANSWER, CLOSE, RESET = kinds.OPEN, kinds.OPEN_ANSWER, kinds.CLOSE, kinds.RESET
KEEP_ALIVE, KEEP_ALIVE_ANSWER = kinds.KEEP_ALIVE, kinds.KEEP_ALIVE_ANSWER
WINDOW_PROBE, WINDOW_PROBE_ANSWER = kinds.WINDOW_PROBE, kinds.WINDOW_PROBE_ANSWER
REPEAT_TIMEOUT, REPEAT_AFTER = kinds.REPEAT_TIMEOUT, kinds.REPEAT_AFTER
REPEAT_FAST, REPEAT_TAIL = kinds.REPEAT_FAST, kinds.REPEAT_TAIL
REPEAT_OPEN, REPEAT_CLOSE, OUT_OF_ORDER, COPY = kinds.REPEAT_OPEN, kinds.REPEAT_CLOSE, kinds.OUT_OF_ORDER, kinds.COPY
FIRST_UNSEEN, SPURIOUS = kinds.FIRST_UNSEEN, kinds.SPURIOUS

_MOST_REPEATS = 1024
_HELD_SUSPECT_NS, _HELD_MOST_NS = 20_000_000, 500_000_000
_OPTION_BYTES, _USUAL_FULL = 12, 1448  # Timestamps with their padding; Ethernet's payload of a segment that bears them.
_TOGETHER_NS = 5_000_000  # Segments sent within this arrive together.
_MOST_HOLES = 512
_MOST_SKIPPED = 4096  # Larger steps of the identification are another counter's, not lost packets.
_LOOK_BACK = 64  # Packets in which a copy is looked for.
_TIMER_NS = 150_000_000  # No retransmission timer is shorter.
_SET_OFF_NS = 10_000_000  # What an acknowledgement sets off is not further behind it, beside a round trip.
_QUIET_NS = 120_000_000  # A timer of less than this is not to be expected (RFC 6298 allows 1 s, stacks use 200 ms).


def empty_holes() -> Array:
    """Room for the holes of both sides: start, end, and of the segment that showed it time, identification, timestamp,
    index.
    """
    return np.empty((6, 2, _MOST_HOLES), np.int64)


@kernel
def _copy_of(g, i, d):  # type: ignore[no-untyped-def]
    """The packet of which packet i is a copy made on the way, or -1."""
    looked = 0
    k = i - 1
    while k >= 0 and looked < _LOOK_BACK:
        if g[k].d == d:
            looked += 1
            if (
                g[k].parts > 1
                and g[k].s <= g[i].s
                and g[i].e <= g[k].e
                and g[i].n > 0
                and g[i].id >= 0
                and g[i].a == g[k].a
            ):
                # A copy of one segment of those that were merged: its identification is that of its place among them.
                if g[i].id - g[k].id == (g[i].s - g[k].s) // max(1, (g[k].n + g[k].parts - 1) // g[k].parts):
                    return k
            if (
                g[k].s == g[i].s
                and g[k].n == g[i].n
                and g[k].a == g[i].a
                and g[k].flags == g[i].flags
                and g[k].w == g[i].w
                and g[k].tsv == g[i].tsv
            ):
                if g[i].id == g[k].id and g[i].id not in (-1, -2):
                    return k
                # Without a telling identification: only bytes in a moment too short for any timer or answer.
                if g[i].id in (-1, -2) and g[i].n > 0 and g[i].t - g[k].t < 2_000_000 and g[i].tsv >= 0:
                    return k
        k -= 1
    return -1


@kernel
def _answered_syn(g, i):  # type: ignore[no-untyped-def]
    """When the SYN passed that a SYN-ACK answers, where several did: the one that it echoes (RFC 7323 section 4.3); -1
    untold.

    A SYN-ACK that came before already, and echoed the same one, leaves open which copy of it this is.
    """
    if g[i].tse < 0:
        return np.int64(-1)
    found = np.int64(-1)
    for k in range(max(0, i - _LOOK_BACK), i):
        if g[k].flags & SYN and g[k].d == 0 and g[k].tsv == g[i].tse:
            if found >= 0:
                return np.int64(-1)
            found = g[k].t
        if g[k].flags & SYN and g[k].d == 1 and g[k].tse == g[i].tse:
            return np.int64(-1)
    later = False
    for k in range(max(0, i - _LOOK_BACK), i):
        later |= g[k].flags & SYN > 0 and g[k].d == 0 and g[k].tsv > g[i].tse
    return np.int64(-1) if later else found  # A later SYN may have set it off again.


@helper
def _sample(samples, c, t, rtt, side, way, i, bare):  # type: ignore[no-untyped-def]
    if c < samples.size:
        samples[c].t = t
        samples[c].rtt = rtt
        samples[c].side = side
        samples[c].way = way
        samples[c].i = i
        samples[c].bare = bare
        c += 1
    return c


@helper
def _tail_probe(quiet, floor):  # type: ignore[no-untyped-def]
    """Whether a repeat of the last segment comes when a probe would: about two round trips (RFC 8985 section 7.2)."""
    trip = min(floor[0], _QUIET_NS) + min(floor[1], _QUIET_NS)
    return 2 * trip < quiet < 3 * trip + 250_000_000


@helper
def _expired(t, s, una, moved, last_any, floor, again):  # type: ignore[no-untyped-def]
    """Whether a retransmission of the first unacknowledged byte comes after such a silence that only a timer can have
    sent it.

    The timer is at least 200 ms above the round trip in common stacks, 1 s by RFC 6298; an acknowledgement that moves
    on or a retransmission starts it anew. What a duplicate acknowledgement sets off follows it within a quarter round
    trip.
    """
    trip = min(floor[0], _QUIET_NS) + min(floor[1], _QUIET_NS)
    armed = max(moved, again)
    return s <= una and t - armed > _TIMER_NS + trip // 2 and t - max(last_any[0], last_any[1]) > _SET_OFF_NS + trip


@kernel
def classify(g, facts, sack, space):  # type: ignore[no-untyped-def]
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


@kernel
def _classify(g, facts, sack, space):  # type: ignore[no-untyped-def]
    """One pass of classify. sack: SackBlocks; space: SegmentSpace."""
    sack_left, sack_right = sack.left, sack.right
    samples, pending, extra, holes_room = space.samples, space.pending, space.repeats, space.holes
    n = g.size
    c = np.int64(0)  # samples so far
    started = np.zeros(2, np.bool_)
    nxt = np.zeros(2, np.int64)  # highest sequence number seen, plus one
    una = np.zeros(2, np.int64)  # highest acknowledged of this side's bytes
    acked = np.zeros(2, np.bool_)
    head = np.zeros(2, np.int64)
    tail = np.zeros(2, np.int64)
    repeats = np.zeros(2, np.int64)
    window = np.full(2, -1, np.int64)  # last window this side advertised
    sacked_high = np.full(2, -1, np.int64)  # highest SACKed of this side's bytes
    last_sent = np.zeros(2, np.int64)  # time of this side's last packet with bytes
    last_any = np.zeros(2, np.int64)
    last_moved = np.zeros(2, np.int64)  # when this side's bytes were last acknowledged further
    last_new = np.zeros(2, np.int64)  # when this side last sent anything new
    owed = np.zeros(
        2, np.int64
    )  # segments of the other side since this side's last packet: each may have got a bare acknowledgement
    usual_turn = np.int64(0)  # of the server so far, until its answer: a running mean
    prompt_ack = np.full(
        2, np.int64(-(1 << 60)), np.int64
    )  # when this side's bytes were last acknowledged at once, and when those were sent
    prompt_sent = np.full(2, np.int64(-(1 << 60)), np.int64)
    spoke = np.zeros(2, np.bool_)
    behind = np.zeros(2, np.int64)  # bytes of this side that passed elsewhere since its last segment with any
    probe_end = np.full(
        2, -1, np.int64
    )  # what the tail loss probe under way ends at; -1 none: there is never more than one
    last_again = np.zeros(2, np.int64)  # when this side last sent anything again
    dup_acks = np.zeros(2, np.int64)  # in a row, for this side's bytes
    high_id = np.full(2, -1, np.int64)
    high_ts = np.full(2, -1, np.int64)
    pool = np.zeros(2, np.int64)  # packets missing before, not yet accounted for
    timeout_end = np.full(2, -1, np.int64)  # after a timeout, everything below is repeated
    floor = np.full(2, np.int64(1) << 60, np.int64)  # least round trip to each side
    syn_at = np.full(2, -1, np.int64)
    syn_count = np.zeros(2, np.int64)
    probed = np.zeros(2, np.int64)  # 1 keep-alive, 2 window probe sent by this side, unanswered
    hole_s, hole_e, hole_t, hole_id, hole_ts = holes_room[0], holes_room[1], holes_room[2], holes_room[3], holes_room[4]
    hole_i = holes_room[5]  # the segment that showed the hole
    holes = np.zeros(2, np.int64)

    one, other = facts[MSS_CLIENT], facts[MSS_SERVER]
    full = (
        min(one, other) if one > 0 and other > 0 else max(one, other)
    ) - _OPTION_BYTES  # What a full segment carries at least.
    full = full if full > 0 else max(_USUAL_FULL, max(facts[SIZE_CLIENT], facts[SIZE_CLIENT + 1]))
    for i in range(n):
        d = g[i].d
        o = 1 - d
        t = g[i].t
        flags = g[i].flags
        s, e, a, size = g[i].s, g[i].e, g[i].a, g[i].n
        counts_ids = facts[IDS_CLIENT + d] == 1 and g[i].id >= 0
        if not started[d]:
            started[d] = True
            nxt[d] = s
            if not acked[d]:
                una[d] = s
        skipped = np.int64(0)
        if counts_ids and facts[GAPS_UNTOLD] == 0:
            if high_id[d] >= 0 and g[i].id > high_id[d] + 1 and g[i].id - high_id[d] < _MOST_SKIPPED:
                skipped = g[i].id - high_id[d] - 1

        # What it is: first by its own bytes.
        kind = OTHER
        if flags & RST:
            kind = RESET
        elif flags & SYN:
            kind = OPEN_ANSWER if flags & ACK else OPEN
            if syn_count[d] > 0:
                kind = REPEAT_OPEN
                if _copy_of(g, i, d) >= 0 and t - syn_at[d] < 100_000_000:
                    kind = COPY
            if kind != COPY:
                syn_count[d] += 1
                syn_at[d] = t
            if e > nxt[d]:
                nxt[d] = e
        elif e > s:
            only_fin = size == 0
            # Acknowledged before it passes here: captured in the wrong order, or a copy of what the capture missed.
            overtaken = size > 0 and behind[d] > 0 and s >= nxt[d] - behind[d] and e <= nxt[d]
            if overtaken:
                behind[d] -= size
                facts[MISSED_CLIENT + d] -= size
            else:
                g[i].missed += behind[d]
                behind[d] = 0
            copied = np.int64(-1)
            if s < nxt[d] or (counts_ids and g[i].id <= high_id[d]):
                copied = _copy_of(g, i, d)
            if copied >= 0:
                kind = COPY
                g[i].before = copied
            elif overtaken:
                kind = DATA
                g[i].done, g[i].way = t, CUMULATIVE
            elif size <= 1 and s == nxt[d] - 1 and e == nxt[d] and not only_fin and una[d] >= e:
                kind = WINDOW_PROBE if window[o] == 0 else KEEP_ALIVE
                probed[d] = 2 if window[o] == 0 else 1
            elif s >= nxt[d]:
                kind = CLOSE if only_fin else DATA
                before_start = (
                    not spoke[d] and syn_count[d] == 0
                )  # What lies before its first bytes was sent before the capture began.
                if s > nxt[d] and holes[d] < _MOST_HOLES and not before_start:
                    k = holes[d]
                    hole_s[d, k], hole_e[d, k], hole_t[d, k] = nxt[d], s, t
                    hole_id[d, k], hole_ts[d, k], hole_i[d, k] = g[i].id, g[i].tsv, i
                    holes[d] = k + 1
                    pool[d] = 0
                    size_d = max(np.int64(1), facts[SIZE_CLIENT + d])
                    hidden = skipped - (s - nxt[d] + size_d - 1) // size_d
                    if hidden > 0 and t - last_sent[d] > _QUIET_NS // 3 and t - last_any[d] > 20_000_000:
                        # More packets are missing than the hole had: this one went out before, too (a tail probe).
                        kind = REPEAT_TAIL | FIRST_UNSEEN
                        g[i].lost, g[i].again = hidden, size
                elif skipped > 0 and last_any[d] > 0 and t - last_sent[d] > 2_000_000:
                    pool[d] += skipped
                spoke[d] = True
                if a >= nxt[o] and started[o] and acked[o] and una[o] >= nxt[o]:
                    pool[o] = 0  # All of the other side arrived: nothing of it is missing any more.
                if s == nxt[d] and pool[d] > 0:
                    # Packets are missing and no byte is: they carried these bytes, unless they were bare
                    # acknowledgements.
                    # A first copy was sent after the packet before it, and after what it answers; its timer takes
                    # longer than that.
                    quiet = t - max(last_any[d], last_new[o])
                    # Bare acknowledgements may be what is missing, unless a server pauses so much longer than it
                    # usually does.
                    explained = pool[d] <= owed[d] and (d == 0 or quiet < 4 * usual_turn)
                    if (quiet > _QUIET_NS and not explained) or timeout_end[d] > s:
                        kind = REPEAT_CLOSE if only_fin else REPEAT_TIMEOUT
                        kind |= FIRST_UNSEEN
                        g[i].lost, g[i].again = skipped, size
                        timeout_end[d] = max(timeout_end[d], s + 1)
                        pool[d] -= 1
                    else:
                        pool[d] = 0
                if kind == DATA and d == 1 and last_new[0] > last_new[1]:
                    turn = t - max(last_new[0], last_again[0])
                    usual_turn = turn if usual_turn == 0 else usual_turn + (turn - usual_turn) // 4
                nxt[d] = e
                pending[d, tail[d]] = i
                tail[d] += 1
            else:
                # Some of it was passed before. Does it fill a hole?
                filled = False
                late = False
                k = 0
                while k < holes[d]:
                    if s < hole_e[d, k] and e > hole_s[d, k]:
                        filled = True
                        g[i].before = -2 - hole_i[d, k]
                        if counts_ids and hole_id[d, k] >= 0:
                            late = g[i].id < hole_id[d, k]
                        elif g[i].tsv >= 0 and hole_ts[d, k] >= 0 and g[i].tsv != hole_ts[d, k]:
                            late = g[i].tsv < hole_ts[d, k]
                        else:
                            whole = min(floor[0], np.int64(1) << 40) + min(floor[1], np.int64(1) << 40)
                            late = t - hole_t[d, k] < min(whole * 9 // 10, 50_000_000)
                        left, right = hole_s[d, k], hole_e[d, k]
                        if s <= left and e >= right:
                            holes[d] -= 1
                            for m in range(k, holes[d]):
                                hole_s[d, m], hole_e[d, m], hole_t[d, m] = (
                                    hole_s[d, m + 1],
                                    hole_e[d, m + 1],
                                    hole_t[d, m + 1],
                                )
                                hole_id[d, m], hole_ts[d, m], hole_i[d, m] = (
                                    hole_id[d, m + 1],
                                    hole_ts[d, m + 1],
                                    hole_i[d, m + 1],
                                )
                            continue
                        if s <= left:
                            hole_s[d, k] = e
                        elif e >= right:
                            hole_e[d, k] = s
                        elif holes[d] < _MOST_HOLES:
                            for m in range(holes[d], k + 1, -1):
                                hole_s[d, m], hole_e[d, m], hole_t[d, m] = (
                                    hole_s[d, m - 1],
                                    hole_e[d, m - 1],
                                    hole_t[d, m - 1],
                                )
                                hole_id[d, m], hole_ts[d, m], hole_i[d, m] = (
                                    hole_id[d, m - 1],
                                    hole_ts[d, m - 1],
                                    hole_i[d, m - 1],
                                )
                            hole_e[d, k] = s
                            hole_s[d, k + 1], hole_e[d, k + 1], hole_t[d, k + 1] = e, right, hole_t[d, k]
                            hole_id[d, k + 1], hole_ts[d, k + 1], hole_i[d, k + 1] = (
                                hole_id[d, k],
                                hole_ts[d, k],
                                hole_i[d, k],
                            )
                            holes[d] += 1
                            k += 1
                    k += 1
                if filled and late:
                    kind = OUT_OF_ORDER
                elif counts_ids and not filled and g[i].id <= high_id[d]:
                    # Numbered before what passed already: no new sending, but what the network doubled, alone or merged
                    # with what follows.
                    kind = COPY if e <= nxt[d] else DATA
                    g[i].again = min(size, nxt[d] - s)
                else:
                    if only_fin:
                        kind = REPEAT_CLOSE
                    elif _expired(t, s, una[d], last_moved[d], last_any, floor, last_again[d]):
                        kind = REPEAT_TIMEOUT
                        if e >= nxt[d] and facts[SACK_OK] == 1 and last_again[d] < last_moved[d] and probe_end[d] < 0:
                            if _tail_probe(t - last_sent[d], floor):
                                kind = REPEAT_TAIL
                        if kind == REPEAT_TIMEOUT:
                            timeout_end[d] = nxt[d]
                    elif timeout_end[d] > s:
                        kind = REPEAT_AFTER
                        if sacked_high[d] > s:
                            kind = REPEAT_FAST
                    elif sacked_high[d] > s or dup_acks[d] >= 3:
                        kind = REPEAT_FAST
                    elif e >= nxt[d] and una[d] <= s and facts[SACK_OK] == 1 and _tail_probe(t - last_sent[d], floor):
                        kind = REPEAT_TAIL
                    elif t - last_any[o] <= _SET_OFF_NS + min(floor[0], _QUIET_NS) + min(floor[1], _QUIET_NS):
                        kind = REPEAT_FAST  # An acknowledgement has just set it off.
                    else:
                        kind = REPEAT_TIMEOUT
                        timeout_end[d] = nxt[d]
                    g[i].again = max(np.int64(0), min(min(e, nxt[d]) - s, size))
                    last_again[d] = t
                    if kind == REPEAT_TAIL:
                        probe_end[d] = nxt[d]
                    elif kind == REPEAT_TIMEOUT:
                        probe_end[d] = -1
                    if filled:
                        kind |= FIRST_UNSEEN
                        if g[-2 - g[i].before].n == 0 and s >= una[d]:
                            # A bare acknowledgement showed the hole: the whole message was under way, and lost, before
                            # it.
                            g[i].lost = max(np.int64(1), g[-2 - g[i].before].lost) + skipped
                    if una[d] >= e and acked[d]:
                        kind |= SPURIOUS
                    # The copy before: for Karn's rule and for telling which copy was the one that helped.
                    k = i - 1
                    looked = 0
                    while k >= 0 and looked < 4096:
                        if filled:
                            break
                        if g[k].d == d and g[k].e > g[k].s:
                            looked += 1
                            if g[k].s < e and g[k].e > s and g[k].kind != COPY:
                                g[i].before = k
                                break
                        k -= 1
                if e > nxt[d]:
                    nxt[d] = e
                if (
                    repeats[d] == _MOST_REPEATS and kind != COPY
                ):  # Acknowledged by nobody for so long: the oldest is given up.
                    repeats[d] -= 1
                    extra[d, : repeats[d]] = extra[d, 1 : repeats[d] + 1]
                if kind != COPY:
                    extra[d, repeats[d]] = i
                    repeats[d] += 1
        elif flags & ACK:
            kind = PURE_ACK
            if s > nxt[d] and s - nxt[d] < (1 << 20) and holes[d] < _MOST_HOLES:
                # It speaks from beyond what passed here: the bytes between were sent and lost before this point.
                k = holes[d]
                hole_s[d, k], hole_e[d, k], hole_t[d, k] = nxt[d], s, t
                hole_id[d, k], hole_ts[d, k], hole_i[d, k] = g[i].id, g[i].tsv, i
                holes[d] = k + 1
                nxt[d] = s
                g[i].lost = skipped
            if s == nxt[d] - 1 and nxt[d] > 0 and acked[d] and una[d] == nxt[d] and not flags & (FIN | SYN | RST):
                kind = WINDOW_PROBE if window[o] == 0 else KEEP_ALIVE
                probed[d] = 2 if window[o] == 0 else 1

        # Then by what it acknowledges.
        if flags & ACK and kind != COPY and not flags & RST:
            advanced = a > una[o] or not acked[o]
            if kind == PURE_ACK:
                if probed[o] and a == una[o]:
                    kind = KEEP_ALIVE_ANSWER if probed[o] == 1 else WINDOW_PROBE_ANSWER
                elif acked[o] and a == una[o] and nxt[o] > una[o] and started[o]:
                    kind = DUPLICATE_ACK if g[i].w == window[d] else WINDOW_UPDATE
                    if kind == WINDOW_UPDATE and g[i].sacks > 0:
                        kind = DUPLICATE_ACK
                    if counts_ids and g[i].id <= high_id[d] and _copy_of(g, i, d) >= 0:
                        kind = COPY
                elif acked[o] and a == una[o] and g[i].w != window[d]:
                    kind = WINDOW_UPDATE
                elif acked[o] and a <= una[o] and counts_ids and g[i].id <= high_id[d] and _copy_of(g, i, d) >= 0:
                    kind = COPY
            if kind != COPY:
                if kind == DUPLICATE_ACK:
                    dup_acks[o] += 1
                if a > probe_end[o] or (a == probe_end[o] and size == 0 and (not advanced or g[i].sacks > 0)):
                    probe_end[
                        o
                    ] = (
                        -1
                    )  # A probe that its receiver needed stays open until more is acknowledged (RFC 8985 section 7.4).
                probed[o] = 0
                if advanced:
                    dup_acks[o] = 0
                    confirmed = una[o]
                    una[o] = a
                    acked[o] = True
                    last_moved[o] = t
                    if not started[o]:
                        started[o] = True
                        nxt[o] = a
                    if (
                        a > nxt[o] + 1
                    ):  # Acknowledges what never passed here: the capture missed it. (One may be a closing.)
                        facts[MISSED_CLIENT + o] += a - nxt[o]
                        behind[o] += a - nxt[o]
                    nxt[o] = max(nxt[o], a)
                    newest = np.int64(-1)
                    while head[o] < tail[o]:
                        k = pending[o, head[o]]
                        if g[k].e > a:
                            break
                        if g[k].done == 0:
                            g[k].done = t
                            g[k].way = CUMULATIVE
                            newest = k
                        head[o] += 1
                    m = 0
                    while m < repeats[o]:
                        k = extra[o, m]
                        if g[k].e <= a:
                            if g[k].done == 0:
                                g[k].done = t
                                g[k].way = CUMULATIVE
                                if not g[k].kind & FIRST_UNSEEN and 0 <= g[i].tse < g[k].tsv:
                                    g[k].kind |= SPURIOUS  # The answer speaks of the first copy (RFC 3522 section 3.2).
                                elif 0 <= g[k].tsv <= g[i].tse:
                                    c = _sample(samples, c, t, t - g[k].t, o ^ 1, ECHOED, i, 0)
                            newest = -1 if newest < 0 or (g[newest].s < g[k].e and g[newest].e > g[k].s) else newest
                            repeats[o] -= 1
                            extra[o, m] = extra[o, repeats[o]]
                        else:
                            m += 1
                    if newest >= 0 and (g[newest].kind == DATA or g[newest].kind == CLOSE):
                        trip = t - g[newest].t
                        over = trip - min(floor[o ^ 1], trip)
                        # A bare acknowledgement of less than two full segments, much later than need be: its host held
                        # it back (RFC 1122
                        # section 4.2.3.2 allows it for no more).
                        bare = (FEW_BARE if a - confirmed < 2 * full else BARE) if size == 0 else WITH_DATA
                        if size == 0 and g[i].flags & FIN:
                            bare = WITH_CLOSE
                        lone = size == 0 and a - confirmed < 2 * full and _HELD_SUSPECT_NS < over < _HELD_MOST_NS
                        # Two that arrive together are acknowledged at once: no timer runs for either.
                        with_next = head[o] < tail[o] and g[pending[o, head[o]]].t - g[newest].t < _TOGETHER_NS
                        if with_next or (
                            t - prompt_ack[o] < _HELD_SUSPECT_NS and g[newest].t - prompt_sent[o] < _TOGETHER_NS
                        ):
                            lone, bare = False, bare if bare == WITH_CLOSE else min(bare, BARE)
                        c = _sample(samples, c, t, trip, o ^ 1, HELD if lone else ACKNOWLEDGED, i, bare)
                        floor[o ^ 1] = min(floor[o ^ 1], trip)
                        if not lone:
                            prompt_ack[o], prompt_sent[o] = t, g[newest].t
                    elif newest >= 0 and 0 <= g[newest].tsv <= g[i].tse:
                        c = _sample(samples, c, t, t - g[newest].t, o ^ 1, ECHOED, i, 0)
                    k = 0
                    while k < holes[o]:  # Holes below the acknowledgement arrived by another way, or were missed here.
                        if hole_e[o, k] <= a:
                            facts[MISSED_CLIENT + o] += hole_e[o, k] - hole_s[o, k]
                            g[hole_i[o, k]].missed += hole_e[o, k] - hole_s[o, k]
                            holes[o] -= 1
                            for m in range(k, holes[o]):
                                hole_s[o, m], hole_e[o, m], hole_t[o, m] = (
                                    hole_s[o, m + 1],
                                    hole_e[o, m + 1],
                                    hole_t[o, m + 1],
                                )
                                hole_id[o, m], hole_ts[o, m], hole_i[o, m] = (
                                    hole_id[o, m + 1],
                                    hole_ts[o, m + 1],
                                    hole_i[o, m + 1],
                                )
                        else:
                            k += 1
                blocks = min(g[i].sacks, max(np.int64(0), sack_left.size - g[i].sack))
                for b in range(blocks):
                    reference = a & 0xFFFFFFFF
                    raw = np.int64(sack_left[g[i].sack + b]) - facts[BASE_CLIENT + o]
                    step = (raw - reference) & 0xFFFFFFFF
                    if step >= 0x80000000:
                        step -= 0x100000000
                    left = a + step
                    right = left + (
                        (np.int64(sack_right[g[i].sack + b]) - np.int64(sack_left[g[i].sack + b])) & 0xFFFFFFFF
                    )
                    if right - left > (1 << 30):
                        continue
                    if b == 0 and (right <= a or (blocks > 1 and _inside(sack_left, sack_right, g[i].sack, blocks))):
                        _mark_spurious(g, i, o, left, right)
                        if right <= a:
                            continue
                    sacked_high[o] = max(sacked_high[o], right)
                    # Unacknowledged segments are in order: walk down from the right edge to what is known already.
                    low, high = head[o], tail[o]
                    while low < high:
                        middle = (low + high) >> 1
                        if g[pending[o, middle]].e <= right:
                            low = middle + 1
                        else:
                            high = middle
                    first = True
                    for m in range(low - 1, head[o] - 1, -1):
                        k = pending[o, m]
                        if g[k].s < left or g[k].done != 0:
                            break
                        g[k].done = t
                        g[k].way = SELECTIVE
                        if first and g[k].kind == DATA:
                            first = False
                            c = _sample(samples, c, t, t - g[k].t, o ^ 1, SACKED, i, 1 if size == 0 else 0)
                            floor[o ^ 1] = min(floor[o ^ 1], t - g[k].t)
                    for m in range(repeats[o]):
                        k = extra[o, m]
                        if g[k].s >= left and g[k].e <= right and g[k].done == 0:
                            g[k].done = t
                            g[k].way = SELECTIVE
                # Opening round trips, where no copy leaves a doubt.
                if d == 1 and flags & SYN and (kind == OPEN_ANSWER or kind == REPEAT_OPEN):
                    answered = _answered_syn(g, i) if syn_count[0] > 1 or syn_count[1] > 1 else syn_at[0]
                    if answered >= 0 and syn_count[0] > 0:
                        c = _sample(samples, c, t, t - answered, 1, OPENING, i, 1)
                        floor[1] = min(floor[1], t - answered)
                elif d == 0 and syn_count[1] == 1 and syn_at[1] > 0:
                    if kind == PURE_ACK and advanced and size == 0:
                        c = _sample(samples, c, t, t - syn_at[1], 0, OPENING, i, 1)
                        floor[0] = min(floor[0], t - syn_at[1])
                    syn_at[1] = -1
        if kind != COPY and not flags & RST:
            if flags & (ACK | SYN):
                window[d] = g[i].w
        if counts_ids:
            high_id[d] = max(high_id[d], g[i].id + g[i].parts - 1)
        high_ts[d] = max(high_ts[d], g[i].tsv)
        g[i].kind = kind
        g[i].flight = nxt[d] - una[d]
        if window[o] >= 0 and acked[d] and facts[SCALES_KNOWN]:
            g[i].room = una[d] + window[o] - nxt[d]
        elif window[o] == 0:
            g[i].room = 0
        if kind != COPY:
            owed[d] = 0
            if e > s:
                last_sent[d] = t
                owed[o] += 1
                if kind == DATA:
                    last_new[d] = t
            last_any[d] = t
    return c


@kernel
def _inside(sack_left, sack_right, first, count):  # type: ignore[no-untyped-def]
    """Whether the first block lies within the second (a duplicate above the cumulative number, RFC 2883 section
    4.2).
    """
    size = (np.int64(sack_right[first]) - np.int64(sack_left[first])) & 0xFFFFFFFF
    into = (np.int64(sack_left[first]) - np.int64(sack_left[first + 1])) & 0xFFFFFFFF
    whole = (np.int64(sack_right[first + 1]) - np.int64(sack_left[first + 1])) & 0xFFFFFFFF
    return into + size <= whole


@kernel
def _mark_spurious(g, i, side, left, right):  # type: ignore[no-untyped-def]
    """A D-SACK tells that the latest repeat of these bytes was not needed."""
    k = i - 1
    looked = 0
    while k >= 0 and looked < 4096:
        if g[k].d == side and g[k].e > g[k].s:
            looked += 1
            if g[k].s < right and g[k].e > left and is_repeat(g[k].kind):
                g[k].kind |= SPURIOUS
                return
        k -= 1
