"""Requests or answers of HTTP/1.1 on one side of a connection (RFC 9112): heads, bodies by length, in chunks or to the
end, pipelined, behind holes.
"""

import re
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols.reader import Reader

METHODS = (
    b"GET ",
    b"POST ",
    b"PUT ",
    b"HEAD ",
    b"DELETE ",
    b"OPTIONS ",
    b"PATCH ",
    b"CONNECT ",
    b"TRACE ",
    b"PROPFIND ",
    b"REPORT ",
)
ANSWER = b"HTTP/1."
_REQUEST = re.compile(rb"(?:\r\n)*([A-Z][A-Z-]{1,19}) ([^ \r\n]{1,8192}) HTTP/1\.[01]\r\n")
_STATUS = re.compile(rb"(?:\r\n)*HTTP/1\.[01] (\d{3})[^\r\n]*\r\n")
_EMPTY_LINES = re.compile(rb"[\r\n]*")
_LENGTH = re.compile(rb"\r\ncontent-length:[ \t]*(\d{1,18})[ \t]*\r\n", re.IGNORECASE)
_CHUNKED = re.compile(rb"\r\ntransfer-encoding:[^\r\n]*chunked[ \t]*\r\n", re.IGNORECASE)
_HOST = re.compile(rb"\r\nhost:[ \t]*([^\r\n]{1,255}?)[ \t]*\r\n", re.IGNORECASE)
_LONGEST_LINE = 8192 + 64
_LARGEST_HEAD = 1 << 16
_LONGEST_CHUNK_LINE = 64
_ANY_METHOD = re.compile(b"\n(?:" + b"|".join(METHODS) + b")")
_LONGEST_METHOD = max(len(method) for method in METHODS)


@dataclass(slots=True)
class Message:
    """A request or an answer, by its places."""

    at: int
    end: int
    text: bytes  # method, or status
    target: bytes = b""
    host: bytes = b""
    broken_off: bool = False  # its body announced more than there is


class State(IntEnum):
    """What comes next on one side."""

    HEAD = 0
    SIZED = 1  # a body of which the size is known
    CHUNK_LINE = 2
    CHUNK = 3
    TRAILERS = 4
    TO_THE_END = 5  # a body that ends with the connection, or that makes no sense
    LOST = 6  # what stands here is no head
    OTHER = 7  # another protocol


class Event(IntEnum):
    """What ends a state."""

    SENSELESS = 0
    FOUND = 1
    BODY_SIZED = 2
    BODY_CHUNKED = 3
    BODY_TO_THE_END = 4
    DONE = 5
    CHUNK_BEGINS = 6
    LAST_CHUNK = 7
    SWITCHED = 8
    HOLE = 9


