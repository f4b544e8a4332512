"""Frames of SMB over TCP on one side of a connection, and the messages in them (MS-SMB2 section 2.1, 2.2.1)."""

from dataclasses import dataclass
from struct import Struct

from yaffle.protocols.records import Record
from yaffle.protocols.seeking import Event, Seeking

PLAIN, SEALED, PACKED, OLD = b"\xfeSMB", b"\xfdSMB", b"\xfcSMB", b"\xffSMB"
KINDS = (PLAIN, SEALED, PACKED, OLD)
_HEADER = Struct(
    "<HHIHHIIQ"
)  # structure size, credit charge, status, command, credits, flags, next command, message number
_HEADER_BYTES = 64
_FRAME = 8  # bytes that tell a frame: a nil, its size, what is in it
_ANSWER = 1
TREE_CONNECT, CREATE = 3, 5  # commands that name something
# Bytes that are kept of a message: what it carries is not looked at, but for names.
_KEPT, _KEPT_WITH_NAME = 160, 4096


@dataclass(slots=True)
class Message:
    """One command or answer; those that travel together share their frame's places."""

    at: int
    end: int
    command: int
    status: int
    answer: bool
    number: int
    size: int
    data: bytes  # from its header on


class Frames(Seeking):
    """Messages as their frames are whole; whoever reads on takes them out of `found`, sealed ones out of `sealed`."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[Message] = []
        self.sealed: list[Record] = []

    def _read(self) -> Event | None:
        data, base = self.data, self.base
        while self.rest >= _FRAME:
            at = self.at
            size = int.from_bytes(data[at + 1 : at + 4], "big")
            kind = data[at + 4 : at + _FRAME]
            if data[at] != 0 or kind not in KINDS:
                self.at = at + 1
                return Event.SENSELESS
            end = at + 4 + size
            if end > len(data) and not self.over:
                return None
            end = min(end, len(data))
            if kind == PLAIN:
                self.found += _messages(data[at + 4 : end], base + at, base + end)
            elif kind != OLD:
                self.sealed.append(Record(kind[0], base + at, base + end))
            self.at = min(max(end, at + _FRAME), len(data))
        if self.over:
            self.at = len(data)
        return None

    def _seek(self) -> Event | None:
        """In mid-stream, or after a hole: where a frame begins."""
        data, at = self.data, self.at
        while (place := data.find(b"SMB", at + 5)) >= 0:
            at = place - 5
            if data[at] == 0 and data[at + 4 : at + _FRAME] in KINDS:
                self.at = at
                return Event.FOUND
            at += 1
        self.at = len(data) if self.over else max(self.at, len(data) - _FRAME + 1)
        return None


def _messages(data: bytes, at: int, end: int) -> list[Message]:
    """Those of one frame."""
    found: list[Message] = []
    place = 0
    while place + _HEADER_BYTES <= len(data) and data[place : place + 4] == PLAIN:
        size, _, status, command, _, flags, following, number = _HEADER.unpack_from(data, place + 4)
        if size != _HEADER_BYTES:
            break
        stop = place + following if _HEADER_BYTES <= following <= len(data) - place else len(data)
        kept = data[place : min(stop, place + (_KEPT_WITH_NAME if command in (TREE_CONNECT, CREATE) else _KEPT))]
        found.append(Message(at, end, command, status, bool(flags & _ANSWER), number, stop - place, kept))
        place = stop
    return found
