"""LDAP (RFC 4511): operations with their results by message number; searches end with their result, whatever entries
came before.
"""

from dataclasses import dataclass

from yaffle.protocols import ber
from yaffle.protocols.message import Decoded, Pair, Run

_LONGEST = 160
_BIND, _UNBIND, _SEARCH, _ENTRY, _REFERENCE, _EXTENDED, _ABANDON, _PARTIAL = 0, 2, 3, 4, 19, 23, 16, 25
_ANSWERS = {0: 1, 3: 5, 6: 7, 8: 9, 10: 11, 12: 13, 14: 15, 23: 24}
_WORDS = {0: "bind", 3: "search", 6: "modify", 8: "add", 10: "delete", 12: "rename", 14: "compare", 23: "extended"}
_SCOPES = ("base", "one", "sub", "children")
_START_TLS = b"1.3.6.1.4.1.1466.20037"
RESULTS = {
    0: "success", 1: "operationsError", 2: "protocolError", 3: "timeLimitExceeded", 4: "sizeLimitExceeded",
    5: "compareFalse", 6: "compareTrue",
    7: "authMethodNotSupported", 8: "strongerAuthRequired", 10: "referral", 11: "adminLimitExceeded",
    13: "confidentialityRequired", 14: "saslBindInProgress",
    16: "noSuchAttribute", 20: "attributeOrValueExists", 21: "invalidAttributeSyntax", 32: "noSuchObject",
    34: "invalidDNSyntax", 48: "inappropriateAuthentication",
    49: "invalidCredentials", 50: "insufficientAccessRights", 51: "busy", 52: "unavailable", 53: "unwillingToPerform",
    54: "loopDetect", 65: "objectClassViolation",
    68: "entryAlreadyExists", 80: "other",
}  # fmt: skip
_DEEPEST = 12


@dataclass(slots=True)
class _Message:
    at: int
    end: int
    number: int
    operation: int  # application tag
    body: bytes


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    outer = ber.header(start, 0)
    if outer is None or outer.tag != 0x30:
        return False
    number = ber.header(start, outer.start)
    if number is None or number.tag != 2 or not 1 <= number.size <= 4 or number.end >= len(start):
        return False
    tag = start[number.end]
    return tag & 0xC0 == 0x40 and tag & 0x1F in (*_WORDS, *_ANSWERS.values(), _ENTRY, _UNBIND, _REFERENCE)


def _messages(runs: list[Run]) -> list[_Message]:
    found = []
    for run in runs:
        data, at = run.data, 0
        while at < len(data):
            outer = ber.header(data, at)
            number = ber.header(data, outer.start) if outer is not None and outer.tag == 0x30 else None
            operation = (
                ber.header(data, number.end)
                if number is not None and number.tag == 2 and 1 <= number.size <= 4
                else None
            )
            if outer is None or number is None or operation is None or operation.tag & 0xC0 != 0x40:
                at = data.find(b"\x30", at + 1)  # In mid-stream, or after a hole: where a message begins.
                if at < 0:
                    break
                continue
            stop = min(len(data), outer.end)
            body = data[operation.start : min(stop, operation.end)]
            found.append(
                _Message(
                    run.at + at, run.at + stop, ber.integer(data[number.start : number.end]), operation.tag & 0x1F, body
                )
            )
            at = outer.end
    return found


def _text(data: bytes) -> str:
    return data[:_LONGEST].decode("utf-8", "replace")


def _filter(data: bytes, at: int, depth: int = 0) -> str:
    """A search filter as RFC 4515 writes it."""
    part = ber.header(data, at)
    if part is None or depth > _DEEPEST:
        return "…"
    body, kind = data[part.start : part.end], part.tag & 0x1F
    if kind in (0, 1, 2):
        inner: list[str] = []
        place = 0
        while place < len(body) and len(inner) < 8:
            one = ber.header(body, place)
            if one is None:
                break
            inner.append(_filter(body, place, depth + 1))
            place = one.end
        return f"({'&|!'[kind]}{''.join(inner)})"
    if kind == 7:
        return f"({_text(body)}=*)"
    pieces = ber.parts(body, 2)
    name = _text(pieces[0]) if pieces else "…"
    value = _text(pieces[1]) if len(pieces) > 1 else "…"
    if kind == 4:
        value = "*".join(["", *(_text(v) for v in ber.parts(pieces[1], 4)), ""]) if len(pieces) > 1 else "*"
    return f"({name}{ {5: '>=', 6: '<=', 8: '~='}.get(kind, '=') }{value})"


def _label(message: _Message) -> str:
    word, parts = _WORDS[message.operation], ber.parts(message.body, 8)
    if message.operation == _BIND:
        name = _text(parts[1]) if len(parts) > 1 else ""
        return f"bind {name or 'anonymous'}"
    if message.operation == _SEARCH and len(parts) >= 7:
        scope = ber.integer(parts[1])
        place = ber.places(message.body, 8)[6]
        reach = _SCOPES[scope] if 0 <= scope < len(_SCOPES) else ""
        return f"search {_text(parts[0]) or 'root'} {reach} {_filter(message.body, place)}"[: 2 * _LONGEST]
    if message.operation == _EXTENDED:
        return "start TLS" if parts and parts[0] == _START_TLS else f"extended {_text(parts[0]) if parts else ''}"
    if word == "delete":
        return f"delete {_text(message.body)}"
    return f"{word} {_text(parts[0]) if parts else ''}"


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Operations with their results."""
    found = Decoded("ldap")
    entries: dict[int, _Message] = {}
    results: dict[tuple[int, int], list[_Message]] = {}
    for message in _messages(server):
        if message.operation in (_ENTRY, _REFERENCE, _PARTIAL):
            entries.setdefault(message.number, message)
        else:
            results.setdefault((message.number, message.operation), []).append(message)
    for message in _messages(client):
        if message.operation not in _ANSWERS:
            continue
        pair = Pair(message.at, message.end, label=_label(message), outcome="unanswered")
        own = results.get((message.number, _ANSWERS[message.operation]))
        if own:
            result = own.pop(0)
            first = entries.pop(message.number, result)
            pair.answer, pair.answer_end = min(first.at, result.at), result.end
            code = ber.parts(result.body, 1)
            number = ber.integer(code[0]) if code else -1
            pair.outcome = RESULTS.get(number, f"result {number}")
            if pair.label == "start TLS" and number == 0:
                found.note = "encrypted from the start of TLS on"
                found.sealed = pair.request_end, pair.answer_end
        found.pairs.append(pair)
    return found
