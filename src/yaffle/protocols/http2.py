"""HTTP/2 in clear text (RFC 9113): each stream's request with its answer, however they are interleaved.

Header fields are compressed against everything that went before (RFC 7541), so that nothing can be read behind a hole.
"""

from dataclasses import dataclass

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.http2_frames import (
    END_STREAM,
    OF_MESSAGES,
    PREFACE,
    RST_STREAM,
    FieldReader,
    Fields,
    Frame,
    Frames,
)
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.records import Order

_LONGEST_LABEL = 200
_MOST_OPEN = 1 << 16
_MISSING = "bytes are missing: what follows the gap cannot be read, its header fields refer to what was lost"

BEGINS = PREFACE[:1]  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    return client.startswith(PREFACE)


@dataclass(slots=True)
class _Half:
    """A request or an answer of one stream, as far as it came."""

    at: int
    end: int
    said: str  # label, or outcome
    size_bytes: int = 0
    ended: bool = False

    def take(self, frame: Frame) -> None:
        """A frame that is its."""
        self.end = frame.end
        self.size_bytes += frame.end - frame.at
        self.ended = frame.whole and bool(frame.flags & END_STREAM)


class Web2(Conversation):
    """Streams that the client opened, in order of their requests once all are told."""

    def __init__(self) -> None:
        self._front, self._back = Frames(of_client=True), Frames(of_client=False)
        super().__init__("http2", self._front, self._back)
        self._fields = (FieldReader(), FieldReader())
        self._asked: dict[int, _Half] = {}
        self._told: dict[int, _Half] = {}
        self._reset: set[int] = set()  # streams that the server ended
        self._cancelled: set[int] = set()  # streams that the client ended
        self._newest = 0  # stream that the client opened

    def _went_on(self, order: Order, *, over: bool) -> None:
        for frame in self._front.found:
            self._ask(frame)
        for frame in self._back.found:
            self._tell(frame)
        self._front.found, self._back.found = [], []
        ended = [stream for stream, half in self._asked.items() if over or (half.ended and self._ended(stream))]
        for stream in ended:
            self._pair(stream)
        if over:
            self.pairs.sort(key=lambda pair: pair.request)
        broken = (_MISSING if self._holes else "", *(reader.broken for reader in self._fields))
        self.note = next((words for words in broken if words), "")

    def _ended(self, stream: int) -> bool:
        told = self._told.get(stream)
        return told is not None and told.ended

    def _ask(self, frame: Frame) -> None:
        """A frame of the client."""
        fields = self._fields[0].take(frame)
        half = self._asked.get(frame.stream)
        opens = half is None and fields is not None and frame.stream > self._newest and frame.stream % 2 == 1
        if opens and fields is not None and ":method" in fields and len(self._asked) < _MOST_OPEN:
            self._newest = frame.stream
            label = f"{fields[':method']} {fields.get(':path', fields.get(':authority', ''))}"[:_LONGEST_LABEL]
            half = self._asked[frame.stream] = _Half(frame.at, frame.end, label)
            authority = fields.get(":authority", fields.get("host", ""))
            self.host = self.host or (authority.rsplit(":", 1)[0] if authority.count(":") == 1 else authority)
        if half is not None and frame.kind in OF_MESSAGES and not half.ended:
            half.take(frame)
        if half is not None and frame.kind == RST_STREAM:
            self._cancelled.add(frame.stream)

    def _tell(self, frame: Frame) -> None:
        """A frame of the server."""
        fields = self._fields[1].take(frame) or {}
        stream = frame.stream
        if stream % 2 == 0 or (stream not in self._asked and stream <= self._newest):
            return  # The server opened it, or it was answered.
        if frame.kind == RST_STREAM:
            self._reset.add(stream)
        if frame.kind not in OF_MESSAGES:
            return
        status = fields.get(":status", "")
        if status[:1] == "1" and len(status) == 3:  # Interim: the answer proper is still to come.
            return
        half = self._told.get(stream)
        if half is None and len(self._told) < _MOST_OPEN:
            half = self._told[stream] = _Half(frame.at, frame.end, "")
        if half is not None and not half.ended:
            half.take(frame)
            half.said = _outcome(fields, status) or half.said

    def _pair(self, stream: int) -> None:
        """Request and answer of a stream are whole."""
        asked, told = self._asked.pop(stream), self._told.pop(stream, None)
        pair = Pair(asked.at, asked.end, label=asked.said, outcome="unanswered", asked_bytes=asked.size_bytes)
        if told is not None:
            pair.answer, pair.answer_end, pair.told_bytes = told.at, told.end, told.size_bytes
            pair.broken_off = not (told.ended or stream in self._reset | self._cancelled or self._holes)
        if told is not None and told.said:
            pair.outcome = told.said
        elif told is None and stream in self._reset:
            pair.outcome = "reset"
        self._reset.discard(stream)
        self._cancelled.discard(stream)
        self.pairs.append(pair)


def _outcome(fields: Fields, status: str) -> str:
    """What a block of an answer's fields says of it; empty where it says nothing."""
    if fields.get("grpc-status", "0") != "0":
        return f"grpc-status {fields['grpc-status']}"
    return status if status.isdigit() else ""


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(Web2(), client, server)
