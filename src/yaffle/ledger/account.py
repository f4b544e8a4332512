"""The account of every TCP connection: one kernel that gathers, classifies, finds exchanges and charges them."""

import numpy as np

from yaffle.arrays import Int64s, Uint8s
from yaffle.capture.packets import ACK, FIN, RST, SYN, Columns, SackBlocks
from yaffle.exchanges.turns import TurnRows, find_turns
from yaffle.kernels import int64, kernel, leaf
from yaffle.ledger.bounds import BOUNDED, DOUBTS
from yaffle.ledger.exchange_rows import ChargeRoom, Tables, exchanges_of
from yaffle.ledger.fields import C0, CHARGES, COMPLETE, CONNECTION_FIELDS, OPEN, ORDERLY, RESET, S0, SIDE_FIELDS
from yaffle.ledger.openings import charge_opening, first_measurement
from yaffle.ledger.path_states import FLOOR, PathStates, release_by_path
from yaffle.ledger.selection import select
from yaffle.ledger.transfers import loss_cover
from yaffle.ledger.trips import LEAST, STANDING, STATES, TICK, TURNS, UNKNOWN, Ways, survey_ways
from yaffle.ledger.workspace import Connections, Given, Workspace
from yaffle.prefetch import prefetch
from yaffle.transport import kinds
from yaffle.transport.classify import told_apart
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.kinds import repeats
from yaffle.transport.round_trips import BARE, FEW_BARE, HELD, HOLD_NS, OPENING, Samples, release_held
from yaffle.transport.segments import FACTS, MISSED_CLIENT, MSS_CLIENT, SCALES_KNOWN, SIZE_CLIENT, Segments
from yaffle.transport.taking_turns import release_by_turns

# Places of the facts in a connection's row, by name; those of a side are counted from where its block begins.
_C = CONNECTION_FIELDS.index
_OPENING, _CLOSING, _FIRST_NS, _LAST_NS, _SCALES_KNOWN = (
    _C("opening"),
    _C("closing"),
    _C("first_ns"),
    _C("last_ns"),
    _C("scales_known"),
)
_HANDSHAKE, _EXCHANGES, _WAIT, _SET_UP_NS = _C("handshake_ns"), _C("exchanges"), _C("wait_ns"), _C("set_up_ns")
_PUSHED_BYTES = _C("pushed_bytes")
_TO_CLIENT, _TO_SERVER = _C("to_client_min_ns"), _C("to_server_min_ns")  # least, median, p95, greatest
_SAMPLES, _EARLY_LATE, _HELD = _C("to_client_samples"), _C("to_client_early_min_ns"), _C("held_acknowledgements")
_S = SIDE_FIELDS.index
_PACKETS, _PAYLOAD, _UNIQUE, _AGAIN, _AGAIN_BYTES = (
    _S("packets"),
    _S("payload_bytes"),
    _S("unique_bytes"),
    _S("retransmitted_packets"),
    _S("retransmitted_bytes"),
)
_SPURIOUS, _COPIES, _OUT_OF_ORDER, _DUPLICATE_ACKS = (
    _S("spurious_packets"),
    _S("duplicate_packets"),
    _S("out_of_order_packets"),
    _S("duplicate_acks"),
)
_ZERO_WINDOW, _MOST_IN_FLIGHT, _RESETS, _KEEP_ALIVES = (
    _S("zero_window_ns"),
    _S("max_in_flight_bytes"),
    _S("resets"),
    _S("keep_alives"),
)
_CLOSING_REPEATS, _SEGMENTS, _SEGMENT_BYTES = _S("closing_repeats"), _S("segments"), _S("segment_bytes")
_TIMEOUTS, _AFTER_TIMEOUT, _FAST, _TAIL, _UNSEEN_BYTES = (
    _S("timeouts"),
    _S("after_timeout"),
    _S("fast_retransmissions"),
    _S("tail_probes"),
    _S("unseen_bytes"),
)
_COUNTED_AS = np.full(kinds.KIND_MASK + 1, -1)  # The column of a side that counts segments of a kind.
for _kind, _column in (
    (kinds.REPEAT_TIMEOUT, _TIMEOUTS), (kinds.REPEAT_AFTER, _AFTER_TIMEOUT), (kinds.REPEAT_FAST, _FAST),
    (kinds.REPEAT_TAIL, _TAIL),
    (kinds.COPY, _COPIES), (kinds.OUT_OF_ORDER, _OUT_OF_ORDER), (kinds.DUPLICATE_ACK, _DUPLICATE_ACKS),
    (kinds.KEEP_ALIVE, _KEEP_ALIVES), (kinds.WINDOW_PROBE, _KEEP_ALIVES), (kinds.RESET, _RESETS),
):  # fmt: skip
    _COUNTED_AS[_kind] = _column
