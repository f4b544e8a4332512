"""Messages of the PostgreSQL protocol, version 3, on one side of a connection.

Source: the protocol's published description (message formats and flow).
"""

import re
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from struct import Struct
from typing import Any, ClassVar

from yaffle.protocols.message import LONGEST_VALUE, MOST_VALUES
from yaffle.protocols.reader import Reader

_LENGTH = Struct("!I")
SSL, GSS, CANCEL = 80877103, 80877104, 80877102  # what a start-up message asks for, beside a version
VERSION = 3
SHORTEST_START, LONGEST_START = 8, 10_000
_LARGEST = 1 << 30
_LONGEST_LABEL = 300
_HEAD = 5  # kind, length
_FRONT = b"BCcdDEFfHPpQSX"
_BACK = b"123ACcdDEGHIKNnRStTVWvZs"
_READY, _READY_STATES = b"Z\0\0\0\5", (b"I", b"T", b"E")
_ASKING = re.compile(rb"[QPB]\0\0")


def word_at(data: bytes, at: int) -> int:
    """A number of four octets."""
    return int(_LENGTH.unpack_from(data, at)[0])


def text_at(data: bytes, at: int, end: int) -> str:
    """A zero-ended text."""
    stop = data.find(b"\0", at, end)
    return " ".join(data[at : stop if stop >= 0 else end].decode("utf-8", "replace").split())[:_LONGEST_LABEL]


def error_code(data: bytes, at: int, end: int) -> str:
    """SQLSTATE of an error: the field C."""
    place = at
    while place < end and data[place : place + 1] not in (b"\0", b""):
        stop = data.find(b"\0", place, end)
        if stop < 0:
            break
        if data[place : place + 1] == b"C":
            return data[place + 1 : stop].decode("latin-1")
        place = stop + 1
    return "error"


def starts(length: int, code: int) -> bool:
    """Whether a message without a kind begins like this."""
    return SHORTEST_START <= length <= LONGEST_START and (code in (SSL, GSS, CANCEL) or code >> 16 == VERSION)


@dataclass(slots=True)
class Statement:
    """What one round of the client asks, up to its end."""

    at: int
    end: int
    label: str
    values: tuple[str, ...]
    asks: bool = True  # not a lone Sync


@dataclass(slots=True)
class Answer:
    """What the server says up to its next ready-for-query."""

    at: int
    end: int
    outcome: str  # SQLSTATE of an error; empty without one
    broken_off: bool = False


class FrontState(IntEnum):
    """Where the client is."""

    STARTING = 0  # messages without a kind
    TYPED = 1
    LOST = 2
    OVER = 3


class FrontEvent(IntEnum):
    """What ends a state of the client."""

    STARTED = 0
    SENSELESS = 1
    FOUND = 2
    TERMINATED = 3
    HOLE = 4


