"""LDAP (RFC 4511): operations with their results by message number; searches end with their result, whatever entries
came before.
"""

from dataclasses import dataclass

from yaffle.protocols import ber
from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.ldap_messages import EXTENDED, Message, Messages
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.numbered import Numbered
from yaffle.protocols.records import Order

_LONGEST = 160
_BIND, _UNBIND, _SEARCH, _ENTRY, _REFERENCE, _PARTIAL = 0, 2, 3, 4, 19, 25
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
_MOST_SEARCHES = 1 << 16  # that are under way at once
_SEALS = "start TLS"

_SEQUENCE = 0x30
BEGINS = bytes((_SEQUENCE,))  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    outer = ber.header(start, 0)
    if outer is None or outer.tag != _SEQUENCE:
        return False
    number = ber.header(start, outer.start)
    if number is None or number.tag != 2 or not 1 <= number.size <= 4 or number.end >= len(start):
        return False
    tag = start[number.end]
    return tag & 0xC0 == 0x40 and tag & 0x1F in (*_WORDS, *_ANSWERS.values(), _ENTRY, _UNBIND, _REFERENCE)


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


def _label(message: Message) -> str:
    word, parts = _WORDS[message.operation], ber.parts(message.body, 8)
    if message.operation == _BIND:
        name = _text(parts[1]) if len(parts) > 1 else ""
        return f"bind {name or 'anonymous'}"
    if message.operation == _SEARCH and len(parts) >= 7:
        scope = ber.integer(parts[1])
        place = ber.places(message.body, 8)[6]
        reach = _SCOPES[scope] if 0 <= scope < len(_SCOPES) else ""
        return f"search {_text(parts[0]) or 'root'} {reach} {_filter(message.body, place)}"[: 2 * _LONGEST]
    if message.operation == EXTENDED:
        return _SEALS if parts and parts[0] == _START_TLS else f"extended {_text(parts[0]) if parts else ''}"
    if word == "delete":
        return f"delete {_text(message.body)}"
    return f"{word} {_text(parts[0]) if parts else ''}"


@dataclass(slots=True)
class _Result:
    """What ends an operation. at: where its first entry begins, or itself."""

    at: int
    end: int
    code: int


class Ldap(Conversation):
    """Operations with their results."""

    def __init__(self) -> None:
        self._front, self._back = Messages(), Messages()
        super().__init__("ldap", self._front, self._back)
        self._numbered: Numbered[Pair, _Result] = Numbered()
        self._entries: dict[int, int] = {}  # where the first entry of a search begins that has no result yet

    def _went_on(self, order: Order, *, over: bool) -> None:
        for message in self._front.found:
            if message.operation in _ANSWERS:
                pair = Pair(message.at, message.end, label=_label(message), outcome="unanswered")
                told = self._numbered.ask((message.number, _ANSWERS[message.operation]), pair)
                if told is not None:
                    self._pair(pair, told)
        for message in self._back.found:
            self._tell(message)
        self._front.found, self._back.found = [], []
        if over:
            self.pairs += self._numbered.unanswered
            self.pairs.sort(key=lambda pair: pair.request)

    def _tell(self, message: Message) -> None:
        """A message of the server."""
        if message.operation in (_ENTRY, _REFERENCE, _PARTIAL):
            if len(self._entries) < _MOST_SEARCHES:
                self._entries.setdefault(message.number, message.at)
            return
        code = ber.parts(message.body, 1)
        first = self._entries.pop(message.number, message.at)
        result = _Result(first, message.end, ber.integer(code[0]) if code else -1)
        asked = self._numbered.tell((message.number, message.operation), result)
        if asked is not None:
            self._pair(asked, result)

    def _pair(self, pair: Pair, result: _Result) -> None:
        """An operation is done."""
        pair.answer, pair.answer_end = result.at, result.end
        pair.outcome = RESULTS.get(result.code, f"result {result.code}")
        if pair.label == _SEALS and result.code == 0:
            self.note = "encrypted from the start of TLS on"
            sealed = pair.request_end, pair.answer_end
            self.sealed = sealed if self.sealed is None else min(sealed, self.sealed)
        self.pairs.append(pair)


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(Ldap(), client, server)
