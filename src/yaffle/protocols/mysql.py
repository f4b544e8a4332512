"""The MySQL and MariaDB client/server protocol: sign-on, then one command at a time with its answer.

Source: the protocol's published description (packets, connection phase, command phase).
"""

import itertools

from yaffle.protocols.message import SIGN_ON, Decoded, Pair, Run
from yaffle.protocols.mysql_values import bound, length_at

_LONGEST_LABEL = 300
_COMMANDS = {
    0x01: "QUIT", 0x02: "USE", 0x03: "", 0x04: "FIELD LIST", 0x08: "SHUTDOWN", 0x09: "STATISTICS", 0x0E: "PING",
    0x11: "CHANGE USER", 0x16: "PREPARE",
    0x17: "EXECUTE", 0x18: "LONG DATA", 0x19: "CLOSE STATEMENT", 0x1A: "RESET STATEMENT", 0x1B: "SET OPTION",
    0x1C: "FETCH", 0x1F: "RESET CONNECTION",
}  # fmt: skip
_UNANSWERED = (0x01, 0x18, 0x19)
_SSL = 0x0800
_ATTRIBUTES = 1 << 27  # of a client that may send attributes with what it asks
_QUERY, _PREPARE, _EXECUTE = 0x03, 0x16, 0x17
_COUNT_TOLD = 0x08  # in the flags of EXECUTE: there are attributes, whatever the statement takes
_EXECUTE_HEAD = 10  # command, statement, flags, how often


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it: the server greets first with version 10 of the protocol."""
    if len(server) < 12 or server[3] != 0 or server[4] != 10:
        return False
    size = int.from_bytes(server[:3], "little")
    return 30 < size < 400 and 0x30 <= server[5] <= 0x39


def _packets(runs: list[Run]) -> list[tuple[int, int, int, bytes]]:
    """(place, end, number, body as far as it is there)."""
    found = []
    for run in runs:
        at = 0
        while at + 4 <= len(run.data):
            size = int.from_bytes(run.data[at : at + 3], "little")
            end = min(len(run.data), at + 4 + size)
            found.append((run.at + at, run.at + end, run.data[at + 3], run.data[at + 4 : end]))
            at += 4 + size
    return found


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Commands with their answers; numbers begin again at 0 with each command, and its answer's first packet has 1."""
    found = Decoded("mysql")
    front, back = _packets(client), _packets(server)
    if not front or not back:
        return found
    if len(front[0][3]) >= 4 and int.from_bytes(front[0][3][:4], "little") & _SSL and len(front[0][3]) <= 32:
        found.note = "encrypted; the sign-on inside counts as exchanges"
        found.sealed = front[0][1], back[0][1]
        return found
    asked = [k for k, (_, _, number, body) in enumerate(front) if number == 0 and body]
    # An answer is the packets of the server from number 1 on, up to the next packet with number 1.
    begins = [k for k, packet in enumerate(back) if packet[2] == 1]
    signed = next((k for k, packet in enumerate(back) if k and packet[2] >= 2 and packet[3][:1] in (b"\0", b"\xff")), 0)
    sign_on_end = next((k for k in begins if k > signed), len(back))
    if back[0][2] == 0 and front[0][2] > 0:
        last = front[asked[0] - 1] if asked else front[-1]
        answer = back[1:sign_on_end]
        if answer:
            found.pairs.append(
                Pair(front[0][0], last[1], answer[0][0], answer[-1][1], "sign-on", _outcome(answer[-1][3]), SIGN_ON)
            )
    answers = [
        back[a:b] for a, b in itertools.pairwise([*begins, len(back)]) if a >= sign_on_end or not front[0][2] > 0
    ]
    statements = _Statements(_capabilities(front))
    number = 0
    for place, k in enumerate(asked):
        at, end, _, body = front[k]
        stop = front[asked[place + 1] - 1][1] if place + 1 < len(asked) else end
        label, values = statements.asked(body)
        if body[0] in _UNANSWERED:
            continue
        told = answers[number] if number < len(answers) else None
        number += 1
        if not told:
            found.pairs.append(Pair(at, max(end, stop), label=label, outcome="unanswered", values=values))
            continue
        if body[0] == _PREPARE:
            statements.prepared(label, told[0][3])
        found.pairs.append(
            Pair(
                at,
                max(end, stop),
                told[0][0],
                told[-1][1],
                label,
                _outcome(told[0][3]) if len(told) == 1 else _last(told),
                values=values,
            )
        )
    return found


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
        if body[0] == _EXECUTE:
            return self._executed(body)
        return _label(_without_attributes(body) if self._attributes and body[0] == _QUERY else body), ()

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


def _capabilities(front: list[tuple[int, int, int, bytes]]) -> bool:
    """Whether the client said at its sign-on that it may send attributes."""
    number, body = front[0][2], front[0][3]
    return number > 0 and len(body) >= 4 and bool(int.from_bytes(body[:4], "little") & _ATTRIBUTES)


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


def _last(told: list[tuple[int, int, int, bytes]]) -> str:
    """Outcome of a result of several packets: an error may end it."""
    return _outcome(told[-1][3]) if told[-1][3][:1] == b"\xff" else "00000"


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
        if body[0] in (0x02, _QUERY, _PREPARE)
        else ""
    )
    return f"{name} {text}".strip()[:_LONGEST_LABEL]
