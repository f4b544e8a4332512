"""Connections whose waits only the state of their path explains, as others' traffic filled it: accounted for again."""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2, Uint8s
from yaffle.capture.captured import Capture
from yaffle.errors import Cancelled
from yaffle.exchanges.messages import Messages
from yaffle.ledger.accounts import AccountedFor, Exchanges, OwnAccount
from yaffle.ledger.engine import Workshop, account_some, few_at_once, taken, workshops
from yaffle.ledger.fields import EXCHANGE_FIELDS
from yaffle.ledger.path_observation import (
    OBSERVED,
    idle_paths,
    least_of_hosts,
    least_of_paths,
    observe,
    path_of_connections,
    sample_of_crowds,
    shows_queue,
    states,
    worth_observing,
)
from yaffle.ledger.path_states import FLOOR, NO_FLOOR, PathStates
from yaffle.ledger.standing_queues import (
    TOLD,
    Lived,
    above_their_path,
    delays_by_clock,
    floors_of_standing_queues,
    telling,
)
from yaffle.ledger.workspace import Connections
from yaffle.progress import Progress, go_on

_OBSERVED_ROWS = 1 << 18  # Rows of observed round trips held at once, beside those of the longest connection.
_CONNECTION = EXCHANGE_FIELDS.index("connection")
_WIDE_NS = 5_000_000  # Bounds this far apart leave a wait half told.


class Again(NamedTuple):
    """What accounting again gave: all connections, and the exchanges of those that it was done for."""

    connection: Int64s2
    connection_charges: Int64s2
    kind: Uint8s  # of all packets
    exchanges: list[tuple[Int64s, Exchanges]]  # with their rows among the exchanges of all


def account_by_paths(capture: Capture, own: OwnAccount, messages: Messages, progress: Progress = go_on) -> Again | None:
    """Accounts again where others' traffic filled a path; None where nowhere. Raises Cancelled."""
    count = own.flow.size
    if not count:
        return None
    shops = workshops(own, messages, 2)
    fact = own.fact
    floor_ns = _floors(own)
    filled = np.zeros(count, bool)
    for side in ("client", "server"):
        filled |= shows_queue(fact(f"to_{side}_min_ns"), fact(f"to_{side}_p95_ns"), fact(f"to_{side}_samples"))
    needy = (fact("exchanges") > 0) & ((fact("held_acknowledgements") > 0) | (_doubtful(own) & ~filled) | filled)
    path = path_of_connections(capture.conversations, own.flow)
    wanted = worth_observing(path, filled, needy & ~filled | (fact("held_acknowledgements") > 0))
    if (tried := sample_of_crowds(path, wanted)).size:
        wanted &= ~idle_paths(_observed(capture, own, tried, shops, progress), path, floor_ns)[path]
    of_hosts = least_of_hosts(capture.conversations, own.flow, floor_ns)
    lacking = (floor_ns < 0) & (of_hosts < NO_FLOOR) & (fact("exchanges") > 0)[:, None]
    standing = _standing_queues(capture, own, path, floor_ns, shops, progress)
    chosen = (wanted & needy) | (lacking | (standing < NO_FLOOR)).any(axis=1)
    if not chosen.any():
        return None
    told = observed_states(capture, own, path, wanted, chosen, shops, progress)
    np.minimum(told.places[:, :, FLOOR], standing, out=told.places[:, :, FLOOR])
    return _again(capture, own, messages, few_at_once(np.flatnonzero(chosen)), told, shops, progress)


def _again(
    capture: Capture,
    own: OwnAccount,
    messages: Messages,
    some: list[Int64s],
    told: PathStates,
    shops: list[Workshop],
    progress: Progress,
) -> Again:
    """Accounts for some connections by what their paths tell."""
    connection, charges, kind = own.connection.copy(), own.connection_charges.copy(), own.kind.copy()
    packets = capture.packets._replace(kind=kind)
    begins = np.searchsorted(own.of_exchange("connection"), np.arange(own.flow.size))
    found: list[list[tuple[Int64s, Exchanges]]] = [[] for _ in shops]

    def work(thread: int) -> None:
        shop = shops[thread]
        for few in some[thread :: len(shops)]:
            used = account_some(packets, capture.sack, own, messages, shop, few, told, connection, charges)
            exchanges = taken(shop, used, messages)
            owner = exchanges.facts[:, _CONNECTION]
            rows = begins[owner] + np.arange(used) - np.searchsorted(owner, owner)
            found[thread].append((rows, exchanges))
            if not progress(1.0, "accounting for queues that others fill"):
                raise Cancelled

    with ThreadPoolExecutor(len(shops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(shops))]:
            future.result()
    return Again(connection, charges, kind, [one for of_thread in found for one in of_thread])


