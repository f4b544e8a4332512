"""The account of every TCP connection: one kernel that gathers, classifies, finds exchanges and charges them."""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array
from yaffle.exchanges.turns import find_turns
from yaffle.kernels import kernel
from yaffle.ledger import causes
from yaffle.ledger.charging import charge_exchange, charge_opening, loss_cover
from yaffle.prefetch import prefetch
from yaffle.protocols import message
from yaffle.transport.classify import classify
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.segments import MSS_CLIENT, SCALES_KNOWN, gather

# Columns of one connection's facts, int64 each. The side's block stands twice: from the client, from the server.
CONNECTION_FIELDS = (
    "opening", "closing", "first_ns", "last_ns", "scales_known",
    "handshake_ns", "to_client_min_ns", "to_client_median_ns", "to_client_p95_ns", "to_client_max_ns",
    "to_server_min_ns", "to_server_median_ns", "to_server_p95_ns", "to_server_max_ns", "to_client_samples", "to_server_samples",
    "exchanges", "unanswered", "wait_ns", "set_up_ns", "worst_wait_ns", "pushed_bytes",
    "to_client_early_min_ns", "to_client_late_min_ns", "to_server_early_min_ns", "to_server_late_min_ns",
)  # fmt: skip
SIDE_FIELDS = (
    "packets", "payload_bytes", "unique_bytes", "retransmitted_packets", "retransmitted_bytes", "spurious_packets",
    "duplicate_packets", "out_of_order_packets", "duplicate_acks", "zero_window_ns", "max_in_flight_bytes", "resets", "keep_alives", "closing_repeats",
)  # fmt: skip
EXCHANGE_FIELDS = ("connection", "first_ns", "asked_ns", "answered_ns", "last_ns", "end_ns", "request_bytes", "response_bytes", "set_up_ns", "message")

C0 = len(CONNECTION_FIELDS)
S0 = len(SIDE_FIELDS)
WIDTH = C0 + 2 * S0
CHARGES = causes.COUNT
SET_UP, LOSS, UNSEEN = causes.SET_UP, causes.LOSS, causes.UNSEEN
_UNKNOWN = np.int64(1) << 60
_FIRST = np.int64(0)
_SIGN_ON, _LAST = message.SIGN_ON, message.LAST_OF_ENCRYPTION

OPENINGS = ("complete", "unseen", "refused", "unanswered")
CLOSINGS = ("orderly", "reset", "open")


class Tables(NamedTuple):
    """Where the account is written. Those of exchanges are contiguous by column."""

    connection: Array
    connection_charges: Array
    exchange: Array
    exchange_charges: Array


@kernel
def select(values, low, high, place):  # type: ignore[no-untyped-def]
    """Reorders values[low:high] so that `place` holds what it would if they were sorted, and returns that (Hoare 1961)."""
    high -= 1
    while high > low:
        pivot = values[(low + high) >> 1]
        i, k = low, high
        while i <= k:
            while values[i] < pivot:
                i += 1
            while values[k] > pivot:
                k -= 1
            if i <= k:
                values[i], values[k] = values[k], values[i]
                i += 1
                k -= 1
        if place <= k:
            high = k
        elif place >= i:
            low = i
        else:
            break
    return values[place]


