"""The MySQL and MariaDB client/server protocol: sign-on, then one command at a time with its answer.

Source: the protocol's published description (packets, connection phase, command phase).
"""

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.message import SIGN_ON, Decoded, Pair, Run
from yaffle.protocols.mysql_packets import EXECUTE, PREPARE, QUERY, UNANSWERED, Answer, Back, Front, Request
from yaffle.protocols.mysql_values import bound, length_at
from yaffle.protocols.records import Order

_LONGEST_LABEL = 300
_COMMANDS = {
    0x01: "QUIT", 0x02: "USE", 0x03: "", 0x04: "FIELD LIST", 0x08: "SHUTDOWN", 0x09: "STATISTICS", 0x0E: "PING",
    0x11: "CHANGE USER", 0x16: "PREPARE",
    0x17: "EXECUTE", 0x18: "LONG DATA", 0x19: "CLOSE STATEMENT", 0x1A: "RESET STATEMENT", 0x1B: "SET OPTION",
    0x1C: "FETCH", 0x1F: "RESET CONNECTION",
}  # fmt: skip
_USE = 0x02
_COUNT_TOLD = 0x08  # in the flags of EXECUTE: there are attributes, whatever the statement takes
_EXECUTE_HEAD = 10  # command, statement, flags, how often
_ENCRYPTED = "encrypted; the sign-on inside counts as exchanges"

VERSION_AT, VERSION = 4, 10  # of the protocol, in what the server says first


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it: the server greets first with version 10 of the protocol."""
    if len(server) < 12 or server[3] != 0 or server[VERSION_AT] != VERSION:
        return False
    size = int.from_bytes(server[:3], "little")
    return 30 < size < 400 and 0x30 <= server[5] <= 0x39


class MySql(Conversation):
    """Commands with their answers."""

    def __init__(self) -> None:
        self._front = Front()
        self._back = Back(self._front)
        super().__init__("mysql", self._front, self._back)
        self._statements: _Statements | None = None
        self._signed = False

    def _went_on(self, order: Order, *, over: bool) -> None:
        front, back = self._front, self._back
        if over:
            front.last()
            back.last()
        if front.sealed_end >= 0 and back.greeting_end >= 0:
            self.sealed = self.sealed or (front.sealed_end, back.greeting_end)
            self.note = _ENCRYPTED
            return
        if front.begin < 0 or back.greeting_end < 0:
            return
        self._statements = self._statements or _Statements(front.attributes)
        self._sign_on(over=over)
        while front.found:
            request = front.found[0]
            unanswered = request.body[0] in UNANSWERED
            if not unanswered and not back.found and not over:
                break
            front.found.popleft()
            label, values = self._statements.asked(request.body)
            if not unanswered:
                self._pair(request, back.found.popleft() if back.found else None, label, values)

    def _sign_on(self, *, over: bool) -> None:
        """It ends where the server has said its last of it, and the client asks for something."""
        front, back = self._front, self._back
        settled = (front.asks and back.sign_on is not None and back.signed) or over
        if self._signed or not settled:
            return
        self._signed = True
        if front.signs_on and back.sign_on is not None:
            told = back.sign_on
            self.pairs.append(
                Pair(front.begin, front.signed_end, told.at, told.end, "sign-on", _outcome(told.last), SIGN_ON)
            )

    def _pair(self, request: Request, answer: Answer | None, label: str, values: tuple[str, ...]) -> None:
        """A command is whole, and so is its answer."""
        pair = Pair(request.at, request.end, label=label, outcome="unanswered", values=values)
        if answer is not None:
            if request.body[0] == PREPARE and self._statements is not None:
                self._statements.prepared(label, answer.first)
            pair.answer, pair.answer_end = answer.at, answer.end
            pair.outcome = _outcome(answer.first) if answer.packets == 1 else _last(answer.last)
        self.pairs.append(pair)


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(MySql(), client, server)


class _Statement:
    """One that was prepared."""

    def __init__(self, label: str, values: int) -> None:
        self.label, self.values = label, values
        self.types: tuple[tuple[int, int], ...] = ()  # of its values, as they were last told


class _Statements:
    """What one connection asks, and what it prepared for that."""

    def __init__(self, attributes: bool) -> None:
        self._attributes = attributes
        self._known: dict[int, _Statement] = {}

    def prepared(self, label: str, told: bytes) -> None:
        """A statement was prepared, and this was the answer."""
        if told[:1] == b"\0" and len(told) >= 9:
            values = int.from_bytes(told[7:9], "little")
            self._known[int.from_bytes(told[1:5], "little")] = _Statement(label.removeprefix("PREPARE "), values)

    def asked(self, body: bytes) -> tuple[str, tuple[str, ...]]:
        """(the label of a command, the values it was asked with)."""
        if body[0] == EXECUTE:
            return self._executed(body)
        return _label(_without_attributes(body) if self._attributes and body[0] == QUERY else body), ()

    def _executed(self, body: bytes) -> tuple[str, tuple[str, ...]]:
        statement = self._known.get(int.from_bytes(body[1:5], "little"))
        if statement is None:
            return "EXECUTE", ()
        count, at = statement.values, _EXECUTE_HEAD
        if self._attributes and (count or (len(body) > 5 and body[5] & _COUNT_TOLD)):
            count, at = length_at(body, at)
        found = bound(body, at, count, statement.types, named=self._attributes)
        statement.types = found.types
        return statement.label, found.values


def _without_attributes(body: bytes) -> bytes:
    """A query, the attributes before its text taken away; as it is where they cannot be read."""
    count, at = length_at(body, 1)
    _, at = length_at(body, at)
    found = bound(body, at, count, (), named=True)
    return body[:1] + body[found.end :] if found.end >= 0 else body


def command(body: bytes) -> str:
    """What a command asks, as far as it is there."""
    return _label(body) if body else ""


def first_outcome(told: bytes) -> str:
    """SQLSTATE of the error, or success, that bytes begin with; else that it was answered."""
    return _outcome(told[4:]) if told[4:5] in (b"\xff", b"\0") else "answered"


def _last(body: bytes) -> str:
    """Outcome of a result of several packets, by the last: an error may end it."""
    return _outcome(body) if body[:1] == b"\xff" else "00000"


def _outcome(body: bytes) -> str:
    """SQLSTATE: that of an error packet, else success."""
    if body[:1] != b"\xff":
        return "00000"
    return (
        body[4:9].decode("latin-1")
        if body[3:4] == b"#" and len(body) >= 9
        else str(int.from_bytes(body[1:3], "little"))
    )


def _label(body: bytes) -> str:
    name = _COMMANDS.get(body[0], f"command {body[0]}")
    text = (
        " ".join(body[1 : 1 + 4 * _LONGEST_LABEL].decode("utf-8", "replace").split())
        if body[0] in (_USE, QUERY, PREPARE)
        else ""
    )
    return f"{name} {text}".strip()[:_LONGEST_LABEL]
