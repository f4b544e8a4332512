"""Packets of the MySQL protocol on one side of a connection: numbers begin again at 0 with each command, and its
answer's first packet has 1.
"""

from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols.reader import Reader

QUERY, PREPARE, EXECUTE = 0x03, 0x16, 0x17
UNANSWERED = (0x01, 0x18, 0x19)  # commands to which the server says nothing
_SSL = 0x0800
_ATTRIBUTES = 1 << 27  # of a client that may send attributes with what it asks
_LONGEST_SSL_REQUEST = 32
_SIGNED = (b"\0", b"\xff")  # what the packet that ends the sign-on begins with
_HEAD = 4  # size, number


@dataclass(slots=True)
class Request:
    """A command of the client, up to its next one."""

    at: int
    end: int
    body: bytes


@dataclass(slots=True)
class Answer:
    """What the server says to one command."""

    at: int
    end: int
    first: bytes  # the first packet's body
    last: bytes
    packets: int = 1

    def take(self, end: int, body: bytes) -> None:
        """Another packet of it."""
        self.end, self.last, self.packets = end, body, self.packets + 1


class FrontState(IntEnum):
    """Where the client is."""

    BEGINNING = 0
    SIGNING_ON = 1
    ASKING = 2
    SEALED = 3


class FrontEvent(IntEnum):
    """What ends a state of the client."""

    SIGNS_ON = 0
    ASKS = 1
    SEALS = 2
    HOLE = 3


class _Packets(Reader):
    """Whole packets, one after another."""

    def _packet(self) -> tuple[int, bytes] | None:
        """(number, body) of the next packet, which is used up; nothing where it is not there."""
        if self.rest < _HEAD:
            return None
        head = self.at
        end = head + _HEAD + int.from_bytes(self.data[head : head + 3], "little")
        if end > len(self.data):
            if not self.over:
                return None
            end = len(self.data)
        self.at = end
        return self.data[head + 3], self.data[head + _HEAD : end]

    def _rest_away(self) -> None:
        self.at = len(self.data)


class Front(_Packets):
    """What the client says; whoever reads on takes commands out of `found`."""

    BEGIN, HOLE = FrontState.BEGINNING, FrontEvent.HOLE

    def __init__(self) -> None:
        super().__init__()
        self.found: deque[Request] = deque()
        self.begin = -1
        self.signs_on = False  # the connection was seen from its start
        self.signed_end = -1
        self.attributes = False
        self.sealed_end = -1
        self.asks = False
        self._open: Request | None = None

    def _beginning(self) -> FrontEvent | None:
        at = self.at
        packet = self._packet()
        if packet is None:
            return None
        number, body = packet
        self.begin = self.base + at
        told = int.from_bytes(body[:4], "little") if len(body) >= 4 else 0
        if told & _SSL and len(body) <= _LONGEST_SSL_REQUEST:
            self.sealed_end = self.place
            return FrontEvent.SEALS
        self.signs_on = number > 0
        self.attributes = self.signs_on and bool(told & _ATTRIBUTES)
        self.signed_end = self.place
        if self.signs_on:
            return FrontEvent.SIGNS_ON
        self.at = at
        return FrontEvent.ASKS

    def _signing_on(self) -> FrontEvent | None:
        at = self.at
        while (packet := self._packet()) is not None:
            number, body = packet
            if number == 0 and body:
                self.at = at
                return FrontEvent.ASKS
            self.signed_end, at = self.place, self.at
        return None

    def _asking(self) -> FrontEvent | None:
        at = self.at
        while (packet := self._packet()) is not None:
            number, body = packet
            if number == 0 and body:
                self.asks = True
                self.last()
                self._open = Request(self.base + at, self.place, body)
            elif self._open is not None:
                self._open.end = self.place
            at = self.at
        return None

    def last(self) -> None:
        """A command that is open is told."""
        if self._open is not None:
            self.found.append(self._open)
            self._open = None

    def _sealed(self) -> FrontEvent | None:
        self._rest_away()
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        FrontState.BEGINNING: _beginning,
        FrontState.SIGNING_ON: _signing_on,
        FrontState.ASKING: _asking,
        FrontState.SEALED: _sealed,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (FrontState.BEGINNING, FrontEvent.SIGNS_ON): FrontState.SIGNING_ON,
        (FrontState.BEGINNING, FrontEvent.ASKS): FrontState.ASKING,
        (FrontState.BEGINNING, FrontEvent.SEALS): FrontState.SEALED,
        (FrontState.SIGNING_ON, FrontEvent.ASKS): FrontState.ASKING,
        (FrontState.BEGINNING, FrontEvent.HOLE): FrontState.BEGINNING,
        (FrontState.SIGNING_ON, FrontEvent.HOLE): FrontState.SIGNING_ON,
        (FrontState.ASKING, FrontEvent.HOLE): FrontState.ASKING,
        (FrontState.SEALED, FrontEvent.HOLE): FrontState.SEALED,
    }


