"""HTTP/2 in clear text (RFC 9113): each stream's request with its answer, however they are interleaved.

Header fields are compressed against everything that went before (RFC 7541), so that nothing can be read behind a hole.
"""

from dataclasses import dataclass
from struct import Struct

from hpack import Decoder
from hpack.exceptions import HPACKError

from yaffle.protocols.message import Decoded, Pair, Run

PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"
DATA, HEADERS, RST_STREAM, _SETTINGS, PUSH_PROMISE, CONTINUATION = 0, 1, 3, 4, 5, 9
_END_STREAM, _END_HEADERS, _PADDED, _PRIORITY = 1, 4, 8, 0x20
_HEADER = Struct("!HBBBI")  # length in 16 and 8 bits, type, flags, stream
_LARGEST_BLOCK = 1 << 18
_LONGEST_LABEL = 200
_MOST_OPEN = 1 << 16


@dataclass(slots=True)
class _Frame:
    kind: int
    flags: int
    stream: int
    at: int
    end: int
    body: bytes


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    return client.startswith(PREFACE)


def _frames(run: Run, at: int) -> list[_Frame]:
    """The frames of bytes that begin with one; bodies of data are left out."""
    found, data = [], run.data
    while at + 9 <= len(data):
        high, low, kind, flags, stream = _HEADER.unpack_from(data, at)
        end = at + 9 + (high << 8 | low)
        stop = min(len(data), end)
        found.append(
            _Frame(
                kind,
                flags,
                stream & 0x7FFFFFFF,
                run.at + at,
                run.at + stop,
                b"" if kind == DATA else data[at + 9 : stop],
            )
        )
        if end > len(data):
            break
        at = end
    return found


def _block(frame: _Frame) -> bytes:
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


class _Side:
    """Header blocks of one side, decoded in order."""

    def __init__(self) -> None:
        self._decoder = Decoder(max_header_list_size=_LARGEST_BLOCK)
        self._decoder.max_allowed_table_size = 1 << 16
        self._open = bytearray()
        self._first: _Frame | None = None
        self.broken = ""

    def take(self, frame: _Frame) -> dict[str, str] | None:
        """Fields that a frame completes; None where it completes none."""
        if self.broken or frame.kind not in (HEADERS, PUSH_PROMISE, CONTINUATION):
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


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Streams that the client opened, in order of their requests."""
    found = Decoded("http2")
    pairs: dict[int, Pair] = {}
    if len(client) > 1 or len(server) > 1:
        found.note = "bytes are missing: what follows the gap cannot be read, its header fields refer to what was lost"
    if client and client[0].data.startswith(PREFACE):
        _requests(client[0], pairs, found)
    if server and server[0].data[3:4] == bytes(
        [_SETTINGS]
    ):  # Each side begins with its settings: nothing is missing before.
        _answers(server[0], pairs, found)
    found.pairs = sorted(pairs.values(), key=lambda p: p.request)
    return found


def _requests(run: Run, pairs: dict[int, Pair], found: Decoded) -> None:
    side = _Side()
    for frame in _frames(run, len(PREFACE)):
        fields = side.take(frame)
        pair = pairs.get(frame.stream)
        if fields is not None and pair is None and ":method" in fields and len(pairs) < _MOST_OPEN:
            label = f"{fields[':method']} {fields.get(':path', fields.get(':authority', ''))}"[:_LONGEST_LABEL]
            pair = pairs[frame.stream] = Pair(frame.at, frame.end, label=label, outcome="unanswered", asked_bytes=0)
            authority = fields.get(":authority", fields.get("host", ""))
            found.host = found.host or (authority.rsplit(":", 1)[0] if authority.count(":") == 1 else authority)
        if pair is not None and frame.kind in (HEADERS, CONTINUATION, DATA):
            pair.request_end = frame.end
            pair.asked_bytes += frame.end - frame.at
    found.note = found.note or side.broken


def _answers(run: Run, pairs: dict[int, Pair], found: Decoded) -> None:
    side = _Side()
    for frame in _frames(run, 0):
        fields = side.take(frame)
        pair = pairs.get(frame.stream)
        if pair is None:
            continue
        if frame.kind == RST_STREAM:
            pair.outcome = pair.outcome if pair.answer >= 0 else "reset"
        if frame.kind not in (HEADERS, CONTINUATION, DATA):
            continue
        status = (fields or {}).get(":status", "")
        if status[:1] == "1" and len(status) == 3:  # Interim: the answer proper is still to come.
            continue
        if pair.answer < 0:
            pair.answer, pair.told_bytes = frame.at, 0
        pair.answer_end = frame.end
        pair.told_bytes += frame.end - frame.at
        if status.isdigit():
            pair.outcome = status
        if (fields or {}).get("grpc-status", "0") != "0":
            pair.outcome = f"grpc-status {fields['grpc-status']}" if fields else pair.outcome
    found.note = found.note or side.broken
