"""Frames of HTTP/2 on one side of a connection (RFC 9113), with the header fields that they carry (RFC 7541)."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from struct import Struct
from typing import Any, ClassVar

from hpack import Decoder
from hpack.exceptions import HPACKError

from yaffle.protocols.reader import Reader

PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"
DATA, HEADERS, RST_STREAM, SETTINGS, PUSH_PROMISE, CONTINUATION = 0, 1, 3, 4, 5, 9
OF_MESSAGES = (HEADERS, CONTINUATION, DATA)
END_STREAM, _END_HEADERS, _PADDED, _PRIORITY = 1, 4, 8, 0x20
_HEADER = Struct("!HBBBI")  # length in 16 and 8 bits, type, flags, stream
_LARGEST_BLOCK = 1 << 18
Fields = dict[str, str]


@dataclass(slots=True)
class Frame:
    """One frame, or as much of it as is there."""

    kind: int
    flags: int
    stream: int
    at: int
    end: int
    body: bytes  # not of data
    whole: bool


class State(IntEnum):
    """Where one side is."""

    BEGINNING = 0
    FRAMES = 1
    UNREADABLE = 2  # what follows refers to what was lost


class Event(IntEnum):
    """What ends a state."""

    BEGUN = 0
    SENSELESS = 1
    HOLE = 2


class Frames(Reader):
    """Frames as they are whole; whoever reads on takes them out of `found`."""

    BEGIN, HOLE = State.BEGINNING, Event.HOLE

    def __init__(self, *, of_client: bool) -> None:
        super().__init__()
        self.found: list[Frame] = []
        self._of_client = of_client

    def _beginning(self) -> Event | None:
        """A side begins with the preface, or with its settings: then nothing is missing before."""
        size = len(PREFACE) if self._of_client else 4
        if self.rest < size and not self.over:
            return None
        if self._of_client:
            begins = self.data.startswith(PREFACE, self.at)
            self.at += size if begins else 0
        else:
            begins = self.data[self.at + 3 : self.at + 4] == bytes([SETTINGS])
        return Event.BEGUN if begins else Event.SENSELESS

    def _frames(self) -> Event | None:
        data = self.data
        while self.rest >= _HEADER.size:
            high, low, kind, flags, stream = _HEADER.unpack_from(data, self.at)
            end = self.at + _HEADER.size + (high << 8 | low)
            whole = end <= len(data)
            if not whole and not self.over:
                break
            stop = min(len(data), end)
            body = b"" if kind == DATA else data[self.at + _HEADER.size : stop]
            self.found.append(Frame(kind, flags, stream & 0x7FFFFFFF, self.place, self.base + stop, body, whole))
            self.at = stop
        return None

    def _unreadable(self) -> Event | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.BEGINNING: _beginning,
        State.FRAMES: _frames,
        State.UNREADABLE: _unreadable,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.BEGINNING, Event.BEGUN): State.FRAMES,
        (State.BEGINNING, Event.SENSELESS): State.UNREADABLE,
        (State.FRAMES, Event.HOLE): State.UNREADABLE,
        (State.UNREADABLE, Event.HOLE): State.UNREADABLE,
    }


def _block(frame: Frame) -> bytes:
    """The part of a header block that a frame carries, without padding, priority and promised stream."""
    body, first = frame.body, 0
    if frame.kind == CONTINUATION:
        return body
    padding = 0
    if frame.flags & _PADDED:
        padding, first = (body[0] if body else 0), 1
    if frame.kind == HEADERS and frame.flags & _PRIORITY:
        first += 5
    if frame.kind == PUSH_PROMISE:
        first += 4
    return body[first : max(first, len(body) - padding)]


class FieldReader:
    """Header blocks of one side, decoded in order."""

    def __init__(self) -> None:
        self._decoder = Decoder(max_header_list_size=_LARGEST_BLOCK)
        self._decoder.max_allowed_table_size = 1 << 16
        self._open = bytearray()
        self._first: Frame | None = None
        self.broken = ""

    def take(self, frame: Frame) -> Fields | None:
        """Fields that a frame completes; None where it completes none."""
        if self.broken or not frame.whole or frame.kind not in (HEADERS, PUSH_PROMISE, CONTINUATION):
            return None
        if frame.kind != CONTINUATION:
            self._open, self._first = bytearray(), frame
        if self._first is None:
            return None
        self._open += _block(frame)
        if len(self._open) > _LARGEST_BLOCK:
            self.broken = "a block of header fields is too large to be read"
            return None
        if not frame.flags & _END_HEADERS:
            return None
        first, self._first = self._first, None
        try:
            fields = {
                _text(name): _text(value)
                for name, value in reversed(list(self._decoder.decode(bytes(self._open), raw=True)))
            }
        except (HPACKError, ValueError, IndexError) as error:
            self.broken = f"header fields cannot be read from here on ({error})"
            return None
        return fields if first.kind == HEADERS else None


def _text(value: bytes | str) -> str:
    return value.decode("latin-1") if isinstance(value, bytes) else value
