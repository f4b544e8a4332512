"""The Redis serialization protocol, versions 2 and 3: commands and replies in order, also pipelined.

Source: the protocol's published specification (RESP2, RESP3). Pushed messages (>) answer nothing.
"""

from collections import deque

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.records import Order
from yaffle.protocols.redis_values import Value, Values

_LONGEST_LABEL, _LONGEST_OUTCOME = 120, 64
_PUSHED = b">"

BEGINS = b"*PpIi"  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    if client[:1] == b"*" and client[1:2].isdigit():
        line = client.find(b"\r\n")
        return 0 < line < 12 and client[line + 2 : line + 3] == b"$"
    return client[:6].upper() in (b"PING\r\n", b"INFO\r\n") and server[:1] in (b"+", b"$", b"-")


def command(data: bytes) -> str:
    """A command for people, from the bytes it begins with: its name and its first argument."""
    parts: list[bytes] = []
    if data[:1] != b"*":
        parts = data.split()[:2]
    else:
        place = data.find(b"\r\n") + 2
        while place < len(data) and len(parts) < 2:
            stop = data.find(b"\r\n", place)
            size = int(data[place + 1 : stop]) if data[place + 1 : stop].isdigit() else 0
            parts.append(data[stop + 2 : stop + 2 + min(size, _LONGEST_LABEL)])
            place = stop + 2 + size + 2
    if not parts:
        return ""
    name = parts[0].decode("latin-1").upper()
    argument = parts[1].decode("utf-8", "replace") if len(parts) > 1 else ""
    return f"{name} {argument}".strip()[:_LONGEST_LABEL]


def outcome(data: bytes) -> str:
    """The word of an error that a reply begins with; OK for all others."""
    line = data.split(b"\r\n")[0]
    return line[1:].split(b" ")[0].decode("latin-1") if line[:1] in (b"-", b"!") else "OK"


class Redis(Conversation):
    """Commands with their replies, in order."""

    def __init__(self) -> None:
        self._front, self._back = Values(), Values()
        super().__init__("redis", self._front, self._back)
        self._replies: deque[Value] = deque()
        self._commands: deque[Value] = deque()

    def _went_on(self, order: Order, *, over: bool) -> None:
        self._commands.extend(self._front.found)
        self._replies.extend(value for value in self._back.found if value.body[:1] != _PUSHED)
        self._front.found, self._back.found = [], []
        while self._commands and (self._replies or over):
            asked = self._commands.popleft()
            pair = Pair(asked.at, asked.end, label=command(asked.body), outcome="unanswered")
            if self._replies:
                told = self._replies.popleft()
                pair.answer, pair.answer_end, pair.outcome = told.at, told.end, outcome(told.body[:_LONGEST_OUTCOME])
                pair.broken_off = told.broken_off
            self.pairs.append(pair)


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(Redis(), client, server)
