"""Runs the account over all TCP connections of a capture, on both cores, with progress."""

import itertools
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.captured import Capture
from yaffle.capture.packets import HEAD_FROM_B
from yaffle.capture.reader import Progress, go_on
from yaffle.errors import Cancelled
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.turns import empty_turns
from yaffle.kernels import kernel
from yaffle.ledger.account import CHARGES, CONNECTION_FIELDS, EXCHANGE_FIELDS, SIDE_FIELDS, WIDTH, Tables, account
from yaffle.ledger.orientation import orient
from yaffle.ledger.path_states import no_states
from yaffle.prefetch import prefetch
from yaffle.transport.classify import empty_holes
from yaffle.transport.round_trips import empty_samples
from yaffle.transport.segments import empty_segments

_EXCHANGE_ROOM = 65_536  # Rows to begin with; grows as needed.
_PACKETS_A_STEP = 400_000  # Connections are worked on in steps of about this many packets, so that stopping is quick.


@dataclass
class Account:
    """What the engine found. Rows of `connection` are TCP conversations; `flow` says which."""

    flow: Array  # conversation row of each connection
    starts: Array  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Array  # packet rows, connection by connection, in order of capture
    connection: Array  # int64 (n, WIDTH): CONNECTION_FIELDS, then SIDE_FIELDS of the client, then of the server
    connection_charges: Array  # int64 ns (n, CHARGES)
    exchange: Array  # int64 (m, EXCHANGE_FIELDS), each column contiguous
    exchange_charges: Array  # int64 ns (m, CHARGES)
    how: Array  # per conversation: how its client was told

    def fact(self, name: str) -> Array:
        """A column of the connections."""
        return np.asarray(self.connection[:, CONNECTION_FIELDS.index(name)])

    def only(self, c: int) -> "Account":
        """The facts of one connection."""
        return replace(self, connection=self.connection[c : c + 1])

    def side(self, side: int, name: str) -> Array:
        """A column of one side: 0 from the client, 1 from the server."""
        return np.asarray(self.connection[:, len(CONNECTION_FIELDS) + side * len(SIDE_FIELDS) + SIDE_FIELDS.index(name)])

    def of_exchange(self, name: str) -> Array:
        """A column of the exchanges."""
        return np.asarray(self.exchange[:, EXCHANGE_FIELDS.index(name)])


class _Workshop:
    """Scratch room of one thread, sized for the longest connection it meets."""

    def __init__(self, longest: int, most_messages: int) -> None:
        self.room = empty_segments(longest)
        self.samples = empty_samples(3 * longest + 8)
        self.turns = empty_turns(longest + most_messages)
        self.pending = np.empty((2, longest), np.int64)
        self.extra = np.empty((2, longest), np.int64)
        self.holes = empty_holes()
        self.scratch = np.empty(3 * longest + 8, np.int64)
        room = min(_EXCHANGE_ROOM, longest + most_messages)
        self.exchange, self.exchange_charges = np.zeros((len(EXCHANGE_FIELDS), room), np.int64).T, np.zeros((CHARGES, room), np.int64).T
        self.delays = np.empty((2, longest), np.int64)
        self.blocked = np.empty(longest + 2, np.int64)


@dataclass(frozen=True)
class Arrangement:
    """TCP connections with their packets side by side, told which end is the client."""

    flow: Array  # conversation row of each connection
    starts: Array  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Array  # packet rows, in order of capture within each connection
    how: Array  # per conversation: how its client was told


def arrange(capture: Capture) -> Arrangement:
    """Orients every conversation and puts the packets of each connection together. Sets `direction` of the packets."""
    packets, flows = capture.packets, capture.conversations
    b_client, how = orient(flows)
    swap_ends(flows, b_client)
    tcp = np.flatnonzero(flows.protocol == 6)
    number = np.full(flows.point.size, -1, np.int32)
    number[tcp] = np.arange(tcp.size, dtype=np.int32)
    counts = _packets_of_each(packets.flow, flows.point.size)[tcp]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    order = np.empty(int(starts[-1]), np.int32 if packets.flow.size < 1 << 31 else np.int64)
    _arrange(packets, b_client, number, starts[:-1].copy(), order)
    return Arrangement(tcp.astype(np.int64), starts, order, how)