class Front(Reader):
    """What the client says; whoever reads on takes statements out of `found`."""

    BEGIN, HOLE = FrontState.STARTING, FrontEvent.HOLE

    def __init__(self) -> None:
        super().__init__()
        self.found: deque[Statement] = deque()
        self.begin = -1  # the place of the first byte
        self.starts: list[int] = []  # places behind messages without a kind
        self.signed_end = 0  # the place behind the last message of the sign-on, so far
        self.spoke = False  # a message that is not of the sign-on was read
        self._prepared: dict[str, str] = {}
        self._begun = -1
        self._label = ""
        self._values: tuple[str, ...] = ()
        self._asked = False  # anything, before

    @property
    def started(self) -> bool:
        """Whether no more messages without a kind can come."""
        return self.over or self.state != FrontState.STARTING

    def _starting(self) -> FrontEvent | None:
        if self.begin < 0 <= self.base:
            self.begin = self.base
        while self.rest >= SHORTEST_START:
            length = word_at(self.data, self.at)
            if not starts(length, word_at(self.data, self.at + 4)):
                return FrontEvent.STARTED
            if self.rest < length and not self.over:
                return None
            self.at = min(self.at + length, len(self.data))
            self.starts.append(self.place)
            self.signed_end = self.place
        return FrontEvent.STARTED if self.over else None

    def _typed(self) -> FrontEvent | None:
        data, size_of_all = self.data, len(self.data)
        while self.rest >= _HEAD:
            kind, length = data[self.at : self.at + 1], word_at(data, self.at + 1)
            if kind not in _FRONT or not 4 <= length <= _LARGEST:
                self.at += 1
                return FrontEvent.SENSELESS
            end = self.at + 1 + length
            if end > size_of_all:
                if not self.over:
                    return None
                end = size_of_all
            if kind == b"X":
                self.spoke = True
                return FrontEvent.TERMINATED
            at, self.at = self.at, end
            self._take(kind, at, end)
        return None

    def _take(self, kind: bytes, at: int, end: int) -> None:
        """One message."""
        if kind == b"p" and self.starts:
            self.signed_end = max(self.signed_end, self.base + end)
            return
        data, place = self.data, at + _HEAD
        self.spoke = True
        if self._begun < 0:
            self._begun = self.base + at
        if kind == b"Q":
            self._label = text_at(data, place, end)
        elif kind == b"P":
            name = text_at(data, place, end)
            self._label = text_at(data, data.find(b"\0", place, end) + 1, end)
            self._prepared[name] = self._label
        elif kind == b"B":
            self._bind(place, end)
        if kind in b"QSF":
            lone = kind == b"S" and self._asked and self._begun == self.base + at and not self._label
            self.found.append(Statement(self._begun, self.base + end, self._label, self._values, not lone))
            self._asked, self._label, self._begun, self._values = True, "", -1, ()

    def _bind(self, place: int, end: int) -> None:
        """A statement that was prepared is given values."""
        portal = self.data.find(b"\0", place, end)
        name = text_at(self.data, portal + 1, end)
        self._label = self._label or self._prepared.get(name, f"prepared {name}" if name else "")
        self._values = self._values or _bound(self.data, self.data.find(b"\0", portal + 1, end) + 1, end)

    def _lost(self) -> FrontEvent | None:
        """Looks for a query, a statement that is prepared, or one that is given values."""
        found = _ASKING.search(self.data, self.at)
        if found is not None:
            self.at = found.start()
            return FrontEvent.FOUND
        self.at = max(self.at, len(self.data) - 2)
        return None

    def _over(self) -> FrontEvent | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        FrontState.STARTING: _starting,
        FrontState.TYPED: _typed,
        FrontState.LOST: _lost,
        FrontState.OVER: _over,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (FrontState.STARTING, FrontEvent.STARTED): FrontState.TYPED,
        (FrontState.TYPED, FrontEvent.SENSELESS): FrontState.LOST,
        (FrontState.TYPED, FrontEvent.TERMINATED): FrontState.OVER,
        (FrontState.LOST, FrontEvent.FOUND): FrontState.TYPED,
        (FrontState.TYPED, FrontEvent.HOLE): FrontState.LOST,
        (FrontState.LOST, FrontEvent.HOLE): FrontState.LOST,
        (FrontState.OVER, FrontEvent.HOLE): FrontState.OVER,
    }


class BackState(IntEnum):
    """Where the server is."""

    REFUSING = 0  # an octet for each encryption that is asked for
    TYPED = 1
    LOST = 2
    SEALED = 3


class BackEvent(IntEnum):
    """What ends a state of the server."""

    STARTED = 0
    AGREED = 1  # to encryption
    SENSELESS = 2
    FOUND = 3
    HOLE = 4


