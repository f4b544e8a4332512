"""Observes paths that others' transfers fill, and gives each connection on them what all of them tell of its queue.

A path leads from a network of clients through a point to a network of servers (IPv4: 24 bits, IPv6: 64). It is
observed where one connection at least shows a queue and another has waits that its own packets cannot explain.
"""

import numpy as np

from yaffle.arrays import Array, Bools, Int64s, Int64s2, Uint8s, Uint64s
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.kernels import int64, kernel, uint64
from yaffle.ledger.path_states import FIRST, FLOOR, LAST, NO_FLOOR, SIDES, PathStates, no_states
from yaffle.ledger.workspace import Connections, Workspace
from yaffle.transport.classify import told_apart
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.round_trips import BARE, HELD, release_held
from yaffle.transport.segments import FACTS

CONNECTION, SIDE, SENT, AWAY, RTT = range(5)  # columns of what `observe` fills out; times in ns
OBSERVED = 5
_QUEUE_NS = 5_000_000  # Round trips that rise by less are no queue worth looking at.
_LEAST_SAMPLES = 20  # Fewer tell no queue.
_CROWD, _ONE_OF = 512, 16  # On a path of more connections one of so many is looked at first.
_TELLING = 4  # Round trips of one moment.
_RARELY = 0.01
_LOOKED_AT = 1000
_BIN_NS = 10_000_000  # The least of what passed within this is the queue; more is the hosts'.
_LEAST_FALL_NS = 1_000_000
_OCTETS_24 = uint64(0xFFFFFF00)


def networks(high: Uint64s, low: Uint64s, ipv6: Uint8s) -> Uint64s:
    """The network of each address, as one number: IPv4 by 24 bits, IPv6 by 64."""
    return np.asarray(np.where(ipv6 > 0, high, low & _OCTETS_24))


def path_of_connections(flows: Rows, rows: Int64s) -> Int64s:
    """For each connection the number of its path: point, network of its client, network of its server."""
    client, server = (
        networks(high[rows], low[rows], flows.ipv6[rows])
        for high, low in ((flows.a_hi, flows.a_lo), (flows.b_hi, flows.b_lo))
    )
    return _numbered(flows.point[rows], client, server)


def _numbered(*columns: Array) -> Int64s:
    """For each row its number among all that differ, in order of the first column, then of the next ones."""
    number = np.zeros(columns[0].size, np.int64)
    for column in columns:
        place = np.unique(column, return_inverse=True)[1].reshape(-1)
        number = np.unique(number * (1 + place.max(initial=0)) + place, return_inverse=True)[1].reshape(-1)
    return number


def least_of_hosts(flows: Rows, rows: Int64s, floor_ns: Int64s2) -> Int64s2:
    """(connections, 2): the least round trip from the point to the client, to the server; NO_FLOOR without any."""
    found = np.full(floor_ns.shape, NO_FLOOR)
    for side, (high, low) in enumerate(((flows.a_hi, flows.a_lo), (flows.b_hi, flows.b_lo))):
        host = _numbered(flows.point[rows], high[rows], low[rows])
        least = np.full(int(host.max(initial=-1)) + 1, NO_FLOOR)
        known = floor_ns[:, side] >= 0
        np.minimum.at(least, host[known], floor_ns[known, side])
        found[:, side] = least[host]
    return found


def worth_observing(path: Int64s, filled: Bools, needy: Bools) -> Bools:
    """Connections (bool) of paths where one fills a queue and another needs it to be known."""
    count = int(path.max(initial=-1)) + 1
    members, queued, asking = (np.bincount(path, weights, count) for weights in (None, filled, needy))
    return np.asarray(((members >= 2) & (queued >= 1) & (asking >= 1))[path])


def sample_of_crowds(path: Int64s, wanted: Bools) -> Int64s:
    """Some connections (rows) of each path on which very many are wanted: enough to tell whether any queue stood
    there.
    """
    members = np.bincount(path[wanted], minlength=int(path.max(initial=-1)) + 1)
    crowded = np.flatnonzero(wanted & (members > _CROWD)[path])
    order = crowded[np.argsort(path[crowded], kind="stable")]
    starts = np.searchsorted(path[order], path[order], "left")
    return np.sort(order[(np.arange(order.size) - starts) % _ONE_OF == 0])


