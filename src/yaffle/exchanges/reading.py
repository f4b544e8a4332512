"""One connection read by its protocol: each message tied to its packets, and read on as packets come."""

from collections.abc import Callable, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.exchanges.streams import Stream
from yaffle.exchanges.turns import TURN, UNENDED, TurnRows
from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.dns_stream import DnsStream
from yaffle.protocols.http1 import Web
from yaffle.protocols.http2 import Web2
from yaffle.protocols.ldap import Ldap
from yaffle.protocols.message import Decoded, Pair
from yaffle.protocols.mysql import MySql
from yaffle.protocols.postgres import Postgres
from yaffle.protocols.records import Order
from yaffle.protocols.redis import Redis
from yaffle.protocols.smb import Smb
from yaffle.protocols.tls import Tls
from yaffle.texts import Texts

_CONVERSATIONS: Mapping[str, Callable[[], Conversation]] = {
    "dns": DnsStream, "http": Web, "http2": Web2, "ldap": Ldap, "mysql": MySql, "postgresql": Postgres, "redis": Redis,
    "smb": Smb, "tls": Tls,
}  # fmt: skip
_Sides = tuple[Stream, Stream]  # of the client, of the server


@dataclass(frozen=True)
class Told:
    """What one connection says: rows of TURN, and with each its words."""

    protocol: str
    rows: TurnRows
    label: Sequence[str]
    outcome: Sequence[str]
    values: Sequence[tuple[str, ...]]
    host: str
    note: str


@dataclass(frozen=True)
class _Said:
    """Some exchanges in order of when they were whole."""

    request: Int64s  # the place of each
    rows: TurnRows
    label: Sequence[str]
    outcome: Sequence[str]
    values: list[tuple[str, ...]]

    @classmethod
    def of(cls, pairs: Sequence[Pair], sides: _Sides) -> "_Said":
        """These."""
        request = np.array([pair.request for pair in pairs], np.int64)
        label, outcome = [pair.label for pair in pairs], [pair.outcome for pair in pairs]
        return cls(request, tied(pairs, *sides), label, outcome, [pair.values for pair in pairs])

    def and_then(self, more: "_Said") -> "_Said":
        """These and others."""
        if not more.rows.size or not self.rows.size:
            return more if more.rows.size else self
        return _Said(
            np.concatenate([self.request, more.request]),
            np.concatenate([self.rows, more.rows]),
            Texts.joined([Texts.held(self.label), Texts.held(more.label)]),
            Texts.joined([Texts.held(self.outcome), Texts.held(more.outcome)]),
            self.values + more.values,
        )

    def in_order(self) -> "_Said":
        """The same in order of their requests."""
        if not (np.diff(self.request) < 0).any():
            return self
        places = np.argsort(self.request, kind="stable")
        ordered, label, outcome = places.tolist(), list(self.label), list(self.outcome)
        return _Said(
            self.request[places],
            self.rows[places],
            [label[k] for k in ordered],
            [outcome[k] for k in ordered],
            [self.values[k] for k in ordered],
        )

    def told(self, protocol: str, host: str, note: str) -> Told:
        """What a connection said that is all there."""
        own = self.in_order()
        return Told(protocol, own.rows, own.label, own.outcome, own.values, host, note)


