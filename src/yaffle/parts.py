"""Parts: some connections with packets of their own, accounted for wherever they lie, and joined again.

Rows of a part count within it: its packets are those of its connections, one connection after another.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Int64s, Uint16s, Uint32s
from yaffle.capture.captured import Capture, Source
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import SCHEMA, Columns, SackBlocks
from yaffle.capture.payload import Payload
from yaffle.exchanges.decoding import decode_messages
from yaffle.exchanges.messages import Messages, join_messages
from yaffle.ledger.accounts import Exchanges, OwnAccount, by_column
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.engine import own_accounts
from yaffle.ledger.fields import CHARGES, EXCHANGE_FIELDS, WIDTH
from yaffle.progress import Progress, go_on
from yaffle.room import Room

# Columns that accounts are made from; of the others a part has zeros, which take no memory.
COLUMNS = (
    "head", "time_ns", "position", "captured_bytes", "source", "payload_at", "direction",
)  # fmt: skip
_CONNECTION = EXCHANGE_FIELDS.index("connection")


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
    account: OwnAccount


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
    arranged = Arrangement(np.arange(part.ports.size), part.starts, order, none.astype(np.int8), part.packets.flow)
    payload = Payload(capture, frozenset(part.sources))
    messages = decode_messages(part.starts, order, part.ports, payload, lambda share, words: progress(share / 2, words))
    account = own_accounts(
        capture, arranged, messages, lambda share, words: progress(0.5 + share / 2, words), threads=threads
    )
    return PartAccount(messages, account)


def join_parts(
    capture: Capture, arranged: Arrangement, parts: Iterable[PartAccount], room: Room
) -> tuple[Messages, OwnAccount]:
    """Messages and account of all connections.

    parts: of all connections, in their order; room: where exchanges are put.
    """
    count = arranged.flow.size
    connection, charges = np.zeros((count, WIDTH), np.int64), np.zeros((count, CHARGES), np.int64)
    kind = room.zeros(capture.packets.flow.size, np.uint8)
    told: list[tuple[int, Messages]] = []
    exchanges: list[Exchanges] = []
    edges, first = [0], 0
    for part in parts:
        last = first + part.account.flow.size
        connection[first:last], charges[first:last] = part.account.connection, part.account.connection_charges
        exchanges += [_moved(piece, first, room) for piece in part.account.exchanges]
        edges += (first + part.account.edges[1:]).tolist()
        kind[arranged.order[arranged.starts[first] : arranged.starts[last]]] = part.account.kind
        told.append((first, part.messages))
        first = last
    account = OwnAccount(
        arranged.flow,
        arranged.starts,
        arranged.order,
        arranged.how,
        connection,
        charges,
        exchanges,
        np.array(edges),
        kind,
    )
    return join_messages(told), account


def _moved(piece: Exchanges, connections: int, room: Room) -> Exchanges:
    """The same as rows of all, in a room."""
    facts, charges = by_column([piece.facts], room), by_column([piece.charges], room)
    facts[:, _CONNECTION] += connections
    return Exchanges(facts, charges)
