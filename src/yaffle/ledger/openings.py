"""Charges of setting up a connection."""

from yaffle.arrays import Int64s
from yaffle.capture.packets import ACK, RST, SYN
from yaffle.kernels import int64, kernel
from yaffle.ledger import causes
from yaffle.ledger.trips import UNKNOWN
from yaffle.transport.host_clock import on_the_least_way
from yaffle.transport.kinds import COPY, KIND_MASK
from yaffle.transport.segments import Segments

_OPENING_PACKETS = 64  # An opening that took more is not looked through.
SET_UP, LOSS, UNSEEN = causes.SET_UP, causes.LOSS, causes.UNSEEN


@kernel
def charge_opening(g: Segments, extra: Int64s, floors: Int64s, charge: Int64s, times: Int64s) -> int:
    """Charges of setting up the connection; times: first SYN, and when the client had its answer (at the point, had its
    packets taken the least way there).

    extra: of the client's packets (host_clock.extra_delays). Returns 0 complete, 1 unseen, 2 refused, 3 unanswered.
    """
    n = g.size
    first_syn, last_syn, answer, last_answer, end = -1, -1, -1, -1, -1
    for i in range(min(n, _OPENING_PACKETS)):
        if g[i].kind & KIND_MASK == COPY:
            continue
        if g[i].flags & SYN and g[i].d == 0 and not g[i].flags & ACK:
            if first_syn < 0:
                first_syn = i
            if answer < 0 or last_syn < 0:
                last_syn = i
        elif g[i].flags & SYN and g[i].d == 1:
            if answer < 0:
                answer = i
            last_answer = i
        elif g[i].flags & RST and g[i].d == 1 and answer < 0 and first_syn >= 0:
            times[0], times[1] = g[first_syn].t, g[i].t
            charge[LOSS] += g[last_syn].t - g[first_syn].t
            charge[SET_UP] += g[i].t - g[last_syn].t
            return 2
        elif g[i].d == 0 and answer >= 0 and g[i].flags & ACK:
            end = i
            break
    if first_syn < 0:
        times[0] = times[1] = g[0].t
        return 1
    if answer < 0:
        times[0], times[1] = g[first_syn].t, g[n - 1].t
        for i in range(n):
            if g[i].d == 0 and g[i].flags & ACK and not g[i].flags & RST:
                times[1] = g[first_syn].t
                return 1  # It goes on, so that it was answered where this capture did not look.
        charge[UNSEEN] += g[n - 1].t - g[first_syn].t
        for i in range(n):
            if g[i].d == 1:
                return 1
        return 3
    floor_client = floors[0] if floors[0] < UNKNOWN else 0
    began, until = on_the_least_way(g, extra, first_syn), g[answer].t + floor_client
    if end >= 0 and last_answer == answer and (g[end].n == 0 or g[end].t - g[answer].t < floor_client):
        until = on_the_least_way(g, extra, end)
    elif end >= 0 and last_answer > answer:
        # Several answers: the client had one of them; the acknowledgement tells when.
        until = min(on_the_least_way(g, extra, end), g[last_answer].t + floor_client)
    until = max(until, began)  # Packets that lie in the file in an order they cannot have had give no negative time.
    lost = max(int64(0), on_the_least_way(g, extra, last_syn) - began)
    if last_answer > answer and until > g[last_answer].t:
        lost += g[last_answer].t - g[answer].t
    lost = max(int64(0), min(lost, until - began))
    times[0], times[1] = began, until
    charge[LOSS] += lost
    charge[SET_UP] += until - began - lost
    return 0


@kernel
def first_measurement(g: Segments, extra: Int64s, opened: int, end: int) -> int:
    """The client's first round trip: of the SYN that its answer echoes, from opened to end where none tells.

    A SYN-ACK echoes the first SYN that arrived (RFC 7323 section 4.3): where its first copy was lost, that measures
    long.
    """
    first = int64(-1)
    for i in range(min(g.size, _OPENING_PACKETS)):
        if g[i].flags & SYN and g[i].d == 1 and g[i].flags & ACK and g[i].tse >= 0 and g[i].t <= end:
            for k in range(i):
                if g[k].flags & SYN and g[k].d == 0 and g[k].tsv == g[i].tse:
                    first = on_the_least_way(g, extra, k)
    return end - (first if first >= 0 else opened)
