"""Runs the account over all TCP connections of a capture, on both cores, with progress."""

import itertools
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from yaffle.arrays import Int64s, Int64s2, runs_of
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.errors import Cancelled
from yaffle.exchanges.messages import Messages
from yaffle.ledger.account import account
from yaffle.ledger.accounts import Exchanges, OwnAccount, by_column, count_messages, no_exchanges
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.exchange_rows import Tables
from yaffle.ledger.fields import CHARGES, EXCHANGE_FIELDS, WIDTH
from yaffle.ledger.known import KnownAccount, among_known, take_over
from yaffle.ledger.path_states import PathStates, no_states
from yaffle.ledger.workspace import Connections, Given, workspace
from yaffle.progress import Progress, go_on
from yaffle.room import Room

_EXCHANGE_ROOM = 65_560  # Rows to begin with; grows as needed. No power of two, or all columns would share cache lines.
_WHOLE_FROM = 2_048  # exchanges, from which on a workshop's tables are taken whole instead of copied
_AT_ONCE = 64  # Connections accounted for again in one call.
_PACKETS_A_STEP = 100_000  # Connections are worked on in steps of about this many packets, so that stopping is quick.
_STEPS = 40  # at least, where there are packets enough: so that no thread waits long for the other one at the end
_STEPS_AGAIN = 16  # of what is accounted for again while a capture grows: each step waits for who draws meanwhile
_LEAST_STEP = 5_000  # packets


class Workshop:
    """Room of one thread, for the longest connection it meets."""

    def __init__(self, longest: int, most_messages: int) -> None:
        self.space = workspace(longest, most_messages)
        self.exchange, self.exchange_charges = _nil(min(_EXCHANGE_ROOM, longest + most_messages))

    def grow(self) -> None:
        """Twice the room for exchanges."""
        more = _nil(self.exchange.shape[0])
        self.exchange, self.exchange_charges = (
            by_column([self.exchange, more.facts]),
            by_column([self.exchange_charges, more.charges]),
        )

    def give(self, used: int, room: Room) -> Exchanges:
        """The exchanges that stand in it, put into the room; then none do."""
        found = Exchanges(self.exchange[:used], self.exchange_charges[:used])
        if used >= _WHOLE_FROM and not room.spilled:
            self.exchange, self.exchange_charges = _nil(self.exchange.shape[0])
            return found
        copied = Exchanges(by_column([found.facts], room), by_column([found.charges], room))
        found.facts[:], found.charges[:] = 0, 0
        return copied


def _nil(rows: int) -> Exchanges:
    """Tables of so many rows in which nothing stands yet."""
    tables = (
        Room().zeros(columns * rows, np.int64).reshape(columns, rows).T for columns in (len(EXCHANGE_FIELDS), CHARGES)
    )
    return Exchanges(*tables)


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
    starts, count = arranged.starts, arranged.flow.size
    room = room or Room()
    connection, charges = np.zeros((count, WIDTH), np.int64), np.zeros((count, CHARGES), np.int64)
    kind = room.zeros(capture.packets.flow.size, np.uint8)
    most = min(_PACKETS_A_STEP, max(_LEAST_STEP, arranged.order.size // _STEPS))
    steps = [np.arange(first, last) for first, last in runs_of(starts, most)]
    if known is not None:
        take_over(known, connection, charges, kind)
        steps = _steps_of(np.flatnonzero(known.changed), starts)
    packets = capture.packets._replace(kind=kind)
    paths = no_states(count)
    exchanges = [no_exchanges()] * len(steps)
    shops = workshops(arranged, messages, min(threads, max(1, len(steps))))
    sizes = [int((starts[step + 1] - starts[step]).sum()) for step in steps]
    claims, done, total = itertools.count(), [0], max(1, sum(sizes))

    def work(thread: int) -> None:
        shop = shops[thread]
        while (step := next(claims)) < len(steps):
            used = account_some(
                packets, capture.sack, arranged, messages, shop, steps[step], paths, connection, charges
            )  # fmt: skip
            exchanges[step] = taken(shop, used, messages, room)
            done[0] += sizes[step]
            if not progress(done[0] / total, "accounting for every wait"):
                raise Cancelled

    with ThreadPoolExecutor(len(shops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(shops))]:
            future.result()
    edges = np.array([0, *(int(step[-1]) + 1 for step in steps)])
    if known is not None:
        exchanges, edges = among_known(exchanges, known)
    return OwnAccount(
        arranged.flow, starts, arranged.order, arranged.how, connection, charges, exchanges, edges, kind
    )  # fmt: skip


def _steps_of(chosen: Int64s, starts: Int64s) -> list[Int64s]:
    """Some connections in steps, each of about as many packets."""
    begins = np.concatenate([[0], np.cumsum((starts[1:] - starts[:-1])[chosen])])
    most = min(_PACKETS_A_STEP, max(_LEAST_STEP, int(begins[-1]) // _STEPS_AGAIN))
    return [chosen[first:last] for first, last in runs_of(begins, most)]


def taken(shop: Workshop, used: int, messages: Messages, room: Room | None = None) -> Exchanges:
    """The exchanges that stand in a workshop."""
    found = shop.give(used, room or Room())
    count_messages(found.facts, -messages.starts)
    return found


def workshops(arranged: Arrangement | OwnAccount, messages: Messages, count: int) -> list[Workshop]:
    """Room for so many threads."""
    longest = int(np.diff(arranged.starts).max(initial=0))
    most_messages = int(np.diff(messages.starts).max(initial=0))
    return [Workshop(longest, most_messages) for _ in range(count)]


def few_at_once(chosen: Int64s) -> list[Int64s]:
    """Connections, a few at once: each call costs, too."""
    return np.array_split(chosen, -(-chosen.size // _AT_ONCE)) if chosen.size else []


def account_some(
    packets: Columns,
    sack: SackBlocks,
    arranged: Arrangement | OwnAccount,
    messages: Messages,
    shop: Workshop,
    chosen: Int64s,
    paths: PathStates,
    connection: Int64s2,
    charges: Int64s2,
) -> int:
    """Accounts for some connections; how many rows of exchanges stand in the workshop then. Fills rows of `connection`
    and `charges`, and the kinds of the packets.
    """
    connections, given = Connections(arranged.starts, arranged.order), Given(messages.starts, messages.turns)
    done = used = 0
    while done < chosen.size:
        tables = Tables(connection, charges, shop.exchange.T, shop.exchange_charges.T)
        done, used = account(chosen, done, connections, packets, sack, shop.space, given, paths, tables, used)
        if done < chosen.size:
            shop.grow()
    return used
