"""Records of TLS on one side of a connection (RFC 5246 section 6.2, RFC 8446 section 5)."""

from struct import Struct

from yaffle.protocols.records import Record
from yaffle.protocols.seeking import Event, Seeking

CHANGE, ALERT, HANDSHAKE, DATA = 20, 21, 22, 23
LARGEST = (1 << 14) + 2048
_HEADER = Struct("!BHH")
_DATA_HEAD = b"\x17\x03\x03"


class Records(Seeking):
    """Records as they are whole; whoever reads on takes them out of `found`."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[Record] = []

    def _read(self) -> Event | None:
        data, base, size_of_all = self.data, self.base, len(self.data)
        at = self.at
        while at + 5 <= size_of_all:
            kind, version, size = _HEADER.unpack_from(data, at)
            if not CHANGE <= kind <= DATA or version >> 8 != 3 or not 0 < size <= LARGEST:
                self.at = at + 1
                return Event.SENSELESS
            end, broken_off = at + 5 + size, False
            if end > size_of_all:
                if not self.over:
                    break
                end, broken_off = size_of_all, not self.in_hole
            body = data[at + 5 : end] if kind == HANDSHAKE else b""
            self.found.append(Record(kind, base + at, base + end, body, broken_off))
            at = end
        self.at = size_of_all if self.over else at
        return None

    def _seek(self) -> Event | None:
        """Looks for a header whose length leads to another one."""
        data, at = self.data, self.at
        while (at := data.find(_DATA_HEAD, at)) >= 0:
            following = at + 5 + int.from_bytes(data[at + 3 : at + 5], "big")
            if at + 5 > len(data) or following + 3 > len(data):
                self.at = at
                return Event.FOUND if self.over and at + 5 <= len(data) else None
            if data[following : following + 3] == _DATA_HEAD:
                self.at = at
                return Event.FOUND
            at += 1
        self.at = max(self.at, len(data) - len(_DATA_HEAD) + 1)
        return None