@kernel
def _round_trips(samples, floors, values, out):  # type: ignore[no-untyped-def]
    """Least, median, 95th percentile and greatest of the samples to each side."""
    count = samples.size
    for side in range(2):
        floors[side] = _UNKNOWN
        at = 6 + 5 * side if side == 0 else 10
        k = 0
        least, most = _UNKNOWN, np.int64(-1)
        for i in range(count):
            if samples[i].side == side and samples[i].rtt >= 0 and samples[i].way != 3:
                values[k] = samples[i].rtt
                least, most = min(least, values[k]), max(most, values[k])
                k += 1
        out[14 + side] = k
        early, late = _UNKNOWN, _UNKNOWN  # floors of the first and of the last eighth of the samples
        few = min(k, max(6, k // 8))
        for i in range(few):
            early, late = min(early, values[i]), min(late, values[k - 1 - i])
        out[22 + 2 * side] = early if k > 0 else -1
        out[23 + 2 * side] = late if k > 0 else -1
        if k == 0:
            out[at : at + 4] = -1
            continue
        floors[side] = least
        middle, high = min(k - 1, k // 2), min(k - 1, k * 95 // 100)
        out[at], out[at + 1], out[at + 3] = least, select(values, _FIRST, k, middle), most
        out[at + 2] = select(values, middle, k, high)
    out[5] = -1
    opening = np.full(2, -1, np.int64)
    for i in range(count):
        if samples[i].way == 0:
            opening[samples[i].side] = samples[i].rtt
    if opening[1] >= 0:
        out[5] = opening[1] + max(np.int64(0), opening[0])


@kernel
def _count_sides(g, kind_of_packet, mss, high, out):  # type: ignore[no-untyped-def]
    """Totals of each side, and how the connection closed; largest segments and windows; the kinds go to the packets."""
    n = g.size
    zero_since = np.full(2, -1, np.int64)
    fins = np.zeros(2, np.bool_)
    closing = 2
    mss[:] = 536
    high[:] = 0
    for i in range(n):
        prefetch(kind_of_packet, g[min(i + 16, n - 1)].row)
        kind_of_packet[g[i].row] = g[i].kind
        d = g[i].d
        at = C0 + S0 * d
        kind = g[i].kind
        base = kind & 31
        size = g[i].n
        mss[d] = max(mss[d], min(size, 65535))
        if not g[i].flags & 6:
            high[d] = max(high[d], g[i].w)
        out[at] += 1
        out[at + 1] += size
        if base == 1 or base == 7 or base == 18 or kind & 64:
            out[at + 2] += size
        if base == 17:
            out[at + 13] += 1  # A bare FIN sent again delays nobody: counted apart.
        elif 13 <= base <= 16:
            out[at + 3] += 1
            out[at + 4] += size
            if kind & 128:
                out[at + 5] += 1
        elif base == 19:
            out[at + 6] += 1
        elif base == 18:
            out[at + 7] += 1
        elif base == 3:
            out[at + 8] += 1
        elif base == 9 or base == 11:
            out[at + 12] += 1
        if base == 8:
            out[at + 11] += 1
            if not (fins[0] and fins[1]) and closing == 2:
                closing = 1
        if g[i].flags & 1:
            fins[d] = True
            if fins[0] and fins[1] and closing == 2:
                closing = 0
        if g[i].flags & 16 and not g[i].flags & 6:
            if g[i].w == 0:
                if zero_since[d] < 0:
                    zero_since[d] = g[i].t
            elif zero_since[d] >= 0:
                out[at + 9] += g[i].t - zero_since[d]
                zero_since[d] = -1
        out[at + 10] = max(out[at + 10], g[i].flight)
    for d in range(2):
        if zero_since[d] >= 0:
            out[C0 + S0 * d + 9] += g[n - 1].t - zero_since[d]
    out[1] = closing


@kernel
def account(  # type: ignore[no-untyped-def]
    first, last, starts, order, packets, sack_left, sack_right, room, sample_room, turns, pending, extra, holes, scratch, delays, blocked, given, turns_given, tables, x,
):  # fmt: skip
    """Accounts for the connections first..last-1, writing exchanges from row x on.

    Returns (next connection, next exchange row): stops before a connection whose exchanges might not fit.
    """
    facts = np.zeros(12, np.int64)
    floors = np.zeros(2, np.int64)
    mss = np.zeros(2, np.int64)
    high = np.zeros(2, np.int64)
    times, charge, pending_charge = np.zeros(5, np.int64), np.zeros(CHARGES, np.int64), np.zeros(CHARGES, np.int64)
    for c in range(first, last):
        n = starts[c + 1] - starts[c]
        out = tables.connection[c]
        out[:] = 0
        if n == 0:
            continue
        g = room[:n]
        gather(order[starts[c] : starts[c + 1]], packets, g, facts)
        samples = sample_room[: classify(g, facts, sack_left, sack_right, sample_room, pending, extra, holes)]
        found = given[c + 1] - given[c]
        if found > 0:
            for k in range(found):
                turns[k] = turns_given[given[c] + k]
                turns[k].stop = min(turns[k].stop, n)
        else:
            found = find_turns(g, turns)
        if x + found > tables.exchange.shape[0]:
            return c, x
        _round_trips(samples, floors, scratch, out)
        _count_sides(g, packets.kind, mss, high, out)
        out[2], out[3], out[4] = g[0].t, g[n - 1].t, facts[SCALES_KNOWN]
        if found > 0:
            extra_delays(g, delays)
        if facts[MSS_CLIENT] > 0 and facts[MSS_CLIENT + 1] > 0:
            for side in range(2):
                mss[side] = min(mss[side], min(facts[MSS_CLIENT], facts[MSS_CLIENT + 1]))
        loss_cover(g, blocked)
        total = tables.connection_charges[c]
        total[:] = 0
        out[0] = charge_opening(g, floors, total, times)
        opened, open_end = times[0], times[1]
        out[19] = open_end - opened
        pending_charge[:] = 0
        if out[0] == 0:
            pending_charge[:] = total
        rows = 0
        set_up_ns = np.int64(0)  # of encryption, waited for by the first exchange
        for k in range(found):
            if turns[k].answer < 0 and (turns[k].kind != 0 or not _awaited(g, turns, k, out)):
                continue
            charge_exchange(g, turns, k, samples, floors, delays[0], delays[1], mss, high, blocked, open_end - opened if out[0] == 0 else 0, charge, times)
            if turns[k].kind != 0:
                spent = _of_handshake(g, turns[k].kind, turns[k].stop, charge, times)
                set_up_ns += spent if turns[k].kind != _SIGN_ON and rows == 0 else 0
                for m in range(CHARGES):
                    total[m] += charge[m]
                    if turns[k].kind != _SIGN_ON and rows == 0:
                        pending_charge[m] += charge[m]
                continue
            row = tables.exchange[x]
            row[0], row[1], row[2], row[3], row[4], row[5] = c, times[0], times[1], times[2], times[3], times[4]
            row[6], row[7] = turns[k].request_bytes, turns[k].response_bytes
            row[8], row[9] = set_up_ns if rows == 0 else 0, turns[k].message
            if rows == 0:
                for m in range(CHARGES):  # What the first exchange waited for before it stands with it.
                    charge[m] += pending_charge[m]
                    total[m] -= pending_charge[m]
                if out[0] == 0:
                    row[8] += open_end - opened
            wait = np.int64(0)
            for m in range(CHARGES):
                total[m] += charge[m]
                wait += charge[m]
                tables.exchange_charges[x, m] = charge[m]
            out[20] = max(out[20], wait)
            if times[2] < 0:
                out[17] += 1
            rows += 1
            x += 1
        out[16] = rows
        out[18] = total.sum()
        _pushed(g, turns, found, out)
    return last, x


@kernel
def _of_handshake(g, kind, stop, charge, times):  # type: ignore[no-untyped-def]
    """Turns the charges of a handshake's turn into those of encryption; returns the time from its start to the client's next step."""
    spent = times[4] - times[0]
    if kind == _SIGN_ON:
        return spent
    charge[causes.SERVER_ENCRYPTION] += charge[causes.PROCESSING] + charge[causes.STALL]
    charge[causes.CLIENT_ENCRYPTION] += charge[causes.PACING]
    charge[causes.PROCESSING] = charge[causes.STALL] = charge[causes.PACING] = 0
    if kind == _LAST:
        return spent
    for i in range(stop, g.size):
        if g[i].d == 0 and g[i].n > 0 and g[i].kind & 31 != 19:
            computing = max(np.int64(0), g[i].t - times[4])
            charge[causes.CLIENT_ENCRYPTION] += computing
            return spent + computing
    return spent


@kernel
def _pushed(g, turns, found, out):  # type: ignore[no-untyped-def]
    """Bytes the server sent before it was asked anything."""
    limit = turns[0].first if found > 0 else g.size
    for i in range(limit):
        if g[i].d == 1 and g[i].n > 0 and g[i].kind & 31 == 1:
            out[21] += g[i].n


@kernel
def _awaited(g, turns, k, out):  # type: ignore[no-untyped-def]
    """Whether an unanswered request was waited for: not when the sides parted in order (a stream one way)."""
    if out[1] == 0:
        return False
    i = turns[k].first
    last = g[i].t
    for j in range(i, g.size):
        if g[j].d == 0 and g[j].n > 0:
            last = g[j].t
    # Still sending at the end: a stream one way, or a request that is not whole yet.
    return g[g.size - 1].t - last > 2 * (last - g[i].t) + 1_000_000