def idle_paths(rows: Int64s2, path: Int64s, floor_ns: Int64s2) -> Bools:
    """Paths (bool) whose observed connections met no common queue: hardly ever were all round trips of a moment above
    the least.

    rows: from observe, of a sample; path: of each connection; floor_ns: (connections, 2). More connections could only
    lower what the least of a moment is. A moment with fewer than a few round trips tells nothing.
    """
    count = int(path.max(initial=-1)) + 1
    key = path[rows[:, CONNECTION]] * SIDES + rows[:, SIDE]
    rise = rows[:, RTT] - least_of_paths(path, floor_ns)[key]
    time = rows[:, SENT] // _BIN_NS
    order = np.lexsort((time, key))
    key, time, rise = key[order], time[order], rise[order]
    if not key.size:
        return np.zeros(count, bool)
    starts = np.flatnonzero(np.concatenate([[True], (np.diff(key) != 0) | (np.diff(time) != 0)]))
    telling = np.diff(np.append(starts, key.size)) >= _TELLING
    full = telling & (np.minimum.reduceat(rise, starts) >= _QUEUE_NS)
    places = key[starts] // SIDES
    told, queued = np.bincount(places, telling, count), np.bincount(places, full, count)
    return np.asarray((told >= _LEAST_SAMPLES) & (queued < _RARELY * told))


def shows_queue(floor_ns: Int64s, p95_ns: Int64s, samples: Int64s) -> Bools:
    """Whether a connection's round trips to a side rise so far and so often that a queue stood there."""
    return (samples >= _LEAST_SAMPLES) & (floor_ns >= 0) & (p95_ns - floor_ns >= _QUEUE_NS)


def least_of_paths(path: Int64s, floor_ns: Int64s2) -> Int64s:
    """Least round trip of each path to each side (path * SIDES + side); NO_FLOOR where no connection measured it."""
    least = np.full((int(path.max(initial=-1)) + 1) * SIDES, NO_FLOOR)
    for side in range(SIDES):
        known = floor_ns[:, side] >= 0
        np.minimum.at(least, path[known] * SIDES + side, floor_ns[known, side])
    return least


@kernel
def observe(
    chosen: Int64s,
    connections: Connections,
    packets: Columns,
    sack: SackBlocks,
    space: Workspace,
    out: Int64s2,
    begin: int,
    from_connection: int,
) -> tuple[int, int]:
    """Fills out (connection, side, time it set out, way out above the least, round trip) with the round trips of the
    chosen connections. connections: Connections; space: Workspace.

    One row at most a connection, side and BIN_NS: the least. Returns (next connection to observe, rows), before the
    first whose rows might not fit.
    """
    facts = np.zeros(FACTS, np.int64)
    latest = np.full(SIDES, -1, np.int64)
    count = begin
    starts, delays = connections.starts, space.delays
    for place in range(from_connection, chosen.size):
        c = chosen[place]
        n = starts[c + 1] - starts[c]
        if count + 3 * n + 8 > out.shape[0]:
            return place, count
        g, samples = told_apart(connections.order[starts[c] : starts[c + 1]], packets, sack, space.segment, facts)
        extra_delays(g, delays)
        release_held(g, samples, delays)
        floors = np.full(SIDES, NO_FLOOR)
        for k in range(samples.size):
            if samples[k].way < HELD and samples[k].rtt >= 0:
                floors[samples[k].side] = min(floors[samples[k].side], samples[k].rtt)
        latest[:] = -1
        for k in range(samples.size):
            sample = samples[k]
            if sample.way >= HELD or sample.rtt < 0 or sample.bare != BARE:  # None that its host may have held back.
                continue
            side = sample.side
            away = max(int64(0), sample.rtt - floors[side] - max(int64(0), delays[side, sample.i]))
            at = latest[side]
            if at >= 0 and out[at, SENT] // _BIN_NS == (sample.t - sample.rtt) // _BIN_NS:
                if away < out[at, AWAY]:
                    out[at, AWAY], out[at, RTT] = away, sample.rtt
                continue
            out[count, CONNECTION], out[count, SIDE], out[count, SENT] = c, side, sample.t - sample.rtt
            out[count, AWAY], out[count, RTT] = away, sample.rtt
            latest[side] = count
            count += 1
    return chosen.size, count