class Back(Reader):
    """What the server says; whoever reads on takes answers out of `found`."""

    BEGIN, HOLE = BackState.REFUSING, BackEvent.HOLE

    def __init__(self, front: Front) -> None:
        super().__init__()
        self.found: deque[Answer] = deque()
        self.begin = -1
        self.refusals = 0
        self.agreed = b""  # to which encryption
        self._front = front
        self._open: Answer | None = None

    def _refusing(self) -> BackEvent | None:
        if self.base < 0:
            return None
        self.begin = self.base if self.begin < 0 else self.begin
        starts, started = self._front.starts, self._front.started
        if not starts:
            return BackEvent.STARTED if started else None
        head = self.data[self.at : self.at + 2]
        self.refusals = len(head) - len(head.lstrip(b"N"))
        answer = self.data[self.at + self.refusals : self.at + self.refusals + 1]
        if not answer and not self.over:
            return None
        if answer in (b"S", b"G"):
            if self.refusals < len(starts):
                self.agreed = answer
                return BackEvent.AGREED
            if not started:
                return None
        self.at += self.refusals
        return BackEvent.STARTED

    def _typed(self) -> BackEvent | None:
        data, base, size_of_all, at = self.data, self.base, len(self.data), self.at
        while at + _HEAD <= size_of_all:
            kind, length = data[at : at + 1], word_at(data, at + 1)
            if kind not in _BACK or not 4 <= length <= _LARGEST:
                self.at = at + 1
                return BackEvent.SENSELESS
            end = at + 1 + length
            if end > size_of_all:
                if not self.over:
                    break
                end = size_of_all
            if self._open is None:
                self._open = Answer(base + at, base + end, "")
            self._open.end = base + end
            if kind == b"E" and not self._open.outcome:
                self._open.outcome = error_code(data, at + _HEAD, end) or "error"
            elif kind == b"Z":
                self.found.append(self._open)
                self._open = None
            at = end
        self.at = at
        return None

    def last(self) -> None:
        """An answer that is not whole is told as far as it is there."""
        if self._open is not None:
            self._open.broken_off = True
            self.found.append(self._open)
            self._open = None

    def _lost(self) -> BackEvent | None:
        """Looks for a ready-for-query."""
        at = self.at
        while (at := self.data.find(_READY, at)) >= 0:
            if self.data[at + 5 : at + 6] in _READY_STATES:
                self.at = at
                return BackEvent.FOUND
            if at + 5 >= len(self.data):
                self.at = at
                return None
            at += 1
        self.at = max(self.at, len(self.data) - len(_READY))
        return None

    def _sealed(self) -> BackEvent | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        BackState.REFUSING: _refusing,
        BackState.TYPED: _typed,
        BackState.LOST: _lost,
        BackState.SEALED: _sealed,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (BackState.REFUSING, BackEvent.STARTED): BackState.TYPED,
        (BackState.REFUSING, BackEvent.AGREED): BackState.SEALED,
        (BackState.TYPED, BackEvent.SENSELESS): BackState.LOST,
        (BackState.LOST, BackEvent.FOUND): BackState.TYPED,
        (BackState.REFUSING, BackEvent.HOLE): BackState.LOST,
        (BackState.TYPED, BackEvent.HOLE): BackState.LOST,
        (BackState.LOST, BackEvent.HOLE): BackState.LOST,
        (BackState.SEALED, BackEvent.HOLE): BackState.SEALED,
    }


def _bound(data: bytes, at: int, end: int) -> tuple[str, ...]:
    """The first short values of a Bind message, from its parameters' formats on: texts, and whole numbers in binary."""
    count = int.from_bytes(data[at : at + 2], "big")
    formats = [int.from_bytes(data[at + 2 + 2 * k : at + 4 + 2 * k], "big") for k in range(min(count, MOST_VALUES))]
    at += 2 + 2 * count
    found, at = [], at + 2
    for k in range(min(MOST_VALUES, int.from_bytes(data[at - 2 : at], "big"))):
        size = int.from_bytes(data[at : at + 4], "big", signed=True)
        at += 4
        if size < 0:
            continue
        if at + size > end:
            break
        binary = formats[min(k, len(formats) - 1)] if formats else 0
        held = data[at : at + size]
        if size <= LONGEST_VALUE:
            found.append(str(int.from_bytes(held, "big", signed=True)) if binary else held.decode("utf-8", "replace"))
        at += size
    return tuple(found)
