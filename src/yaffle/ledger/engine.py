"""Runs the account over all TCP connections of a capture, on both cores, with progress."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from yaffle.arrays import Int64s, Int64s2, runs_of
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.errors import Cancelled
from yaffle.exchanges.messages import Messages
from yaffle.kernels import kernel
from yaffle.ledger.account import CHARGES, EXCHANGE_FIELDS, WIDTH, Tables, account
from yaffle.ledger.accounts import Exchanges, KnownAccount, OwnAccount, whole
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.path_states import PathStates, no_states
from yaffle.ledger.workspace import Connections, Given, workspace
from yaffle.progress import Progress, go_on
from yaffle.room import Room

_EXCHANGE_ROOM = 65_536  # Rows to begin with; grows as needed.
_AT_ONCE = 64  # Connections accounted for again in one call.
_PACKETS_A_STEP = 100_000  # Connections are worked on in steps of about this many packets, so that stopping is quick.
_CONNECTION, _MESSAGE = EXCHANGE_FIELDS.index("connection"), EXCHANGE_FIELDS.index("message")


class Workshop:
    """Room of one thread, for the longest connection it meets."""

    def __init__(self, longest: int, most_messages: int) -> None:
        self.space = workspace(longest, most_messages)
        room = min(_EXCHANGE_ROOM, longest + most_messages)
        self.exchange, self.exchange_charges = (
            np.zeros((len(EXCHANGE_FIELDS), room), np.int64).T,
            np.zeros((CHARGES, room), np.int64).T,
        )


def own_accounts(
    capture: Capture,
    arranged: Arrangement,
    messages: Messages,
    progress: Progress = go_on,
    threads: int = 2,
    known: KnownAccount | None = None,
    room: Room | None = None,
) -> OwnAccount:
    """The account of each TCP connection by its own packets alone, by its messages where those are known, else by
    turns; what is known already is taken over.

    room: where exchanges are put. Raises Cancelled when `progress` says so.
    """
    tcp, starts, order = arranged.flow, arranged.starts, arranged.order
    room = room or Room()
    connection = np.zeros((tcp.size, WIDTH), np.int64)
    charges = np.zeros((tcp.size, CHARGES), np.int64)
    kind = room.zeros(capture.packets.flow.size, np.uint8)
    if known is not None:
        kind[: known.account.kind.size] = known.account.kind
    packets = capture.packets._replace(kind=kind)
    steps = runs_of(starts, _PACKETS_A_STEP) if known is None else runs_of_few(np.flatnonzero(known.rows < 0))
    paths = no_states(tcp.size)
    nothing = Exchanges(np.empty((0, len(EXCHANGE_FIELDS)), np.int64), np.empty((0, CHARGES), np.int64))
    exchanges = [nothing] * max(1, len(steps))
    shops = workshops(arranged, messages, min(threads, max(1, len(steps))))
    done, total = [0], max(1, sum(int(starts[last] - starts[first]) for first, last in steps))

    def work(thread: int) -> None:
        shop = shops[thread]
        for step in range(thread, len(steps), len(shops)):
            used = account_range(
                packets, capture.sack, arranged, messages, shop, steps[step], paths, connection, charges
            )  # fmt: skip
            exchanges[step] = taken(shop, used, room)
            done[0] += int(starts[steps[step][1]] - starts[steps[step][0]])
            if not progress(done[0] / total, "accounting for every wait"):
                raise Cancelled

    with ThreadPoolExecutor(len(shops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(shops))]:
            future.result()
    found = OwnAccount(tcp, starts, order, connection, charges, exchanges, arranged.how, kind)
    return found if known is None else _with_known(found, messages, known)


def taken(shop: Workshop, used: int, room: Room | None = None) -> Exchanges:
    """The exchanges that stand in a workshop."""
    return Exchanges(by_column([shop.exchange[:used]], room), by_column([shop.exchange_charges[:used]], room))


@kernel
def _lay(table: Int64s2, to: Int64s, anew: Int64s2, also_to: Int64s, before: Int64s2, kept: Int64s) -> None:
    """Puts all exchanges of one table and some of another one where they belong. A row a column of them."""
    for column in range(table.shape[0]):
        for k in range(to.size):
            table[column, to[k]] = anew[column, k]
        for k in range(kept.size):
            table[column, also_to[k]] = before[column, kept[k]]


def _with_known(found: OwnAccount, messages: Messages, known: KnownAccount) -> OwnAccount:
    """The account of what changed, with that of the rest; exchanges in order of their connections."""
    former = known.account
    connection, connection_charges = found.connection.copy(), found.connection_charges.copy()
    same = np.flatnonzero(known.rows >= 0)
    connection[same] = former.connection[known.rows[same]]
    connection_charges[same] = former.connection_charges[known.rows[same]]
    now = np.full(former.flow.size, -1)
    now[known.rows[same]] = same
    was = former.of_exchange("connection")
    kept = np.flatnonzero(now[was] >= 0)
    whose = np.concatenate([found.of_exchange("connection"), now[was[kept]]])
    place = np.empty(whose.size, np.int64)  # of each row in order of connections, in which both stand already
    place[np.argsort(whose, kind="stable")] = np.arange(whose.size)
    fresh, kept_at = np.split(place, [found.exchange_count])
    tables = []
    for anew, before in zip(zip(*found.exchanges, strict=True), zip(*former.exchanges, strict=True), strict=True):
        one, other = whole(anew).T, whole(before).T
        table = np.empty((one.shape[0], whose.size), np.int64)
        _lay(table, fresh, one, kept_at, other, kept)
        tables.append(table.T)
    exchanges = Exchanges(*tables)
    told = kept_at[former.of_exchange("message")[kept] >= 0]
    owner = whose[np.argsort(place)][told]
    exchanges.facts[told, _MESSAGE] += messages.starts[owner] - known.messages.starts[known.rows[owner]]
    exchanges.facts[kept_at, _CONNECTION] = now[was[kept]]
    return replace(found, connection=connection, connection_charges=connection_charges, exchanges=[exchanges])


def workshops(arranged: Arrangement | OwnAccount, messages: Messages, count: int) -> list[Workshop]:
    """Room for so many threads."""
    longest = int(np.diff(arranged.starts).max(initial=0))
    most_messages = int(np.diff(messages.starts).max(initial=0))
    return [Workshop(longest, most_messages) for _ in range(count)]


def runs_of_few(chosen: Int64s) -> list[tuple[int, int]]:
    """(first, one after the last) of connections that follow each other, a few at once: each call costs, too."""
    parts = np.split(chosen, np.flatnonzero(np.diff(chosen) != 1) + 1)
    return [
        (int(few[0]), int(few[-1]) + 1)
        for part in parts
        if part.size
        for few in np.array_split(part, -(-part.size // _AT_ONCE))
    ]


def account_range(
    packets: Columns,
    sack: SackBlocks,
    arranged: Arrangement | OwnAccount,
    messages: Messages,
    shop: Workshop,
    chosen: tuple[int, int],
    paths: PathStates,
    connection: Int64s2,
    charges: Int64s2,
) -> int:
    """Accounts for connections from the first to before the last; how many rows of exchanges stand in the workshop
    then. Fills rows of `connection` and `charges`, and the kinds of the packets.
    """
    first, last = chosen
    connections, given = Connections(arranged.starts, arranged.order), Given(messages.starts, messages.turns)
    used = 0
    while first < last:
        tables = Tables(connection, charges, shop.exchange.T, shop.exchange_charges.T)
        first, used = account(first, last, connections, packets, sack, shop.space, given, paths, tables, used)
        if first < last:
            more = np.zeros_like(shop.exchange), np.zeros_like(shop.exchange_charges)
            shop.exchange, shop.exchange_charges = (
                by_column([shop.exchange, more[0]]),
                by_column([shop.exchange_charges, more[1]]),
            )
    return used


def by_column(parts: list[Int64s2], room: Room | None = None) -> Int64s2:
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