def observed_states(
    capture: Capture,
    account_: AccountedFor,
    path: Int64s,
    wanted: Bools,
    asking: Bools,
    shops: list[Workshop] | None = None,
    progress: Progress = go_on,
) -> PathStates:
    """What the connections that are wanted tell those that ask of their paths.

    path: of each connection (path_of_connections); wanted, asking: bool, of each connection.
    """
    shops = shops or [Workshop(int(np.diff(account_.starts).max(initial=0)), 0)]
    floor_ns = _floors(account_)
    of_hosts = least_of_hosts(capture.conversations, account_.flow, floor_ns)
    rows = _observed(capture, account_, np.flatnonzero(wanted), shops, progress)
    return states(rows, path, floor_ns, of_hosts, account_.fact("first_ns"), account_.fact("last_ns"), asking)


def _floors(account_: AccountedFor) -> Int64s2:
    """(connections, 2): least round trip to the client, to the server, ns; -1 unknown."""
    return np.stack([account_.fact("to_client_min_ns"), account_.fact("to_server_min_ns")], axis=1)


def _doubtful(account_: OwnAccount) -> Bools:
    """Connections whose network and server could be told apart badly: their bounds are wide."""
    width = account_.of_exchange("network_high_ns") - account_.of_exchange("network_low_ns")
    return np.bincount(account_.of_exchange("connection"), width >= _WIDE_NS, account_.flow.size) > 0


def _standing_queues(
    capture: Capture, own: OwnAccount, path: Int64s, floor_ns: Int64s2, shops: list[Workshop], progress: Progress
) -> Int64s2:
    """(connections, 2): the least round trip of its path for each connection that lived in a queue; else NO_FLOOR."""
    least, packets = least_of_paths(path, floor_ns), np.diff(own.starts)
    most, samples = (
        np.stack([own.fact(f"to_{side}_{name}") for side in ("client", "server")], axis=1)
        for name in ("max_ns", "samples")
    )
    above = above_their_path(path, least, floor_ns, most, samples)
    rows = delays_told(capture, own, telling(path, above, packets), shops[0], progress)
    lived = Lived(*(own.fact(name) for name in ("first_ns", "last_ns", "handshake_ns")))
    return floors_of_standing_queues(rows, path, least, floor_ns, above, lived)


def delays_told(
    capture: Capture, account_: AccountedFor, chosen: Int64s, shop: Workshop, progress: Progress = go_on
) -> Int64s2:
    """Rows of `delays_by_clock` of these connections, in their order."""
    own, counts = Connections(account_.starts, account_.order), np.diff(account_.starts)
    out = np.empty((int(counts[chosen].max(initial=0)) + _OBSERVED_ROWS, TOLD), np.int64)
    parts, place = [np.empty((0, TOLD), np.int64)], 0
    while place < chosen.size:
        place, used = delays_by_clock(chosen, own, capture.packets, shop.space, out, place)
        parts.append(out[:used].copy())
        if not progress(1.0, "looking at the paths"):
            raise Cancelled
    return np.concatenate(parts)


def _observed(
    capture: Capture, account_: AccountedFor, connections: Int64s, shops: list[Workshop], progress: Progress
) -> Int64s2:
    """Rows of `observe` of these connections, in their order."""
    own, counts = Connections(account_.starts, account_.order), np.diff(account_.starts)

    def some(chosen: Int64s, shop: Workshop) -> Int64s2:
        out = np.empty((3 * int(counts[chosen].max(initial=0)) + 8 + _OBSERVED_ROWS, OBSERVED), np.int64)
        parts, place = [np.empty((0, OBSERVED), np.int64)], 0
        while place < chosen.size:
            place, used = observe(chosen, own, capture.packets, capture.sack, shop.space, out, 0, place)
            parts.append(out[:used].copy())
            if not progress(1.0, "looking at the paths"):
                raise Cancelled
        return np.concatenate(parts)

    with ThreadPoolExecutor(len(shops)) as pool:
        return np.concatenate(list(pool.map(some, np.array_split(connections, len(shops)), shops)))
