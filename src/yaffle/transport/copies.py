"""Packets that are copies of others, made on the way, and openings that tell which copy they answer."""

from yaffle.capture.packets import SYN
from yaffle.kernels import int64, kernel
from yaffle.transport.segments import Segments

_LOOK_BACK = 64  # Packets in which a copy is looked for.
_MOMENT_NS = 2_000_000  # Too short for any timer or answer.


@kernel
def copy_of(g: Segments, i: int, d: int) -> int:
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
                # Without a telling identification: only bytes within a moment.
                if g[i].id in (-1, -2) and g[i].n > 0 and g[i].t - g[k].t < _MOMENT_NS and g[i].tsv >= 0:
                    return k
        k -= 1
    return -1


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
