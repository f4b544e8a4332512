"""TLS 1.2 and 1.3 (RFC 5246, 8446) without keys: name, version, handshake turns; exchanges inside by turns of records.

What is encrypted shows only its sizes: turns of application data. In version 1.3 the client's Finished and the server's
session tickets look like application data; the first record of the client after the hellos is its Finished, and what
the server sends in records of one size right after it, before anything else, is taken for tickets.
"""

from collections.abc import Callable, Iterator, Mapping
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols import tls_hello
from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.message import ENCRYPTION, LAST_OF_ENCRYPTION, Decoded, Pair, Run
from yaffle.protocols.records import InTime, Order, Record, Turns
from yaffle.protocols.tls_records import ALERT, CHANGE, DATA, HANDSHAKE, LARGEST, Records

_TICKET_MOST, _MOST_TICKETS = 1500, 4
_SEALED_ALERT = 24  # header, level, description, content type, tag of 16

BEGINS = bytes((CHANGE, ALERT, HANDSHAKE, DATA))  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    return (
        len(start) >= 5
        and start[0] in BEGINS
        and start[1] == 3
        and start[2] <= 4
        and 0 < int.from_bytes(start[3:5], "big") <= LARGEST
    )


class State(IntEnum):
    """What the records that come next are."""

    HELLOS = 0
    OLDER_HANDSHAKE = 1  # up to version 1.2: in clear until both sides have changed over
    NEWER_HANDSHAKE = 2  # version 1.3: the server's part looks like data
    TICKETS = 3  # the client's Finished, and perhaps what the server sends of itself after it
    MORE_TICKETS = 4
    CLOSING_DATA = 5  # data of version 1.3, the last record of a side may be its farewell
    DATA = 6


class Event(IntEnum):
    """What ends a state."""

    NO_HELLOS = 0
    OLDER = 1
    NEWER = 2
    DATA_BEGINS = 3
    TICKETS_OF_ONE_SIZE = 4
    SETTLED = 5  # no tickets are to come


