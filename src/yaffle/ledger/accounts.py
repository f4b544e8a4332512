"""What the engine finds of TCP connections: by their own packets, and in the end."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int8s, Int32s, Int64s, Int64s2, Uint8s
from yaffle.kernels import kernel
from yaffle.ledger.fields import CHARGES, CONNECTION_FIELDS, EXCHANGE_FIELDS, SIDE_FIELDS
from yaffle.room import Room

_CONNECTION, _MESSAGE = EXCHANGE_FIELDS.index("connection"), EXCHANGE_FIELDS.index("message")


class Exchanges(NamedTuple):
    """Exchanges of connections one after another; columns contiguous. Messages are counted from the first of each
    connection.
    """

    facts: Int64s2  # (m, EXCHANGE_FIELDS)
    charges: Int64s2  # ns (m, CHARGES)


@dataclass(frozen=True)
class AccountedFor:
    """TCP connections with their packets, and what is known of each. Rows of `connection` are TCP conversations;
    `flow` says which.
    """

    flow: Int64s  # conversation row of each connection
    starts: Int64s  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Int32s  # packet rows, connection by connection, in order of capture
    how: Int8s  # per conversation: how its client was told
    connection: Int64s2  # (n, WIDTH): CONNECTION_FIELDS, then SIDE_FIELDS of the client, then of the server
    connection_charges: Int64s2  # ns (n, CHARGES)

    @property
    def charged(self) -> Int64s:
        """The columns of charges that hold anything."""
        return np.flatnonzero(self.connection_charges.any(axis=0))

    def fact(self, name: str) -> Int64s:
        """A column of the connections."""
        return np.asarray(self.connection[:, CONNECTION_FIELDS.index(name)])

    def side(self, side: int, name: str) -> Int64s:
        """A column of one side: 0 from the client, 1 from the server."""
        return np.asarray(
            self.connection[:, len(CONNECTION_FIELDS) + side * len(SIDE_FIELDS) + SIDE_FIELDS.index(name)]
        )


@dataclass(frozen=True)
class OwnAccount(AccountedFor):
    """Each connection by its own packets alone."""

    exchanges: list[Exchanges]  # one after another; who puts the account together takes them (`finished.put_together`)
    edges: Int64s  # those of connections edges[k]:edges[k + 1] are exchanges[k]
    kind: Uint8s  # of all packets: what each segment is, see transport.kinds

    def of_exchange(self, name: str) -> Int64s:
        """A column of the exchanges."""
        column = EXCHANGE_FIELDS.index(name)
        return np.concatenate([np.empty(0, np.int64), *(piece.facts[:, column] for piece in self.exchanges)])

    @property
    def exchange_count(self) -> int:
        """How many exchanges there are."""
        return sum(piece.facts.shape[0] for piece in self.exchanges)

    def kept(self) -> "OwnAccount":
        """The same, whose exchanges stay when this one's are taken."""
        return replace(self, exchanges=[*self.exchanges])


@dataclass(frozen=True)
class Account(AccountedFor):
    """What the engine found, by all there is."""

    exchange: Int64s2  # (m, EXCHANGE_FIELDS), each column contiguous
    exchange_charges: Int64s2  # ns (m, CHARGES)

    def only(self, c: int) -> "Account":
        """The facts of one connection."""
        return replace(self, connection=self.connection[c : c + 1])

    def of_exchange(self, name: str) -> Int64s:
        """A column of the exchanges."""
        return np.asarray(self.exchange[:, EXCHANGE_FIELDS.index(name)])


def no_exchanges() -> Exchanges:
    """Nobody asked."""
    return Exchanges(np.empty((0, len(EXCHANGE_FIELDS)), np.int64), np.empty((0, CHARGES), np.int64))


def count_messages(facts: Int64s2, by: Int64s) -> None:
    """Counts messages of exchanges from elsewhere: `by` is added, a number a connection."""
    told = np.flatnonzero(facts[:, _MESSAGE] >= 0)
    facts[told, _MESSAGE] += by[facts[told, _CONNECTION]]


def whole(pieces: Sequence[Int64s2]) -> Int64s2:
    """Tables below each other, each column contiguous; one alone is not copied."""
    held = [piece for piece in pieces if piece.shape[0]]
    if len(held) == 1:
        return held[0]
    return np.concatenate([piece.T for piece in held or pieces], axis=1).T


def by_column(parts: list[Int64s2], room: Room | None = None) -> Int64s2:
    """The parts below each other, each column contiguous. `parts` is emptied on the way: of what is large little is
    there twice. Where a part has nothing but nil in a column, nothing is written, which takes no memory.
    """
    columns, rows = parts[0].shape[1], sum(part.shape[0] for part in parts)
    whole: Int64s2 = (room or Room()).zeros(columns * rows, np.int64).reshape(columns, rows)
    at = 0
    while parts:
        part = parts.pop(0)
        if part.flags.c_contiguous:  # Row by row, as nothing here is: a kernel of its own for it would come late.
            part = np.asfortranarray(part)
        _lay(part.T, whole, at)
        at += part.shape[0]
    return whole.T


@kernel
def _lay(part: Int64s2, whole: Int64s2, at: int) -> None:
    """Puts a part, a row a column of it, at its place in what is nil so far."""
    for column in range(part.shape[0]):
        row = 0
        while row < part.shape[1] and part[column, row] == 0:
            row += 1
        while row < part.shape[1]:
            whole[column, at + row] = part[column, row]
            row += 1