def account_all(capture: Capture, arranged: Arrangement, messages: Messages, progress: Progress = go_on, threads: int = 2) -> Account:
    """Accounts for each TCP connection: by its messages where those are known, else by turns.

    Sets `kind` of the packets. Raises Cancelled when `progress` says so.
    """
    packets, tcp, starts, order = capture.packets, arranged.flow, arranged.starts, arranged.order
    counts = np.diff(starts)
    connection = np.zeros((tcp.size, WIDTH), np.int64)
    charges = np.zeros((tcp.size, CHARGES), np.int64)
    steps = _steps(starts)
    paths = no_states(tcp.size)
    nothing = (np.empty((0, len(EXCHANGE_FIELDS)), np.int64), np.empty((0, CHARGES), np.int64))
    parts: list[tuple[Array, Array]] = [nothing] * max(1, len(steps))
    longest = int(counts.max()) if counts.size else 0
    most_messages = int(np.diff(messages.starts).max()) if counts.size else 0
    workshops = [_Workshop(longest, most_messages) for _ in range(min(threads, max(1, len(steps))))]
    done = [0]

    def work(thread: int) -> None:
        shop = workshops[thread]
        for step in range(thread, len(steps), len(workshops)):
            first, last = steps[step]
            used = 0
            while first < last:
                tables = Tables(connection, charges, shop.exchange, shop.exchange_charges)
                first, used = account(
                    first, last, starts, order, packets, capture.sack.left, capture.sack.right,
                    shop.room, shop.samples, shop.turns, shop.pending, shop.extra, shop.holes, shop.scratch, shop.delays, shop.blocked,
                    messages.starts, messages.turns, paths, tables, used,
                )  # fmt: skip
                if first < last:
                    more = np.zeros_like(shop.exchange), np.zeros_like(shop.exchange_charges)
                    shop.exchange, shop.exchange_charges = _by_column([shop.exchange, more[0]]), _by_column([shop.exchange_charges, more[1]])
            parts[step] = (_by_column([shop.exchange[:used]]), _by_column([shop.exchange_charges[:used]]))
            done[0] += int(starts[steps[step][1]] - starts[steps[step][0]])
            if not progress(done[0] / max(1, int(starts[-1])), "accounting for every wait"):
                raise Cancelled

    with ThreadPoolExecutor(len(workshops)) as pool:
        for future in [pool.submit(work, thread) for thread in range(len(workshops))]:
            future.result()
    exchange = _by_column([e for e, _ in parts])
    exchange_charges = _by_column([c for _, c in parts])
    return Account(tcp, starts, order, connection, charges, exchange, exchange_charges, arranged.how)


@kernel
def _packets_of_each(flow, conversations):  # type: ignore[no-untyped-def]
    counts = np.zeros(conversations, np.int64)
    for i in range(flow.size):
        if flow[i] >= 0:
            counts[flow[i]] += 1
    return counts


@kernel
def _arrange(packets, turned, number, place, order):  # type: ignore[no-untyped-def]
    """Sorts the packet rows by connection, in order of capture, and gives each its direction as from the client.

    turned: whether end `b` is the client; number: connection of each conversation, -1 for none; place: where the next
    packet of each connection goes.
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
            packets.head[i].flags ^= HEAD_FROM_B
        c = number[flow]
        if c >= 0:
            order[place[c]] = i
            place[c] += 1


def _by_column(parts: list[Array]) -> Array:
    """The parts below each other, each column contiguous."""
    whole = np.empty((parts[0].shape[1], sum(part.shape[0] for part in parts)), np.int64).T
    at = 0
    for part in parts:
        whole[at : at + part.shape[0]] = part
        at += part.shape[0]
    return whole


def swap_ends(flows: Any, swap: Array) -> None:
    """Makes `a` the client everywhere."""
    for one, other in (("a_hi", "b_hi"), ("a_lo", "b_lo"), ("a_port", "b_port"), ("outer_a_hi", "outer_b_hi"), ("outer_a_lo", "outer_b_lo"), ("syn_seq", "syn_seq_b")):
        a, b = getattr(flows, one), getattr(flows, other)
        kept = a[swap].copy()
        a[swap] = b[swap]
        b[swap] = kept
    state = flows.state[swap].astype(np.int64)
    flows.state[swap] = (state & 16) | (state & 0b0100101) << 1 & 0b1001010 | (state & 0b1001010) >> 1 & 0b0100101


def _steps(starts: Array) -> list[tuple[int, int]]:
    """Ranges of connections of about equal numbers of packets."""
    total = starts.size - 1
    if total <= 0:
        return []
    targets = np.arange(_PACKETS_A_STEP, int(starts[-1]), _PACKETS_A_STEP)
    cuts = sorted({0, total, *np.searchsorted(starts, targets).tolist()})
    return [(a, b) for a, b in itertools.pairwise(cuts) if b > a]