def states(
    rows: Int64s2, path: Int64s, floor_ns: Int64s2, of_hosts: Int64s2, first_ns: Int64s, last_ns: Int64s, asking: Bools
) -> PathStates:
    """What the observed rows tell each connection that asks.

    rows: from observe; path: of each connection; floor_ns: (connections, 2) least round trips, -1 unknown; of_hosts:
    (connections, 2) what other connections of the same host measured, for those that measured nothing themselves;
    first_ns, last_ns: of each connection; asking: bool, which connections shall be told.
    """
    count = path.size
    c, side, time, away = rows[:, : AWAY + 1].T
    key = path[c] * SIDES + side
    least = least_of_paths(path, floor_ns)
    order = np.lexsort((time, key))
    key, time, rise, c, side = key[order], time[order], (rows[:, RTT] - least[key])[order], c[order], side[order]
    lowered = np.full_like(floor_ns, NO_FLOOR)
    lived = np.ascontiguousarray(first_ns), np.ascontiguousarray(last_ns)  # One form of the kernel for all.
    _floors_of_the_path(key, time, rise, c, least, floor_ns, *lived, path, lowered)
    lowered[floor_ns < 0] = of_hosts[floor_ns < 0]
    away = away[order] + np.where(lowered[c, side] < NO_FLOOR, floor_ns[c, side] - lowered[c, side], 0)
    begins = np.concatenate([[True], (np.diff(key) != 0) | (np.diff(time // _BIN_NS) != 0)])
    bins = np.flatnonzero(begins) if key.size else np.empty(0, np.int64)
    away = np.minimum.reduceat(away, bins) if bins.size else away
    key, time = key[bins], time[bins]
    found = no_states(count)
    found.places[:, :, FLOOR] = lowered
    for s in range(SIDES):
        wanted = path[asking] * SIDES + s
        found.places[asking, s, FIRST], found.places[asking, s, LAST] = (
            np.searchsorted(key, wanted, "left"),
            np.searchsorted(key, wanted, "right"),
        )
    return PathStates(found.places, np.stack([time, away], axis=1))


@kernel
def _floors_of_the_path(
    key: Int64s,
    time: Int64s,
    rise: Int64s,
    owner: Int64s,
    least: Int64s,
    floor_ns: Int64s2,
    first_ns: Int64s,
    last_ns: Int64s,
    path: Int64s,
    lowered: Int64s2,
) -> None:
    """Lowers those of connections that lived in a queue throughout to the least round trip of their path.

    A host that is further away than its neighbors is no queue: others' round trips must have been up as well, by
    half of it at least, nearly whenever they were seen meanwhile (19 of 20). At most _LOOKED_AT of them are looked at,
    evenly, so that crowds do not cost the square of their number.
    key, time, rise, owner: of the observed rows, sorted by key, then by time; lowered: (connections, 2).
    """
    for c in range(path.size):
        for side in range(SIDES):
            k = path[c] * SIDES + side
            gap = floor_ns[c, side] - least[k]
            if floor_ns[c, side] < 0 or least[k] >= NO_FLOOR or gap < max(_LEAST_FALL_NS, least[k] // 20):
                continue
            a, b = np.searchsorted(key, k), np.searchsorted(key, k, side="right")
            low, high = a + np.searchsorted(time[a:b], first_ns[c]), a + np.searchsorted(time[a:b], last_ns[c])
            others = below = 0
            for row in range(low, high, max(1, (high - low) // _LOOKED_AT)):
                if owner[row] != c:
                    others += 1
                    below += 1 if rise[row] * 2 < gap else 0
            if others >= _LEAST_SAMPLES and below <= others // 20:
                lowered[c, side] = least[k]
