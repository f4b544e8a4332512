"""Runs the account over all TCP connections of a capture, on both cores, with progress."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from yaffle.arrays import Bools, Int8s, Int32s, Int64s, Int64s2, runs_of
from yaffle.capture.captured import Capture
from yaffle.capture.packets import MARK_FROM_B, Columns
from yaffle.errors import Cancelled
from yaffle.exchanges.messages import Messages
from yaffle.kernels import kernel, uint16
from yaffle.ledger.account import CHARGES, CONNECTION_FIELDS, EXCHANGE_FIELDS, SIDE_FIELDS, WIDTH, Tables, account
from yaffle.ledger.orientation import orient
from yaffle.ledger.path_observation import (
    OBSERVED,
    idle_paths,
    least_of_hosts,
    observe,
    path_of_connections,
    sample_of_crowds,
    shows_queue,
    states,
    worth_observing,
)
from yaffle.ledger.path_states import NO_FLOOR, PathStates, no_states
from yaffle.ledger.workspace import Connections, Given, workspace
from yaffle.prefetch import prefetch
from yaffle.progress import Progress, go_on
from yaffle.room import Room

_EXCHANGE_ROOM = 65_536  # Rows to begin with; grows as needed.
_OBSERVED_ROWS = 1 << 18  # Rows of observed round trips held at once, beside those of the longest connection.
_WIDE_NS = 5_000_000  # Bounds this far apart leave a wait half told.
_AT_ONCE = 64  # Connections accounted for again in one call.
_PACKETS_A_STEP = 100_000  # Connections are worked on in steps of about this many packets, so that stopping is quick.


@dataclass
class Account:
    """What the engine found. Rows of `connection` are TCP conversations; `flow` says which."""

    flow: Int64s  # conversation row of each connection
    starts: Int64s  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Int32s  # packet rows, connection by connection, in order of capture
    connection: Int64s2  # (n, WIDTH): CONNECTION_FIELDS, then SIDE_FIELDS of the client, then of the server
    connection_charges: Int64s2  # ns (n, CHARGES)
    exchange: Int64s2  # (m, EXCHANGE_FIELDS), each column contiguous
    exchange_charges: Int64s2  # ns (m, CHARGES)
    how: Int8s  # per conversation: how its client was told

    def fact(self, name: str) -> Int64s:
        """A column of the connections."""
        return np.asarray(self.connection[:, CONNECTION_FIELDS.index(name)])

    def only(self, c: int) -> "Account":
        """The facts of one connection."""
        return replace(self, connection=self.connection[c : c + 1])

    def side(self, side: int, name: str) -> Int64s:
        """A column of one side: 0 from the client, 1 from the server."""
        return np.asarray(
            self.connection[:, len(CONNECTION_FIELDS) + side * len(SIDE_FIELDS) + SIDE_FIELDS.index(name)]
        )

    def of_exchange(self, name: str) -> Int64s:
        """A column of the exchanges."""
        return np.asarray(self.exchange[:, EXCHANGE_FIELDS.index(name)])


@dataclass(frozen=True)
class KnownAccount:
    """That of a former reading of the same capture, when it was shorter."""

    rows: Int64s  # of each connection now, the one that it was then; -1 for a new one, and where packets came
    messages: Messages
    account: Account  # by the connections' own packets alone


class _Workshop:
    """Room of one thread, for the longest connection it meets."""

    def __init__(self, longest: int, most_messages: int) -> None:
        self.space = workspace(longest, most_messages)
        room = min(_EXCHANGE_ROOM, longest + most_messages)
        self.exchange, self.exchange_charges = (
            np.zeros((len(EXCHANGE_FIELDS), room), np.int64).T,
            np.zeros((CHARGES, room), np.int64).T,
        )


@dataclass(frozen=True)
class Arrangement:
    """TCP connections with their packets side by side, told which end is the client."""

    flow: Int64s  # conversation row of each connection
    starts: Int64s  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Int32s  # packet rows, in order of capture within each connection
    how: Int8s  # per conversation: how its client was told


def arrange(capture: Capture, room: Room | None = None) -> Arrangement:
    """Orients every conversation and puts the packets of each connection together. Sets `direction` of the packets."""
    room = room or Room()
    packets, flows = capture.packets, capture.conversations
    b_client, how = orient(flows)
    swap_ends(flows, b_client)
    tcp = np.flatnonzero(flows.protocol == 6)
    number = np.full(flows.point.size, -1, np.int32)
    number[tcp] = np.arange(tcp.size, dtype=np.int32)
    counts = _packets_of_each(packets.flow, flows.point.size)[tcp]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    order = room.empty(int(starts[-1]), np.int32 if packets.flow.size < 1 << 31 else np.int64)
    if capture.turned_rows > 0 and not np.array_equal(b_client[: capture.turned.size], capture.turned):
        capture.own("head")  # Packets that another capture has, too, go the other way now.
    told = packets.time_ns.size if capture.turned_rows < 0 else capture.turned_rows
    _arrange(capture.packets, b_client, number, told, starts[:-1].copy(), order)
    if capture.turned_rows < 0:
        _tell_senders(capture.packets)
    capture.turned = b_client
    return Arrangement(tcp.astype(np.int64), starts, order, how)


def account_all(
    capture: Capture, arranged: Arrangement, messages: Messages, progress: Progress = go_on, threads: int = 2
) -> Account:
    """Accounts for each TCP connection: by its messages where those are known, else by turns.

    Sets `kind` of the packets. Raises Cancelled when `progress` says so.
    """
    account_ = own_accounts(capture, arranged, messages, progress, threads)
    account_by_paths(capture, account_, messages, progress)
    return account_


def own_accounts(
    capture: Capture,
    arranged: Arrangement,
    messages: Messages,
    progress: Progress = go_on,
    threads: int = 2,
    known: KnownAccount | None = None,
    room: Room | None = None,
) -> Account:
    """The account of each TCP connection by its own packets alone; what is known already is taken over.

    room: where exchanges are put.

    Sets `kind` of the packets. Raises Cancelled when `progress` says so.
    """
    tcp, starts, order = arranged.flow, arranged.starts, arranged.order
    room = room or Room()
    connection = np.zeros((tcp.size, WIDTH), np.int64)
    charges = np.zeros((tcp.size, CHARGES), np.int64)
    steps = runs_of(starts, _PACKETS_A_STEP) if known is None else _runs(np.flatnonzero(known.rows < 0))
    paths = no_states(tcp.size)
    nothing = (np.empty((0, len(EXCHANGE_FIELDS)), np.int64), np.empty((0, CHARGES), np.int64))
    exchanges, theirs = [nothing[0]] * max(1, len(steps)), [nothing[1]] * max(1, len(steps))
    workshops = _workshops(arranged, messages, min(threads, max(1, len(steps))))
    done, total = [0], max(1, sum(int(starts[last] - starts[first]) for first, last in steps))

    def work(thread: int) -> None:
        shop = workshops[thread]
        for step in range(thread, len(steps), len(workshops)):
            used = _account_range(capture, arranged, messages, shop, steps[step], paths, connection, charges)
            exchanges[step] = _by_column([shop.exchange[:used]], room)
            theirs[step] = _by_column([shop.exchange_charges[:used]], room)
            done[0] += int(starts[steps[step][1]] - starts[steps[step][0]])
            if not progress(done[0] / total, "accounting for every wait"):
                raise Cancelled

    with ThreadPoolExecutor(len(workshops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(workshops))]:
            future.result()
    exchange, exchange_charges = _by_column(exchanges, room), _by_column(theirs, room)
    found = Account(tcp, starts, order, connection, charges, exchange, exchange_charges, arranged.how)
    return found if known is None else _with_known(found, messages, known)


@kernel
def _lay(table: Int64s2, to: Int64s, anew: Int64s2, also_to: Int64s, before: Int64s2, kept: Int64s) -> None:
    """Puts all exchanges of one table and some of another one where they belong. A row a column of them."""
    for column in range(table.shape[0]):
        for k in range(to.size):
            table[column, to[k]] = anew[column, k]
        for k in range(kept.size):
            table[column, also_to[k]] = before[column, kept[k]]


def _with_known(found: Account, messages: Messages, known: KnownAccount) -> Account:
    """The account of what changed, with that of the rest; exchanges in order of their connections."""
    former = known.account
    same = np.flatnonzero(known.rows >= 0)
    found.connection[same] = former.connection[known.rows[same]]
    found.connection_charges[same] = former.connection_charges[known.rows[same]]
    now = np.full(former.flow.size, -1)
    now[known.rows[same]] = same
    was = former.of_exchange("connection")
    kept = np.flatnonzero(now[was] >= 0)
    whose = np.concatenate([found.of_exchange("connection"), now[was[kept]]])
    place = np.empty(whose.size, np.int64)  # of each row in order of connections, in which both stand already
    place[np.argsort(whose, kind="stable")] = np.arange(whose.size)
    fresh, kept_at = np.split(place, [found.exchange.shape[0]])
    exchange = np.empty((len(EXCHANGE_FIELDS), whose.size), np.int64).T
    charges = np.empty((CHARGES, whose.size), np.int64).T
    tables = (exchange, found.exchange, former.exchange), (charges, found.exchange_charges, former.exchange_charges)
    for table, anew, before in tables:
        _lay(table.T, fresh, anew.T, kept_at, before.T, kept)
    told = kept_at[former.of_exchange("message")[kept] >= 0]
    owner, column = whose[np.argsort(place)][told], EXCHANGE_FIELDS.index("message")
    exchange[told, column] += messages.starts[owner] - known.messages.starts[known.rows[owner]]
    exchange[kept_at, EXCHANGE_FIELDS.index("connection")] = now[was[kept]]
    return replace(found, exchange=exchange, exchange_charges=charges)


def _workshops(arranged: "Arrangement | Account", messages: Messages, count: int) -> "list[_Workshop]":
    """Room for so many threads."""
    longest = int(np.diff(arranged.starts).max(initial=0))
    most_messages = int(np.diff(messages.starts).max(initial=0))
    return [_Workshop(longest, most_messages) for _ in range(count)]


def account_by_paths(capture: Capture, account_: Account, messages: Messages, progress: Progress = go_on) -> None:
    """Accounts again for connections whose waits only the state of their path explains, where others' traffic filled
    it: their rows are replaced.
    """
    count = account_.flow.size
    if not count:
        return
    shops = _workshops(account_, messages, 2)
    fact = account_.fact
    floor_ns = _floors(account_)
    filled = np.zeros(count, bool)
    for side in ("client", "server"):
        filled |= shows_queue(fact(f"to_{side}_min_ns"), fact(f"to_{side}_p95_ns"), fact(f"to_{side}_samples"))
    needy = (fact("exchanges") > 0) & ((fact("held_acknowledgements") > 0) | (_doubtful(account_) & ~filled) | filled)
    path = path_of_connections(capture.conversations, account_.flow)
    wanted = worth_observing(path, filled, needy & ~filled | (fact("held_acknowledgements") > 0))
    if (tried := sample_of_crowds(path, wanted)).size:
        wanted &= ~idle_paths(_observed(capture, account_, tried, shops[0], progress), path, floor_ns)[path]
    of_hosts = least_of_hosts(capture.conversations, account_.flow, floor_ns)
    lacking = (floor_ns < 0) & (of_hosts < NO_FLOOR) & (fact("exchanges") > 0)[:, None]
    again = (wanted & needy) | lacking.any(axis=1)
    if not again.any():
        return
    told = observed_states(capture, account_, path, wanted, again, shops[0], progress)
    owner = account_.of_exchange("connection")
    begins = np.searchsorted(owner, np.arange(count))
    runs = _runs(np.flatnonzero(again))

    def work(thread: int) -> None:
        shop = shops[thread]
        for first, last in runs[thread :: len(shops)]:
            used = _account_range(
                capture, account_, messages, shop, (first, last), told, account_.connection, account_.connection_charges
            )  # fmt: skip
            rows = slice(int(begins[first]), int(begins[first]) + used)
            account_.exchange[rows], account_.exchange_charges[rows] = (
                shop.exchange[:used],
                shop.exchange_charges[:used],
            )
            if not progress(1.0, "accounting for queues that others fill"):
                raise Cancelled

    with ThreadPoolExecutor(len(shops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(shops))]:
            future.result()


def observed_states(
    capture: Capture,
    account_: Account,
    path: Int64s,
    wanted: Bools,
    asking: Bools,
    shop: "_Workshop | None" = None,
    progress: Progress = go_on,
) -> PathStates:
    """What the connections that are wanted tell those that ask of their paths.

    path: of each connection (path_of_connections); wanted, asking: bool, of each connection.
    """
    shop = shop or _Workshop(int(np.diff(account_.starts).max(initial=0)), 0)
    floor_ns = _floors(account_)
    of_hosts = least_of_hosts(capture.conversations, account_.flow, floor_ns)
    rows = _observed(capture, account_, np.flatnonzero(wanted), shop, progress)
    return states(rows, path, floor_ns, of_hosts, account_.fact("first_ns"), account_.fact("last_ns"), asking)


def _floors(account_: Account) -> Int64s2:
    """(connections, 2): least round trip to the client, to the server, ns; -1 unknown."""
    return np.stack([account_.fact("to_client_min_ns"), account_.fact("to_server_min_ns")], axis=1)


def _runs(chosen: Int64s) -> list[tuple[int, int]]:
    """(first, one after the last) of connections that follow each other, a few at once: each call costs, too."""
    parts = np.split(chosen, np.flatnonzero(np.diff(chosen) != 1) + 1)
    return [
        (int(few[0]), int(few[-1]) + 1)
        for part in parts
        if part.size
        for few in np.array_split(part, -(-part.size // _AT_ONCE))
    ]


def _doubtful(account_: Account) -> Bools:
    """Connections whose network and server could be told apart badly: their bounds are wide."""
    width = account_.of_exchange("network_high_ns") - account_.of_exchange("network_low_ns")
    return np.bincount(account_.of_exchange("connection"), width >= _WIDE_NS, account_.flow.size) > 0


def _observed(
    capture: Capture, account_: Account, connections: Int64s, shop: "_Workshop", progress: Progress
) -> Int64s2:
    """Rows of `observe` of these connections."""
    most = int(np.diff(account_.starts)[connections].max(initial=0))
    out = np.empty((3 * most + 8 + _OBSERVED_ROWS, OBSERVED), np.int64)
    parts, place = [np.empty((0, OBSERVED), np.int64)], 0
    own = Connections(account_.starts, account_.order)
    while place < connections.size:
        place, used = observe(connections, own, capture.packets, capture.sack, shop.space, out, 0, place)
        parts.append(out[:used].copy())
        if not progress(1.0, "looking at the paths"):
            raise Cancelled
    return np.concatenate(parts)


def _account_range(
    capture: Capture,
    arranged: "Arrangement | Account",
    messages: Messages,
    shop: "_Workshop",
    chosen: tuple[int, int],
    paths: PathStates,
    connection: Int64s2,
    charges: Int64s2,
) -> int:
    """Accounts for connections from the first to before the last; how many rows of exchanges stand in the workshop
    then.
    """
    first, last = chosen
    connections, given = Connections(arranged.starts, arranged.order), Given(messages.starts, messages.turns)
    used = 0
    while first < last:
        tables = Tables(connection, charges, shop.exchange.T, shop.exchange_charges.T)
        first, used = account(
            first, last, connections, capture.packets, capture.sack, shop.space, given, paths, tables, used
        )
        if first < last:
            more = np.zeros_like(shop.exchange), np.zeros_like(shop.exchange_charges)
            shop.exchange, shop.exchange_charges = (
                _by_column([shop.exchange, more[0]]),
                _by_column([shop.exchange_charges, more[1]]),
            )
    return used


@kernel
def _packets_of_each(flow: Int32s, conversations: int) -> Int64s:
    counts = np.zeros(conversations, np.int64)
    for i in range(flow.size):
        if flow[i] >= 0:
            counts[flow[i]] += 1
    return counts


@kernel
def _arrange(packets: Columns, turned: Bools, number: Int32s, told: int, place: Int64s, order: Int32s) -> None:
    """Sorts the packet rows by connection, in order of capture, and gives each its direction as from the client.

    turned: whether end `b` is the client; number: connection of each conversation, -1 for none; told: so many heads in
    front are as they should be; place: where the next packet of each connection goes.
    """
    last = packets.flow.size - 1
    for i in range(packets.flow.size):
        flow = packets.flow[i]
        if flow < 0:
            continue
        soon = packets.flow[min(i + 16, last)]
        if soon >= 0 and number[soon] >= 0:
            prefetch(order, place[number[soon]])
        if turned[flow]:
            packets.direction[i] ^= 1
            if i >= told:
                packets.head[i].marks ^= MARK_FROM_B
        c = number[flow]
        if c >= 0:
            order[place[c]] = i
            place[c] += 1


@kernel
def _tell_senders(packets: Columns) -> None:
    """Writes to heads who sent each packet, whatever they told."""
    for i in range(packets.flow.size):
        marks = packets.head[i].marks & ~uint16(MARK_FROM_B)
        packets.head[i].marks = marks | uint16(MARK_FROM_B) if packets.direction[i] else marks


def _by_column(parts: list[Int64s2], room: Room | None = None) -> Int64s2:
    """The parts below each other, each column contiguous. `parts` is emptied on the way: of what is large little is
    there twice. Where a part has nothing but nil in a column, nothing is written, which takes no memory.
    """
    columns, rows = parts[0].shape[1], sum(part.shape[0] for part in parts)
    whole: Int64s2 = (room or Room()).zeros(columns * rows, np.int64).reshape(columns, rows).T
    at = 0
    while parts:
        part = parts.pop(0)
        for column in range(columns):
            if part[:, column].any():
                whole[at : at + part.shape[0], column] = part[:, column]
        at += part.shape[0]
    return whole


def swap_ends(flows: Any, swap: Bools) -> None:
    """Makes `a` the client everywhere."""
    for one, other in (
        ("a_hi", "b_hi"),
        ("a_lo", "b_lo"),
        ("a_port", "b_port"),
        ("outer_a_hi", "outer_b_hi"),
        ("outer_a_lo", "outer_b_lo"),
        ("syn_seq", "syn_seq_b"),
    ):
        a, b = getattr(flows, one), getattr(flows, other)
        kept = a[swap].copy()
        a[swap] = b[swap]
        b[swap] = kept
    state = flows.state[swap].astype(np.int64)
    flows.state[swap] = (state & 16) | (state & 0b0100101) << 1 & 0b1001010 | (state & 0b1001010) >> 1 & 0b0100101