class Messages(Reader):
    """Messages as they are whole; whoever reads on takes them out of `found`."""

    BEGIN, HOLE = State.HEAD, Event.HOLE

    def __init__(self) -> None:
        super().__init__()
        self.found: deque[Message] = deque()
        self.heads = 0  # so many were read
        self._open: Message | None = None
        self._left = 0  # bytes of a body, or of a chunk with its line end

    def _head(self) -> Event | None:
        return self._read_head()

    def _read_head(self) -> Event | None:
        """Reads a request or an answer as far as its body."""
        raise NotImplementedError

    def _next_head(self, at: int) -> int:
        """Where a head may begin, from a byte on; -1 nowhere."""
        raise NotImplementedError

    _longest_beginning: ClassVar[int]  # of what `_next_head` looks for

    def _match(self, line: re.Pattern[bytes]) -> re.Match[bytes] | None:
        """The first line of a head. Nothing, with `_cut` set, where it is not there as a whole yet."""
        found = line.match(self.data, self.at)
        self._cut = False
        if found is None and not self.over:
            begins = _EMPTY_LINES.match(self.data, self.at)
            at = begins.end() if begins is not None else self.at
            self._cut = len(self.data) - at < _LONGEST_LINE and self.data.find(b"\r\n", at) < 0
        return found

    def _fields(self, line: re.Match[bytes]) -> bytes | None:
        """The header fields behind a first line, with the line end before them; nothing where they are not whole."""
        stop = self.data.find(b"\r\n\r\n", line.end() - 2, line.end() + _LARGEST_HEAD)
        if stop < 0:
            self._cut = not self.over and len(self.data) < line.end() + _LARGEST_HEAD
            return None
        return self.data[line.end() - 2 : stop + 4]

    def _begun(self, message: Message, fields: bytes, *, without: bool, to_the_end: bool) -> Event:
        """A head was read: what its body is."""
        self.at += message.end - message.at
        self._open = message
        self.heads += 1
        if without:
            return self._done()
        if b"hunked" in fields and _CHUNKED.search(fields):
            return Event.BODY_CHUNKED
        length = _LENGTH.search(fields)
        if length is not None:
            self._left = int(length.group(1))
            return Event.BODY_SIZED
        return Event.BODY_TO_THE_END if to_the_end else self._done()

    def _endless(self, message: Message) -> Event:
        """A head that does not end: all that follows is its."""
        self._open = message
        self.heads += 1
        return Event.BODY_TO_THE_END

    def _done(self) -> Event:
        """The message that is open is told."""
        if self._open is not None:
            self._open.end = self.place
            self.found.append(self._open)
            self._open = None
        return Event.DONE

    def _skip(self) -> bool:
        """Steps over what is left of a body or a chunk; whether that was all there."""
        step = min(self._left, self.rest)
        self.at += step
        self._left -= step
        if self._left and self.over:
            self._break_off()
        return not self._left

    def _break_off(self) -> None:
        """The message that is open is told as far as it is there."""
        if self._open is not None:
            self._open.broken_off = not self.in_hole
        self._done()

    def _sized(self) -> Event | None:
        return self._done() if self._skip() else None

    def _chunk_line(self) -> Event | None:
        line = self.data.find(b"\r\n", self.at, self.at + _LONGEST_CHUNK_LINE)
        if line < 0:
            if self.rest < _LONGEST_CHUNK_LINE:
                if not self.over:
                    return None
                self.at = len(self.data)
                self._break_off()
            return Event.BODY_TO_THE_END
        digits = self.data[self.at : line].split(b";")[0].strip()
        try:
            size = int(digits, 16) if 0 < len(digits) <= 15 else -1
        except ValueError:
            size = -1
        if size < 0:
            return Event.BODY_TO_THE_END
        if size == 0:
            self.at = line
            return Event.LAST_CHUNK
        self.at, self._left = line + 2, size + 2
        return Event.CHUNK_BEGINS

    def _chunk(self) -> Event | None:
        return Event.DONE if self._skip() else None

    def _trailers(self) -> Event | None:
        """Fields behind the last chunk, or nothing; then an empty line."""
        end = self.data.find(b"\r\n\r\n", self.at, self.at + _LARGEST_HEAD)
        if end < 0:
            return Event.BODY_TO_THE_END if self.over or self.rest >= _LARGEST_HEAD else None
        self.at = end + 4
        return self._done()

    def _to_the_end(self) -> Event | None:
        self.at = len(self.data)
        if self.over:
            self._done()
        return None

    def _lost(self) -> Event | None:
        place = self._next_head(self.at)
        if place >= 0:
            self.at = place
            return Event.FOUND
        self.at = max(self.at, len(self.data) - self._longest_beginning)
        return None

    def _other(self) -> Event | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.HEAD: _head,
        State.SIZED: _sized,
        State.CHUNK_LINE: _chunk_line,
        State.CHUNK: _chunk,
        State.TRAILERS: _trailers,
        State.TO_THE_END: _to_the_end,
        State.LOST: _lost,
        State.OTHER: _other,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.HEAD, Event.SENSELESS): State.LOST,
        (State.LOST, Event.FOUND): State.HEAD,
        (State.HEAD, Event.DONE): State.HEAD,
        (State.HEAD, Event.BODY_SIZED): State.SIZED,
        (State.HEAD, Event.BODY_CHUNKED): State.CHUNK_LINE,
        (State.HEAD, Event.BODY_TO_THE_END): State.TO_THE_END,
        (State.HEAD, Event.SWITCHED): State.OTHER,
        (State.SIZED, Event.DONE): State.HEAD,
        (State.CHUNK_LINE, Event.CHUNK_BEGINS): State.CHUNK,
        (State.CHUNK_LINE, Event.LAST_CHUNK): State.TRAILERS,
        (State.CHUNK_LINE, Event.BODY_TO_THE_END): State.TO_THE_END,
        (State.CHUNK, Event.DONE): State.CHUNK_LINE,
        (State.TRAILERS, Event.DONE): State.HEAD,
        (State.TRAILERS, Event.BODY_TO_THE_END): State.TO_THE_END,
        (State.HEAD, Event.HOLE): State.HEAD,
        (State.SIZED, Event.HOLE): State.HEAD,
        (State.CHUNK, Event.HOLE): State.HEAD,
        (State.TO_THE_END, Event.HOLE): State.HEAD,
        (State.LOST, Event.HOLE): State.HEAD,
        (State.OTHER, Event.HOLE): State.OTHER,
    }


class Requests(Messages):
    """What the client asks."""

    _longest_beginning = _LONGEST_METHOD

    def __init__(self) -> None:
        super().__init__()
        self.methods: deque[bytes] = deque()  # of requests whose answers were not read yet

    def _read_head(self) -> Event | None:
        line = self._match(_REQUEST)
        if line is None:
            return None if self._cut or not self.rest else Event.SENSELESS
        at, method, target = self.place, line.group(1), line.group(2)
        fields = self._fields(line)
        if fields is None:
            if self._cut:
                return None
            self.methods.append(method)
            return self._endless(Message(at, at, method, target))
        self.methods.append(method)
        host = _HOST.search(fields)
        end = at + line.end() - 2 - self.at + len(fields)
        message = Message(at, end, method, target, host.group(1) if host else b"")
        return self._begun(message, fields, without=False, to_the_end=False)

    def _next_head(self, at: int) -> int:
        found = _ANY_METHOD.search(self.data, at)
        return found.start() + 1 if found is not None else -1


class Answers(Messages):
    """What the server answers: how long that is depends on what was asked."""

    _longest_beginning = len(ANSWER) - 1

    def __init__(self, requests: Requests) -> None:
        super().__init__()
        self._requests = requests

    def _read_head(self) -> Event | None:
        line = self._match(_STATUS)
        if line is None:
            if self._cut or not self.rest:
                return None
            self.at += 1
            return Event.SENSELESS
        at, status = self.place, line.group(1)
        fields = self._fields(line)
        if fields is None:
            return None if self._cut else self._endless(Message(at, at, status))
        end = at + line.end() - 2 - self.at + len(fields)
        if status[:1] == b"1" and status != b"101":  # Interim: the answer proper is still to come.
            self.at += end - at
            return Event.DONE
        methods = self._requests.methods
        if not methods and not self._requests.over and not self.over:
            return None  # What was asked is not known yet.
        method = methods.popleft() if methods else b"GET"
        tunnel = method == b"CONNECT" and status[:1] == b"2"
        without = method == b"HEAD" or status in (b"101", b"204", b"304") or tunnel
        event = self._begun(Message(at, end, status), fields, without=without, to_the_end=True)
        return Event.SWITCHED if tunnel or status == b"101" else event

    def _next_head(self, at: int) -> int:
        return self.data.find(ANSWER, at)
