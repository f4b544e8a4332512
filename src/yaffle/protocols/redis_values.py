"""Values of the Redis serialization protocol on one side of a connection (RESP2, RESP3)."""

from dataclasses import dataclass

from yaffle.protocols.seeking import Event, Seeking

_DEEPEST = 16
_MOST_PARTS = 1 << 20
_KEPT = 512  # Bytes that are kept of a value, for its words.
_SIMPLE, _SIZED, _OF_PARTS, _OF_PAIRS = b"+-:_#,(", b"$=!", b"*~>%|", b"%|"


@dataclass(slots=True)
class Value:
    """One value that lies in no other one."""

    at: int
    end: int
    body: bytes  # what it begins with
    broken_off: bool = False  # it ends in the middle


class Values(Seeking):
    """Values as they are whole; whoever reads on takes them out of `found`."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[Value] = []
        self._seen = 0  # bytes of the value that begins at `at` that were looked at
        self._open: list[int] = []  # parts that are missing still of the values around what comes next

    def _read(self) -> Event | None:
        while self.at < len(self.data):
            if (end := self._end()) < 0:
                return Event.SENSELESS
            if end == 0 and not self.over:
                return None
            stop = end or len(self.data)
            kept = self.data[self.at : min(stop, self.at + _KEPT)]
            broken_off = end == 0 and not self.in_hole
            self.found.append(Value(self.base + self.at, self.base + stop, kept, broken_off))
            self._begin(stop)
        return None

    def _begin(self, at: int) -> None:
        self.at, self._seen, self._open = at, 0, []

    def _end(self) -> int:
        """Where the value ends that begins at `at`; 0 if it is not all there, -1 if it makes no sense."""
        data, at = self.data, self.at + self._seen
        while True:
            line = data.find(b"\r\n", at)
            if line < 0:
                return 0
            kind, end = data[at : at + 1], line + 2
            parts = 0
            if kind in _SIZED or kind in _OF_PARTS:
                size = _size(data[at + 1 : line])
                if size is None:
                    return -1
                if kind in _SIZED:
                    end += size + 2 if size >= 0 else 0
                    if end > len(data):
                        return 0
                elif len(self._open) >= _DEEPEST or size > _MOST_PARTS:
                    return -1
                else:
                    parts = max(0, size) * (2 if kind in _OF_PAIRS else 1)
            elif kind not in _SIMPLE:
                return -1
            at, self._seen = end, end - self.at
            if parts:
                self._open.append(parts)
                continue
            while self._open:
                self._open[-1] -= 1
                if self._open[-1]:
                    break
                self._open.pop()
            if not self._open:
                return at

    def _seek(self) -> Event | None:
        """In mid-stream, or after a hole: the next line may begin a value."""
        line = self.data.find(b"\r\n*", self.at)
        if line < 0:
            self._begin(len(self.data) if self.over else max(self.at, len(self.data) - 2))
            return None
        self._begin(line + 2)
        return Event.FOUND


def _size(digits: bytes) -> int | None:
    """How long a value is, or how many parts it has; None where that makes no sense."""
    try:
        return int(digits)
    except ValueError:
        return None
