"""Packets that are copies of others, made on the way, and openings that tell which copy they answer."""

from yaffle.capture.packets import SYN
from yaffle.kernels import int64, kernel, pasted
from yaffle.transport.segments import Segment, Segments
from yaffle.transport.side import Side

_LOOK_BACK = 64  # Packets in which a copy is looked for.
_MOMENT_NS = 2_000_000  # Too short for any timer or answer.


@pasted
def copy_of(g: Segments, i: int, own: Side) -> int:
    """The packet of which packet i is a copy made on the way, or -1. own: its side, as it was before."""
    if g[i].e > own.reach or g[i].a > own.reach_acked:  # None before it holds its bytes and acknowledges the same.
        return int64(-1)
    return _copied_before(g, i, g[i].d)


@kernel
def _copied_before(g: Segments, i: int, d: int) -> int:
    """The packet of which packet i is a copy among those of its side before it, or -1."""
    looked = 0
    k = i - 1
    while k >= 0 and looked < _LOOK_BACK:
        if g[k].d == d:
            looked += 1
            # What is asked of every packet stands in the first bytes of each: hardly any is looked at further.
            if g[k].a == g[i].a and g[k].s <= g[i].s and g[i].e <= g[k].e and _copied(g[k], g[i]):
                return k
        k -= 1
    return -1


@pasted
def _copied(former: Segment, segment: Segment) -> bool:
    """Whether a segment is a copy of one whose bytes hold its own, and that acknowledges the same."""
    if former.parts > 1 and segment.n > 0 and segment.id >= 0:
        # A copy of one segment of those that were merged: its identification is that of its place among them.
        size = max(1, (former.n + former.parts - 1) // former.parts)
        if segment.id - former.id == (segment.s - former.s) // size:
            return True
    if former.s != segment.s or former.n != segment.n or former.flags != segment.flags:
        return False
    if former.w != segment.w or former.tsv != segment.tsv:
        return False
    if segment.id not in (-1, -2):
        return segment.id == former.id
    # Without a telling identification: only bytes within a moment.
    return segment.n > 0 and segment.t - former.t < _MOMENT_NS and segment.tsv >= 0


@kernel
def answered_syn(g: Segments, i: int) -> int:
    """When the SYN passed that a SYN-ACK answers, where several did: the one that it echoes (RFC 7323 section 4.3); -1
    untold.

    A SYN-ACK that came before already, and echoed the same one, leaves open which copy of it this is.
    """
    if g[i].tse < 0:
        return int64(-1)
    found = int64(-1)
    for k in range(max(0, i - _LOOK_BACK), i):
        if g[k].flags & SYN and g[k].d == 0 and g[k].tsv == g[i].tse:
            if found >= 0:
                return int64(-1)
            found = g[k].t
        if g[k].flags & SYN and g[k].d == 1 and g[k].tse == g[i].tse:
            return int64(-1)
    later = False
    for k in range(max(0, i - _LOOK_BACK), i):
        later |= g[k].flags & SYN > 0 and g[k].d == 0 and g[k].tsv > g[i].tse
    return int64(-1) if later else found  # A later SYN may have set it off again.