class BackState(IntEnum):
    """Where the server is."""

    GREETING = 0
    SIGNING_ON = 1  # until it says that the client is in, or is not
    SIGNED_ON = 2
    ANSWERING = 3


class BackEvent(IntEnum):
    """What ends a state of the server."""

    GREETED = 0
    SIGNED = 1
    ANSWERS = 2
    HOLE = 3


class Back(_Packets):
    """What the server says; whoever reads on takes answers out of `found`."""

    BEGIN, HOLE = BackState.GREETING, BackEvent.HOLE

    def __init__(self, front: Front) -> None:
        super().__init__()
        self.found: deque[Answer] = deque()
        self.greeting_end = -1
        self.sign_on: Answer | None = None  # what it said to the client's sign-on
        self.signed = False  # and that this was all
        self._front = front
        self._open: Answer | None = None

    def _greeting(self) -> BackEvent | None:
        at = self.at
        if self._front.begin < 0 and not self.over:
            return None  # Whether the client signs on decides what this is.
        packet = self._packet()
        if packet is None:
            return None
        self.greeting_end = self.place
        if self._front.signs_on:
            return BackEvent.GREETED
        self.at = at
        return BackEvent.ANSWERS

    def _signing_on(self) -> BackEvent | None:
        at = self.at
        while (packet := self._packet()) is not None:
            number, body = packet
            if number == 1:
                self.at, self.signed = at, True
                return BackEvent.ANSWERS
            self._of_sign_on(at, body)
            at = self.at
            if number >= 2 and body[:1] in _SIGNED:
                return BackEvent.SIGNED
        return None

    def _signed_on(self) -> BackEvent | None:
        at = self.at
        while (packet := self._packet()) is not None:
            if packet[0] == 1:
                self.at, self.signed = at, True
                return BackEvent.ANSWERS
            self._of_sign_on(at, packet[1])
            at = self.at
        return None

    def _of_sign_on(self, at: int, body: bytes) -> None:
        if self.sign_on is None:
            self.sign_on = Answer(self.base + at, self.place, body, body)
        else:
            self.sign_on.take(self.place, body)

    def _answering(self) -> BackEvent | None:
        at = self.at
        while (packet := self._packet()) is not None:
            number, body = packet
            if number == 1:
                self.last()
                self._open = Answer(self.base + at, self.place, body, body)
            elif self._open is not None:
                self._open.take(self.place, body)
            at = self.at
        return None

    def last(self) -> None:
        """An answer that is open is told."""
        if self._open is not None:
            self.found.append(self._open)
            self._open = None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        BackState.GREETING: _greeting,
        BackState.SIGNING_ON: _signing_on,
        BackState.SIGNED_ON: _signed_on,
        BackState.ANSWERING: _answering,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (BackState.GREETING, BackEvent.GREETED): BackState.SIGNING_ON,
        (BackState.GREETING, BackEvent.ANSWERS): BackState.ANSWERING,
        (BackState.SIGNING_ON, BackEvent.SIGNED): BackState.SIGNED_ON,
        (BackState.SIGNING_ON, BackEvent.ANSWERS): BackState.ANSWERING,
        (BackState.SIGNED_ON, BackEvent.ANSWERS): BackState.ANSWERING,
        (BackState.GREETING, BackEvent.HOLE): BackState.GREETING,
        (BackState.SIGNING_ON, BackEvent.HOLE): BackState.SIGNING_ON,
        (BackState.SIGNED_ON, BackEvent.HOLE): BackState.SIGNED_ON,
        (BackState.ANSWERING, BackEvent.HOLE): BackState.ANSWERING,
    }