class Reading:
    """A connection that goes on: what was read of it for good, and what more bytes may change.

    Only what passed before the first hole is read for good, since a hole may be filled later.
    """

    def __init__(self, protocol: str) -> None:
        self.protocol = protocol
        self._conversation = _CONVERSATIONS[protocol]()
        self._said: _Said | None = None  # exchanges that nothing changes any more
        self._around: Decoded | None = None  # what led to TLS, where that came later
        self._begins: list[int | None] = [None, None]  # places of the first bytes
        self._places: list[int | None] = [None, None]  # up to where both sides were read for good
        self._ordered = 0  # so many segments, in order of time

    def read_on(self, sides: _Sides) -> bool:
        """Reads for good what came. False where it does not go on from where this ended."""
        begins = [side.begin for side in sides]
        if any(own is not None and own != begin for own, begin in zip(self._begins, begins, strict=True)):
            return False  # An earlier byte came late.
        self._begins = begins
        self._feed(sides)
        sealed = self._conversation.sealed
        if sealed is not None and self._around is None:
            self._around = _decoded(self._conversation)
            self._conversation, self._places, self._ordered = Tls(), [*sealed], 0
            self._feed(sides)
        return True

    def _feed(self, sides: _Sides) -> None:
        """Reads both sides up to the moment of the first hole of either, so that neither runs ahead of the other."""
        order = order_of(*sides, self._ordered)
        whole_to = np.array([side.whole_to or 0 for side in sides])
        behind_hole = np.flatnonzero(order[:, 1] > whole_to[order[:, 0]])
        ready = order[: behind_hole[0] if behind_hole.size else None]
        stops = [int(ready[ready[:, 0] == side, 1].max(initial=-1)) for side in (0, 1)]
        client, server = (side.runs(place, stop) for side, place, stop in zip(sides, self._places, stops, strict=True))
        self._conversation.feed(client, server, self._own(ready))
        said, self._conversation.pairs = _Said.of(self._conversation.pairs, sides), []
        self._said = said if self._said is None else self._said.and_then(said)
        self._places = [
            stop if stop >= 0 and (place is None or stop > place) else place
            for place, stop in zip(self._places, stops, strict=True)
        ]
        self._ordered += ready.shape[0]

    def _own(self, order: Int64s2) -> Order:
        """Segments with bytes of this conversation, not of what led to it."""
        if self._around is not None and self._around.sealed is not None:
            order = order[order[:, 1] > np.array(self._around.sealed)[order[:, 0]]]
        return [(side, end) for side, end in order.tolist()]

    def told(self, sides: _Sides, *, more: bool) -> Told:
        """All that is there now, with what is not whole yet. more: it may be read on."""
        conversation = deepcopy(self._conversation) if more else self._conversation
        client, server = (side.runs(place) for side, place in zip(sides, self._places, strict=True))
        conversation.finish(client, server, self._own(order_of(*sides, self._ordered)))
        found, around = _decoded(conversation), self._around
        said = _Said.of(found.pairs, sides)
        if around is None and found.sealed is not None:
            around, found = found, _inside(found.sealed, sides)
            said = said.and_then(_Said.of(found.pairs, sides))
        every = said if self._said is None else self._said.and_then(said)
        host, note = _joined(around, found) if around is not None else (found.host, found.note)
        return every.told(self.protocol, host, note)


def _decoded(conversation: Conversation) -> Decoded:
    one = conversation
    return Decoded(one.protocol, one.pairs, one.host, one.note, one.sealed)


def _inside(sealed: tuple[int, int], sides: _Sides) -> Decoded:
    """What is inside TLS from these places on."""
    order = [(side, end) for side, end in order_of(*sides).tolist() if end > sealed[side]]
    return whole(Tls(), sides[0].runs(sealed[0]), sides[1].runs(sealed[1]), order)


def _joined(around: Decoded, inner: Decoded) -> tuple[str, str]:
    """Name and note of a connection that went on inside TLS."""
    return inner.host or around.host, ", ".join(part for part in (around.note, inner.note) if part)


def order_of(client: Stream, server: Stream, begin: int = 0) -> Int64s2:
    """What passed in order of time, from one segment on: int64 (n, 2), side and place behind it."""
    segment = np.concatenate([client.segment, server.segment])
    both = np.column_stack(
        [np.repeat([0, 1], [client.segment.size, server.segment.size]), np.concatenate([client.end, server.end])]
    )
    return both[np.argsort(segment, kind="stable")][begin:]


def tied(pairs: Sequence[Pair], client: Stream, server: Stream) -> TurnRows:
    """Pairs as rows of TURN: with the segments that brought their first and last bytes."""
    rows = np.zeros(len(pairs), TURN)
    if not rows.size:
        return rows
    places = np.array(
        [(p.request, p.request_end, p.answer, p.answer_end, p.kind, p.asked_bytes, p.told_bytes) for p in pairs],
        np.int64,
    )
    asked, asked_end, told, told_end, rows["kind"], asked_bytes, told_bytes = places.T
    rows["first"] = client.segments_of(asked)
    rows["request_end"], rows["request_bytes"] = asked_end, np.where(asked_bytes >= 0, asked_bytes, asked_end - asked)
    answered = told >= 0
    rows["answer"] = -1
    rows["stop"] = np.iinfo(np.int64).max  # Of what was never answered: to the end of the connection.
    if answered.any():
        rows["answer"][answered] = server.segments_of(told[answered])
        last = server.segments_of(told_end[answered] - 1)
        rows["stop"][answered] = np.maximum(last, rows["answer"][answered]) + 1
        broken_off = np.array([p.broken_off for p in pairs], bool)
        rows["response_end"][answered] = np.where(broken_off, UNENDED, told_end)[answered]
        rows["response_bytes"][answered] = np.where(told_bytes >= 0, told_bytes, told_end - told)[answered]
    return rows