class Tls(Conversation):
    """Handshake turns, then turns of application data; records of both sides in order of time."""

    def __init__(self) -> None:
        self._asked, self._told = Records(), Records()
        super().__init__("tls", self._asked, self._told)
        self.state: int = State.HELLOS
        self._over = False
        self._in_time = InTime()
        self._flow: list[tuple[int, Record]] = []  # records in order of time
        self._at = 0  # the first of them that is not used up
        self._seen = 0  # the first that was not looked at, where others are waited for
        self._first: Record | None = None  # of the client
        self._hello = b""  # of the server
        self._data_told = False  # the server sent what is no hello
        self._changed: list[int | None] = [None, None]  # where each side first changed over
        self._handshake: list[Pair] = []
        self._own: list[int] = []  # sizes of the first records of the server after Finished
        self._asked_early = False  # the client had something to say before these
        self._ticket_size = self._tickets = 0
        self._last = [-1, -1]  # the place of each side's last record of what is sealed
        self._turns = Turns()

    def _went_on(self, order: Order, *, over: bool) -> None:
        self._over = over
        for side, reader in enumerate((self._asked, self._told)):
            self._in_time.take(side, reader.found)
            if side == 0 and self._first is None and reader.found:
                self._met(reader.found[0])
            reader.found = []
        unread = None if over else (self._asked.place, self._told.place)
        self._flow = self._flow[self._at :] + self._in_time.passed(order, unread)
        self._seen, self._at = max(0, self._seen - self._at), 0
        while (event := self.READERS[self.state](self)) is not None:
            self.state, self._seen = self.TRANSITIONS[self.state, event], self._at
        if over and self._turns.open is not None:
            self.pairs.append(self._turns.open)

    def _met(self, first: Record) -> None:
        """The client's first record."""
        self._first = first
        if first.kind == HANDSHAKE and first.body[:1] == tls_hello.CLIENT:
            self.host = tls_hello.server_name(first.body)

    def _new(self) -> Iterator[tuple[int, Record]]:
        """What was not looked at."""
        self._seen = max(self._seen, self._at)
        while self._seen < len(self._flow):
            self._seen += 1
            yield self._flow[self._seen - 1]

    def _hellos(self) -> Event | None:
        for side, record in self._new():
            if side == 1 and not self._hello:
                self._data_told |= record.kind == DATA
                if record.kind == HANDSHAKE and record.body[:1] == tls_hello.SERVER and not self._data_told:
                    self._hello = record.body
        if self._first is not None and self._first.kind != HANDSHAKE:
            return Event.NO_HELLOS
        if self._hello and self._first is not None:
            self.note = tls_hello.version(self._hello)
            return Event.NEWER if self.note == tls_hello.NEWEST else Event.OLDER
        return Event.NO_HELLOS if self._data_told or self._over else None

    def _older_handshake(self) -> Event | None:
        while self._at < len(self._flow):
            side, record = self._flow[self._at]
            if record.kind == DATA:
                break
            self._at += 1
            self._shaken(side, record)
            if record.kind == CHANGE and self._changed[side] is None:
                self._changed[side] = record.at
        else:
            if not self._over:
                return None
        early = self._at < len(self._flow) and None in self._changed
        self._settle_handshake(every=early)
        changed = self._changed[0]
        if self.pairs and not early and changed is not None and changed < self.pairs[-1].request_end:
            # In a full handshake the server speaks last; in a resumed one the client does, and owes its Finished.
            self.pairs[-1].kind = LAST_OF_ENCRYPTION
        return Event.DATA_BEGINS

    def _newer_handshake(self) -> Event | None:
        while self._at < len(self._flow):
            side, record = self._flow[self._at]
            if side == 0 and record.kind == DATA:
                break
            self._at += 1
            turn = self._handshake[-1] if self._handshake else None
            if side == 0 and record.kind == CHANGE and turn is not None and turn.answer >= 0:
                continue  # A mere compatibility record ahead of Finished.
            self._shaken(side, record)
        else:
            if not self._over:
                return None
        self._settle_handshake()
        return Event.DATA_BEGINS

    def _shaken(self, side: int, record: Record) -> None:
        """One record of the handshake."""
        turn = self._handshake[-1] if self._handshake else None
        if side == 0:
            if turn is None or turn.answer >= 0:
                turn = Pair(record.at, record.end, label="handshake", kind=ENCRYPTION)
                self._handshake.append(turn)
            turn.request_end = record.end
        elif turn is not None:
            if turn.answer < 0:
                turn.answer = record.at
            turn.answer_end = record.end

    def _settle_handshake(self, *, every: bool = False) -> None:
        """Its turns are told. every: those without an answer, too."""
        for turn in self._handshake:
            turn.outcome = self.note if turn.answer >= 0 else ""
        self.pairs += [turn for turn in self._handshake if every or turn.answer >= 0]
        self._handshake = []

    def _tickets_begin(self) -> Event | None:
        """Finished is put away, the first records of the server are waited for."""
        if self._seen == self._at:
            self._seen += 1  # Finished itself
        for side, record in self._new():
            if not _counts(record):
                continue
            if side == 1:
                self._own.append(record.end - record.at)
            elif not self._own:
                self._asked_early = True
            if len(self._own) == 2:
                break
        if len(self._own) < 2 and not self._over:
            return None
        self._at += 1
        same = len(self._own) == 2 and self._own[0] == self._own[1] <= _TICKET_MOST
        if same:
            self._ticket_size = self._own[0]
            return Event.TICKETS_OF_ONE_SIZE
        if self._own and not self._asked_early:  # Nothing was asked yet.
            of_server = (k for k in range(self._at, len(self._flow)) if self._flow[k][0] == 1)
            del self._flow[next(k for k in of_server if _counts(self._flow[k][1]))]
        return Event.SETTLED

    def _more_tickets(self) -> Event | None:
        while self._at < len(self._flow):
            side, record = self._flow[self._at]
            if side == 1 and _counts(record):
                if record.end - record.at != self._ticket_size or self._tickets == _MOST_TICKETS:
                    return Event.SETTLED
                self._tickets += 1
                self._at += 1
            elif not self._closing(side, record):
                return None
        return None

    def _closing_data(self) -> Event | None:
        while self._at < len(self._flow) and self._closing(*self._flow[self._at]):
            pass
        return None

    def _closing(self, side: int, record: Record) -> bool:
        """Takes the next record, unless it may be the farewell of its side: an alert that looks like data of two
        octets.
        """
        for other, later in self._new():
            if _counts(later):
                self._last[other] = later.at
        farewell = record.end - record.at == _SEALED_ALERT and record.at == self._last[side]
        if farewell and not self._over:
            return False
        self._at += 1
        if not farewell:
            self._turned(side, record)
        return True

    def _data(self) -> Event | None:
        for side, record in self._flow[self._at :]:
            self._turned(side, record)
        self._at = len(self._flow)
        return None

    def _turned(self, side: int, record: Record) -> None:
        """One record of data."""
        if record.kind == DATA and (turn := self._turns.take(side, record, self.host)) is not None:
            self.pairs.append(turn)

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.HELLOS: _hellos,
        State.OLDER_HANDSHAKE: _older_handshake,
        State.NEWER_HANDSHAKE: _newer_handshake,
        State.TICKETS: _tickets_begin,
        State.MORE_TICKETS: _more_tickets,
        State.CLOSING_DATA: _closing_data,
        State.DATA: _data,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.HELLOS, Event.NO_HELLOS): State.DATA,
        (State.HELLOS, Event.OLDER): State.OLDER_HANDSHAKE,
        (State.HELLOS, Event.NEWER): State.NEWER_HANDSHAKE,
        (State.OLDER_HANDSHAKE, Event.DATA_BEGINS): State.DATA,
        (State.NEWER_HANDSHAKE, Event.DATA_BEGINS): State.TICKETS,
        (State.TICKETS, Event.TICKETS_OF_ONE_SIZE): State.MORE_TICKETS,
        (State.TICKETS, Event.SETTLED): State.CLOSING_DATA,
        (State.MORE_TICKETS, Event.SETTLED): State.CLOSING_DATA,
    }


def _counts(record: Record) -> bool:
    """Whether a record is one that may be data."""
    return record.kind in (DATA, HANDSHAKE)


def decode(client: list[Run], server: list[Run], order: Order) -> Decoded:
    """A connection of which all is there.

    order: (side, place) behind each segment's last byte in order of time, so that records of both sides can be put in
    order.
    """
    return whole(Tls(), client, server, order)
