"""How long a client waited for what never came, or came when it had gone: it parted from the server before."""

from yaffle.arrays import Int64s
from yaffle.capture.packets import ACK, RST
from yaffle.exchanges.turns import UNENDED, TurnRow
from yaffle.kernels import int64, leaf
from yaffle.ledger.fields import ORDERLY
from yaffle.protocols import message
from yaffle.transport.kinds import COPY, DATA, KIND_MASK
from yaffle.transport.segments import Segments

NEVER = int64(1) << 62
_SOON_NS = 1_000_000  # Who waits sends nothing more for so long, and for twice as long as it took to ask.
_AT_ONCE_NS = 100_000_000  # Who closes sooner than this, and a way there and back, may only have said good-bye.
_CLIENT, _SERVER = 0, 1


@leaf
def had_when_gone(g: Segments, left: int) -> int:
    """The place up to which the client had the server's bytes when it was gone for good, having closed by segment
    `left`: what came then met a reset (RFC 9293 section 3.10.7.1). NEVER where it was not gone; one that goes on to
    acknowledge has closed its own way only.
    """
    if left < 0 or not g[left].flags & ACK:
        return NEVER
    had, reset = g[left].a, False
    for i in range(left, g.size):
        if g[i].d == 0 and g[i].kind & KIND_MASK != COPY:
            reset |= g[i].flags & RST > 0
            if g[i].flags & ACK:
                had = max(had, g[i].a)
    return had if reset else NEVER


@leaf
def last_byte(g: Segments, turn: TurnRow) -> int:
    """The place behind the last byte of an answer, as far as it came."""
    return g[turn.stop - 1].s + g[turn.stop - 1].n if turn.response_end == UNENDED else turn.response_end


@leaf
def _broken_off_at(g: Segments, turn: TurnRow, closings: Int64s) -> int:
    """The segment by which the wait ended for the rest of an answer that broke off: by which a side closed, else the
    last. Where the client had more than passed here, it did not break off.
    """
    end, told = int64(g.size - 1), last_byte(g, turn)
    for i in range(turn.stop, g.size):
        if g[i].d == 1:
            told = max(told, g[i].s + g[i].n)
        elif g[i].flags & ACK and g[i].a > told + 1:
            turn.response_end = last_byte(g, turn)
            return end
    for side in range(2):
        if turn.stop - 1 <= closings[side] < end:
            end = closings[side]
    return end


@leaf
def _asked_for(g: Segments, turn: TurnRow) -> int:
    """When the client had sent its request for the first time."""
    last = g[turn.first].t
    for i in range(turn.first + 1, g.size):
        if g[i].d == 0 and g[i].n > 0 and g[i].kind & KIND_MASK == DATA:
            if g[i].s >= turn.request_end:
                break
            last = g[i].t
    return last


@leaf
def _waited_until(g: Segments, turn: TurnRow, answers: bool, closings: Int64s, closing: int, way_ns: int) -> int:
    """The segment by which the wait for an answer ended that never came, or came when the client had left: by which a
    side closed, else the last; -1 where nobody is known to have waited.

    Who still sends at the end sends a stream one way, or a request that is not whole yet; so does who closes as soon as
    it has sent. Where the sides parted in order, a stream one way and a request look the same, but for what is known of
    it: that it was answered later, or its protocol decoded, or that the server had answered others, which then may have
    answered by closing. A good-bye is followed by that at once.
    """
    asked, left, shut = _asked_for(g, turn), closings[_CLIENT], closings[_SERVER]
    enough = asked + 2 * (asked - g[turn.first].t) + _SOON_NS
    end = int64(g.size - 1)
    if shut > turn.first and g[shut].t > enough:
        end = shut
    if turn.first < left < end and g[left].t > enough:
        end = left
    if g[end].t <= enough:
        return int64(-1)
    if closing == ORDERLY:
        known = turn.message >= 0 or (end == left and answers)
        known = turn.answer >= 0 or (known and g[end].t > asked + way_ns + _AT_ONCE_NS)
        if end != min(left, shut) or not known:
            return int64(-1)
    return end


@leaf
def ended_by(g: Segments, turn: TurnRow, answers: bool, closings: Int64s, had: int, closing: int, way_ns: int) -> int:
    """The segment by which the wait of a turn ended if it had not ended before: by which the client left, or the last;
    -1 where nobody waited. What was answered when the client had left is unanswered from then on.

    answers: whether the server answered others; closings: by which segment each side closed first, -1 without; had:
    from `had_when_gone`; closing: how the connection closed; way_ns: from here to the server and back, at least.
    """
    if turn.answer >= 0:
        if had >= last_byte(g, turn):
            return _broken_off_at(g, turn, closings) if turn.response_end == UNENDED else int64(g.size - 1)
        if had > g[turn.answer].s:
            return closings[_CLIENT]
    if turn.kind != message.EXCHANGE:
        return int64(-1)
    ended = _waited_until(g, turn, answers, closings, closing, way_ns)
    turn.answer, turn.response_bytes = -1, 0
    return ended
