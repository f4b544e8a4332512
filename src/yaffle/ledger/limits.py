"""What limited a sender, stretch by stretch, and an estimate of what congestion control allowed it.

The stretch before each of its packets is judged by what was outstanding and what the peer had told by then, as RFC 4898
counts them: the sender itself, the receiver, the path; here the path is told apart into its pace, congestion control's
growing, and repair.
"""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.packets import ACK
from yaffle.kernels import int64, kernel
from yaffle.transport import kinds
from yaffle.transport.kinds import repairs
from yaffle.transport.segments import Segments

APPLICATION, RECEIVER, CONGESTION, PACE, REPAIR = 0, 1, 2, 3, 4
WORDS = (
    "application-limited",
    "receive-window-limited",
    "congestion-window-limited",
    "bottleneck-limited",
    "loss recovery",
)
_LEAST_NS = 1_500_000


@kernel
def _judge(
    g: Segments,
    side: int,
    mss: int,
    whole_ns: int,
    blocked: Int64s,
    first: Int64s,
    last: Int64s,
    limit: Int64s,
    allowed: Int64s,
) -> int:
    """Fills a row a stretch: from, to, what limited; and the estimate at each of the side's packets.

    Returns how many stretches.
    """
    count = 0
    previous = -1
    least_loop = int64(1) << 60
    lately = int64(0)  # most in flight of the round trip under way
    round_ends = int64(0)
    estimate = int64(0)
    loop_ns = int64(0)
    mended_at = int64(-(1 << 60))  # when the last of its repeats so far was acknowledged
    for i in range(g.size):
        allowed[i] = 0
        if g[i].d != side or g[i].n == 0 or g[i].kind & kinds.KIND_MASK == kinds.COPY:
            continue
        if g[i].done > 0 and g[i].kind == kinds.DATA:
            loop_ns = g[i].done - g[i].t
            least_loop = min(least_loop, loop_ns)
        if previous >= 0:
            gap = g[i].t - g[previous].t
            outstanding = g[previous].flight
            newest, window = int64(-1), int64(-1)
            k = i - 1
            while k > previous:
                if g[k].d != side and g[k].flags & ACK:
                    newest = max(newest, g[k].a)
                    window = g[k].w if window < 0 else window
                k -= 1
            mending = g[previous].t < mended_at and g[i].t <= mended_at + whole_ns + 5_000_000 and window != 0
            what = CONGESTION
            if blocked[i] > 0 or repairs(g[i].kind):
                what = REPAIR
            elif 0 <= g[previous].room < mss and gap > _LEAST_NS:
                what = REPAIR if mending else RECEIVER  # A window that fills behind a hole is the hole's doing.
            elif newest >= g[previous].e and gap > whole_ns + whole_ns // 4 + 5_000_000:
                what = APPLICATION
            elif g[previous].n < mss and newest >= g[previous].e and gap > _LEAST_NS:
                what = APPLICATION  # A packet that is not full ended what it had to say.
            elif loop_ns > least_loop + least_loop // 2 + 2_000_000 and outstanding > 2 * mss:
                what = PACE
            if count > 0 and limit[count - 1] == what:
                last[count - 1] = g[i].t
            else:
                first[count], last[count], limit[count] = g[previous].t, g[i].t, what
                count += 1
            if what == REPAIR:
                estimate = int64(min(estimate, max(g[i].flight, 2 * mss)))
        if g[i].t > round_ends:
            if lately > 0:
                estimate = lately
            lately = 0
            round_ends = g[i].t + max(whole_ns, int64(1_000_000))
        lately = max(lately, g[i].flight)
        estimate = max(estimate, g[i].flight)
        allowed[i] = estimate
        previous = i
        if repairs(g[i].kind):
            mended_at = max(mended_at, g[i].done)
    return count


def sender_limits(
    g: Segments, side: int, mss: int, whole_ns: int, blocked: Int64s
) -> tuple[Int64s, Int64s, Int64s, Int64s]:
    """Stretches of one side of a connection, and what congestion control allowed it.

    g: segments of one connection; blocked: from transfers.loss_cover; whole_ns: least round trip between the ends.
    Returns: from_ns, to_ns, limit (index into WORDS) a stretch; and int64 bytes a segment, 0 for those of the other
    side: the most in flight during the last round trip, cut by repairs.
    """
    first, last, limit, allowed = (np.empty(g.size + 1, np.int64) for _ in range(4))
    count = _judge(g, side, mss, whole_ns, blocked, first, last, limit, allowed)
    return first[:count], last[:count], limit[:count], allowed[: g.size]
