"""Parts: some connections with packets of their own, accounted for wherever they lie, and joined again.

Rows of a part count within it: its packets are those of its connections, one connection after another.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Int64s, Uint8s, Uint16s, Uint32s
from yaffle.capture.captured import Capture, Source
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import SCHEMA, Columns, SackBlocks
from yaffle.capture.payload import Payload
from yaffle.exchanges.decoding import decode_messages
from yaffle.exchanges.messages import Messages, join_messages
from yaffle.ledger.account import CHARGES, EXCHANGE_FIELDS, WIDTH
from yaffle.ledger.engine import Account, Arrangement, own_accounts
from yaffle.progress import Progress, go_on
from yaffle.room import Room

# Columns that accounts are made from; of the others a part has zeros, which take no memory.
COLUMNS = (
    "head", "time_ns", "position", "captured_bytes", "source", "payload_at", "direction",
)  # fmt: skip
_CONNECTION, _MESSAGE = EXCHANGE_FIELDS.index("connection"), EXCHANGE_FIELDS.index("message")


@dataclass(frozen=True)
class Part:
    """Connections from `first` to before `last`."""

    first: int
    last: int
    packets: Columns
    starts: Int64s  # packets of the part's connection c: starts[c]:starts[c + 1]
    ports: Uint16s  # of the servers
    sack: SackBlocks

    @property
    def sources(self) -> list[int]:
        """Files its packets are of."""
        return [int(number) for number in np.unique(self.packets.source)]


@dataclass(frozen=True)
class PartAccount:
    """What was found of a part's connections by their own packets. Numbers count within the part."""

    messages: Messages
    account: Account
    kind: Uint8s  # of its packets


def cut_part(capture: Capture, arranged: Arrangement, first: int, last: int) -> Part:
    """The part with these connections."""
    starts = arranged.starts[first : last + 1]
    rows = arranged.order[starts[0] : starts[-1]]
    packets = with_zeros({name: np.take(getattr(capture.packets, name), rows) for name in COLUMNS})
    sack, extra = _own_blocks(packets, capture.sack)
    packets.head["extra"] = extra
    ports = capture.conversations.b_port[arranged.flow[first:last]]
    return Part(first, last, packets, starts - starts[0], ports, sack)


def with_zeros(columns: dict[str, Array]) -> Columns:
    """Packet columns of which only these are known."""
    count = columns["time_ns"].size
    return Columns(*(columns[name] if name in columns else np.zeros(count, dtype) for name, dtype, _ in SCHEMA))


def _own_blocks(packets: Columns, sack: SackBlocks) -> tuple[SackBlocks, Uint32s]:
    """The SACK blocks of these packets alone, and where those of each begin among them."""
    extra = packets.head["extra"].copy()
    counts = packets.sack_counts().astype(np.int64)
    begins = np.cumsum(counts) - counts
    own = counts > 0
    rows = np.repeat(extra[own].astype(np.int64) - begins[own], counts[own]) + np.arange(int(counts.sum()))
    extra[own] = begins[own]
    return SackBlocks(sack.left[rows], sack.right[rows]), extra


def account_part(part: Part, sources: Sequence[Source], progress: Progress = go_on, threads: int = 1) -> PartAccount:
    """Decodes and accounts. sources: all of the capture, where those of the part can be read. Raises Cancelled."""
    none = np.empty(0, np.int64)
    flows = Rows._make(none for _ in Rows._fields)
    capture = Capture(list(sources), part.packets, part.sack, flows, [], {})
    order = np.arange(part.packets.flow.size, dtype=np.int32)
    arranged = Arrangement(np.arange(part.ports.size), part.starts, order, none.astype(np.int8))
    payload = Payload(capture, frozenset(part.sources))
    messages = decode_messages(part.starts, order, part.ports, payload, lambda share, words: progress(share / 2, words))
    account = own_accounts(
        capture, arranged, messages, lambda share, words: progress(0.5 + share / 2, words), threads=threads
    )
    return PartAccount(messages, account, part.packets.kind)


def join_parts(
    capture: Capture, arranged: Arrangement, parts: Iterable[PartAccount], exchanges: int, room: Room
) -> tuple[Messages, Account]:
    """Messages and account of all connections; sets `kind` of the packets.

    parts: of all connections, in their order; exchanges: how many they have in all; room: where exchanges are put.
    """
    count = arranged.flow.size
    connection, charges = np.zeros((count, WIDTH), np.int64), np.zeros((count, CHARGES), np.int64)
    exchange = room.empty(len(EXCHANGE_FIELDS) * exchanges, np.int64).reshape(len(EXCHANGE_FIELDS), exchanges).T
    exchange_charges = room.empty(CHARGES * exchanges, np.int64).reshape(CHARGES, exchanges).T
    told: list[tuple[int, Messages]] = []
    first = at = messages = 0
    for part in parts:
        last, end = first + part.account.flow.size, at + part.account.exchange.shape[0]
        connection[first:last], charges[first:last] = part.account.connection, part.account.connection_charges
        exchange[at:end], exchange_charges[at:end] = part.account.exchange, part.account.exchange_charges
        exchange[at:end, _CONNECTION] += first
        own = exchange[at:end, _MESSAGE]
        own[own >= 0] += messages
        capture.packets.kind[arranged.order[arranged.starts[first] : arranged.starts[last]]] = part.kind
        told.append((first, part.messages))
        first, at, messages = last, end, messages + part.messages.turns.size
    account = Account(
        arranged.flow,
        arranged.starts,
        arranged.order,
        connection,
        charges,
        exchange,
        exchange_charges,
        arranged.how,
    )
    return join_messages(told), account
