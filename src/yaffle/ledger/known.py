"""What a former reading of a capture that grows found of its connections, taken over."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2, Uint8s
from yaffle.exchanges.messages import Messages
from yaffle.ledger.accounts import Exchanges, OwnAccount, no_exchanges, whole
from yaffle.ledger.fields import EXCHANGE_FIELDS

_A_PIECE = 2048  # connections whose exchanges stand together, about
_CONNECTION = EXCHANGE_FIELDS.index("connection")


@dataclass(frozen=True)
class KnownAccount:
    """That of a former reading, when the capture was shorter. Connections had the numbers that they have now."""

    changed: Bools  # of each connection now: whether packets came, or it is new
    messages: Messages
    account: OwnAccount

    @property
    def rows(self) -> Int64s:
        """Of each connection now its number then; -1 for one that changed."""
        return np.where(self.changed, -1, np.arange(self.changed.size))


def take_over(known: KnownAccount, connection: Int64s2, charges: Int64s2, kind: Uint8s) -> None:
    """Fills what is known of connections and packets."""
    was = known.account
    changed = np.flatnonzero(known.changed[: was.flow.size])
    for table, former in ((connection, was.connection), (charges, was.connection_charges)):
        table[: was.flow.size] = former  # Whole: to ask of each row costs more than to copy it.
        table[changed] = 0
    kind[: was.kind.size] = was.kind


def among_known(anew: Sequence[Exchanges], known: KnownAccount) -> tuple[list[Exchanges], Int64s]:
    """(pieces of exchanges, the connections between which each lies): of pieces in which no connection changed, those
    that are known already.

    anew: exchanges of the connections that changed, in their order.
    """
    former, edges = known.account.exchanges, _edges(known.account.edges, known.changed.size)
    fresh = Exchanges(*(whole(tables) for tables in zip(no_exchanges(), *anew, strict=True)))
    begins = np.searchsorted(fresh.facts[:, _CONNECTION], edges)
    pieces = []
    for k, (first, last) in enumerate(itertools.pairwise(edges.tolist())):
        before = former[k] if k < len(former) else no_exchanges()
        if not known.changed[first:last].any():
            pieces.append(before)
            continue
        own = slice(begins[k], begins[k + 1])
        pieces.append(_laid(Exchanges(fresh.facts[own], fresh.charges[own]), before, known.changed))
    return pieces, edges


def _edges(former: Int64s, count: int) -> Int64s:
    """Where pieces end: new connections fill the last one, and begin others."""
    edges = former.tolist()
    if len(edges) > 1:
        edges[-1] = max(edges[-1], min(count, edges[-2] + _A_PIECE))
    while edges[-1] < count:
        edges.append(min(count, edges[-1] + _A_PIECE))
    return np.array(edges)


def _laid(anew: Exchanges, before: Exchanges, changed: Bools) -> Exchanges:
    """The exchanges of a piece: those of connections that changed anew, the others as before; in order of
    connections.
    """
    was = before.facts[:, _CONNECTION]
    kept = np.flatnonzero(~changed[was])
    whose = np.concatenate([anew.facts[:, _CONNECTION], was[kept]])
    place = np.empty(whose.size, np.int64)
    place[np.argsort(whose, kind="stable")] = np.arange(whose.size)
    fresh, kept_at = np.split(place, [anew.facts.shape[0]])
    tables = []
    for one, other in zip(anew, before, strict=True):
        table = np.empty((one.shape[1], whose.size), np.int64)
        table[:, fresh], table[:, kept_at] = one.T, other.T[:, kept]
        tables.append(table.T)
    return Exchanges(*tables)