_ANSWERED_SOON_NS = 20_000_000  # A SYN-ACK this soon after a repeated SYN answers it; no timer of its own expired.
_FIRST = int64(0)


@kernel
def _round_trips(samples: Samples, floors: Int64s, values: Int64s, out: Int64s) -> None:
    """Least, median, 95th percentile and greatest of the samples to each side."""
    count, opening = samples.size, np.full(2, -1, np.int64)
    for side in range(2):
        floors[side] = UNKNOWN
        at = _TO_CLIENT if side == 0 else _TO_SERVER
        k, measured = 0, False
        least, most = UNKNOWN, int64(-1)
        for i in range(count):
            if samples[i].side != side:
                continue
            way = samples[i].way
            out[_HELD] += way == HELD
            if way == OPENING:
                opening[side] = samples[i].rtt
            if samples[i].rtt >= 0 and way < HELD:
                # One that may have been held back says nothing alone, where it took as long as hosts hold them back.
                measured |= samples[i].bare == BARE or (samples[i].bare >= FEW_BARE and samples[i].rtt < HOLD_NS)
                values[k] = samples[i].rtt
                least, most = min(least, values[k]), max(most, values[k])
                k += 1
        if not measured:
            k = 0  # Answers took longer than the way: they alone tell no round trip.
        out[_SAMPLES + side] = k
        early, late = UNKNOWN, UNKNOWN  # floors of the first and of the last eighth of the samples
        few = min(k, max(6, k // 8))
        for i in range(few):
            early, late = min(early, values[i]), min(late, values[k - 1 - i])
        out[_EARLY_LATE + 2 * side] = early if k > 0 else -1
        out[_EARLY_LATE + 1 + 2 * side] = late if k > 0 else -1
        if k == 0:
            out[at : at + 4] = -1
            continue
        floors[side] = least
        middle, high = (k + 1) // 2 - 1, (95 * k + 99) // 100 - 1  # Nearest rank, as everywhere.
        out[at], out[at + 1], out[at + 3] = least, select(values, _FIRST, k, middle), most
        out[at + 2] = select(values, middle, k, high)
    out[_HANDSHAKE] = opening[1] + max(int64(0), opening[0]) if opening[1] >= 0 else -1


@kernel
def _count_sides(
    g: Segments, facts: Int64s, kind_of_packet: Uint8s, mss: Int64s, high: Int64s, closings: Int64s, out: Int64s
) -> None:
    """Totals of each side, and how the connection closed, by which segments; largest segments and windows; the kinds go
    to the packets.
    """
    n = g.size
    zero_since = np.full(2, -1, np.int64)
    fins = np.zeros(2, np.bool_)
    asked_again = int64(-(1 << 60))  # when the client's SYN came again
    closing = OPEN
    mss[:] = 536
    high[:] = 0
    closings[:] = -1
    for i in range(n):
        prefetch(kind_of_packet, g[min(i + 16, n - 1)].row)
        kind_of_packet[g[i].row] = g[i].kind
        d = g[i].d
        at = C0 + S0 * d
        kind = g[i].kind
        base = kind & kinds.KIND_MASK
        size = g[i].n
        if not g[i].flags & (SYN | RST):
            high[d] = max(high[d], g[i].w)
        out[at + _PACKETS] += 1
        out[at + _SEGMENTS] += g[i].parts
        out[at + _PAYLOAD] += size
        if base == kinds.DATA or base == kinds.CLOSE or base == kinds.OUT_OF_ORDER or kind & kinds.FIRST_UNSEEN:
            out[at + _UNIQUE] += size if kind & kinds.FIRST_UNSEEN else size - g[i].again
        elif repeats(kind):
            out[at + _UNIQUE] += size - g[i].again
        if base == kinds.REPEAT_CLOSE:
            out[at + _CLOSING_REPEATS] += 1  # A bare FIN sent again delays nobody: counted apart.
        elif repeats(kind):
            out[at + _AGAIN] += 1
            out[at + _AGAIN_BYTES] += g[i].again
            if kind & kinds.SPURIOUS:
                out[at + _SPURIOUS] += 1
            if base == kinds.REPEAT_OPEN:  # A SYN-ACK soon after a client's second SYN answers that, no timer expired.
                out[at + _TIMEOUTS] += d == 0 or g[i].t - asked_again > _ANSWERED_SOON_NS
                if d == 0:
                    asked_again = g[i].t
        elif base == kinds.RESET and not (fins[0] and fins[1]) and closing == OPEN:
            closing = RESET
        if _COUNTED_AS[base] >= 0:
            out[at + _COUNTED_AS[base]] += 1
        if g[i].flags & (FIN | RST) and closings[d] < 0 and base != kinds.COPY:
            closings[d] = i
        if g[i].flags & FIN:
            fins[d] = True
            if fins[0] and fins[1] and closing == OPEN:
                closing = ORDERLY
        if g[i].flags & ACK and not g[i].flags & (SYN | RST):
            if g[i].w == 0:
                if zero_since[d] < 0:
                    zero_since[d] = g[i].t
            elif zero_since[d] >= 0:
                out[at + _ZERO_WINDOW] += g[i].t - zero_since[d]
                zero_since[d] = -1
        out[at + _MOST_IN_FLIGHT] = max(out[at + _MOST_IN_FLIGHT], g[i].flight)
    for d in range(2):
        if zero_since[d] >= 0:
            out[C0 + S0 * d + _ZERO_WINDOW] += g[n - 1].t - zero_since[d]
        out[C0 + S0 * d + _UNSEEN_BYTES] = facts[MISSED_CLIENT + d]
        out[C0 + S0 * d + _SEGMENT_BYTES] = facts[SIZE_CLIENT + d]
        mss[d] = max(mss[d], facts[SIZE_CLIENT + d])
    out[_CLOSING] = closing


@kernel
def account(
    chosen: Int64s,
    first: int,
    connections: Connections,
    packets: Columns,
    sack: SackBlocks,
    space: Workspace,
    given: Given,
    paths: PathStates,
    tables: Tables,
    x: int,
) -> tuple[int, int]:
    """Accounts for the chosen connections from the one at place `first` on, writing exchanges from row x on.

    Returns (next place, next exchange row): stops before a connection whose exchanges might not fit.
    """
    starts, turns, delays = connections.starts, space.turns, space.delays
    scratch, telling, blocked = space.scratch, space.telling, space.blocked
    facts = np.zeros(FACTS, np.int64)
    floors = np.zeros(2, np.int64)
    mss = np.zeros(2, np.int64)
    high = np.zeros(2, np.int64)
    state = np.zeros((2, STATES), np.int64)
    times = np.zeros(5, np.int64)
    room = ChargeRoom(
        np.zeros(CHARGES, np.int64),
        np.zeros(CHARGES, np.int64),
        np.zeros(DOUBTS, np.int64),
        np.zeros(2 * len(BOUNDED), np.int64),
        times,
        np.zeros(2, np.int64),
    )
    for place in range(first, chosen.size):
        c = chosen[place]
        n = starts[c + 1] - starts[c]
        out = tables.connection[c]
        out[:] = 0
        if n == 0:
            continue
        g, samples = told_apart(connections.order[starts[c] : starts[c + 1]], packets, sack, space.segment, facts)
        found = given.starts[c + 1] - given.starts[c]
        if found > 0:
            for k in range(found):
                turns[k] = given.turns[given.starts[c] + k]
                turns[k].stop = min(turns[k].stop, n)
        else:
            found = find_turns(g, turns)
        if _one_way(g):
            found = 0  # What was asked or what was answered is not here: nobody's wait can be told.
        if x + found > tables.exchange.shape[1]:
            return place, x
        state[0, TICK], state[1, TICK] = ticks = extra_delays(g, delays)
        release_held(g, samples, delays)
        release_by_path(samples, delays, paths, c)
        state[0, TURNS], state[1, TURNS] = release_by_turns(g, samples, delays, ticks)
        _round_trips(samples, floors, scratch, out)
        for side in range(2):  # It never saw its path without a queue, or not at all; others did.
            state[side, STANDING] = 0
            if paths.places[c, side, FLOOR] < floors[side]:
                state[side, STANDING] = floors[side] - paths.places[c, side, FLOOR] if floors[side] < UNKNOWN else 0
                floors[side] = out[_TO_CLIENT if side == 0 else _TO_SERVER] = paths.places[c, side, FLOOR]
        _count_sides(g, facts, packets.kind, mss, high, room.closings, out)
        out[_FIRST_NS], out[_LAST_NS], out[_SCALES_KNOWN] = g[0].t, g[n - 1].t, facts[SCALES_KNOWN]
        if facts[MSS_CLIENT] > 0 and facts[MSS_CLIENT + 1] > 0:
            for side in range(2):
                mss[side] = min(mss[side], min(facts[MSS_CLIENT], facts[MSS_CLIENT + 1]))
        ways = Ways(samples, delays, state, telling, paths, c)
        if found > 0:
            for side in range(2):  # What stands behind n is another's.
                state[side, LEAST] = floors[side]
                survey_ways(samples, side, delays[side, :n], state[side], telling[side], scratch)
        loss_cover(g, blocked)
        total = tables.connection_charges[c]
        total[:] = 0
        out[_OPENING] = charge_opening(g, delays[0], floors, total, times)
        opened, open_end = times[0], times[1]
        out[_SET_UP_NS] = open_end - opened
        measured = opened_ns = int64(0)
        if out[_OPENING] == COMPLETE:
            measured, opened_ns = first_measurement(g, delays[0], opened, open_end), open_end - opened
        rows = exchanges_of(
            g, turns, found, ways, mss, high, blocked, measured, opened_ns, space.cutting, room, out, total, tables, x
        )
        x += rows
        out[_EXCHANGES] = rows
        out[_WAIT] = total.sum()
        _pushed(g, turns, found, out)
    return chosen.size, x


@leaf
def _one_way(g: Segments) -> bool:
    """Whether only one side's packets are here, though they acknowledge what the other sent."""
    for i in range(g.size):
        if g[i].d != g[0].d:
            return False
    return g[g.size - 1].flags & ACK > 0 or g[0].d == 1


@leaf
def _pushed(g: Segments, turns: TurnRows, found: int, out: Int64s) -> None:
    """Bytes the server sent before it was asked anything."""
    limit = turns[0].first if found > 0 else g.size
    for i in range(limit):
        if g[i].d == 1 and g[i].n > 0 and g[i].kind & kinds.KIND_MASK == kinds.DATA:
            out[_PUSHED_BYTES] += g[i].n
