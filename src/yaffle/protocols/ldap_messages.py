"""Messages of LDAP on one side of a connection (RFC 4511 section 4.1.1)."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols import ber
from yaffle.protocols.reader import Reader

EXTENDED, EXTENDED_ANSWER = 23, 24
_SEQUENCE, _INTEGER, _APPLICATION = 0x30, 2, 0x40
_HEADERS = 32  # Bytes within which the three headers that a message begins with are.
_HANDSHAKE = 22  # what a record of TLS begins with


class State(IntEnum):
    """Where one side is."""

    MESSAGES = 0
    LOST = 1  # what stands here is no message
    SEALED = 2  # inside TLS


class Event(IntEnum):
    """What ends a state."""

    SENSELESS = 0
    FOUND = 1
    SEALS = 2
    HOLE = 3


@dataclass(slots=True)
class Message:
    """One message."""

    at: int
    end: int
    number: int
    operation: int  # application tag
    body: bytes


@dataclass(frozen=True, slots=True)
class _Begun:
    """What a message begins with."""

    outer: ber.Part
    number: ber.Part
    operation: ber.Part


def _begun(data: bytes, at: int) -> _Begun | None:
    """The message that begins at a place; None where none does, or its headers are not all there."""
    outer = ber.header(data, at)
    if outer is None or outer.tag != _SEQUENCE:
        return None
    number = ber.header(data, outer.start)
    if number is None or number.tag != _INTEGER or not 1 <= number.size <= 4:
        return None
    operation = ber.header(data, number.end)
    if operation is None or operation.tag & 0xC0 != _APPLICATION:
        return None
    return _Begun(outer, number, operation)


class Messages(Reader):
    """Messages as they are whole; whoever reads on takes them out of `found`."""

    BEGIN, HOLE = State.MESSAGES, Event.HOLE

    def __init__(self) -> None:
        super().__init__()
        self.found: list[Message] = []
        self._may_seal = False  # the last message may have been the one behind which TLS begins

    def _messages(self) -> Event | None:
        data = self.data
        while self.at < len(data):
            if self._may_seal and data[self.at] == _HANDSHAKE:
                return Event.SEALS
            begun = _begun(data, self.at)
            if begun is None:
                if self.rest < _HEADERS and not self.over:
                    return None
                self.at += 1
                return Event.SENSELESS
            if begun.outer.end > len(data) and not self.over:
                return None
            stop = min(len(data), begun.outer.end)
            number, operation = ber.integer(data[begun.number.start : begun.number.end]), begun.operation.tag & 0x1F
            body = data[begun.operation.start : min(stop, begun.operation.end)]
            self.found.append(Message(self.base + self.at, self.base + stop, number, operation, body))
            self._may_seal = operation in (EXTENDED, EXTENDED_ANSWER)
            self.at = stop
        return None

    def _lost(self) -> Event | None:
        """In mid-stream, or after a hole: where a message begins."""
        self._may_seal = False
        while (at := self.data.find(b"\x30", self.at)) >= 0:
            self.at = at
            if _begun(self.data, at) is not None:
                return Event.FOUND
            if self.rest < _HEADERS and not self.over:
                return None
            self.at += 1
        self.at = len(self.data)
        return None

    def _sealed(self) -> Event | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.MESSAGES: _messages,
        State.LOST: _lost,
        State.SEALED: _sealed,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.MESSAGES, Event.SENSELESS): State.LOST,
        (State.LOST, Event.FOUND): State.MESSAGES,
        (State.MESSAGES, Event.SEALS): State.SEALED,
        (State.MESSAGES, Event.HOLE): State.MESSAGES,
        (State.LOST, Event.HOLE): State.MESSAGES,
        (State.SEALED, Event.HOLE): State.SEALED,
    }
