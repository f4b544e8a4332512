"""The PostgreSQL frontend/backend protocol, version 3: sign-on, simple queries, extended queries up to each Sync.

Source: the protocol's published description (message formats and flow).
"""

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.message import ENCRYPTION, SIGN_ON, Decoded, Pair, Run
from yaffle.protocols.postgres_messages import (
    GSS,
    SHORTEST_START,
    SSL,
    Back,
    BackState,
    Front,
    error_code,
    starts,
    text_at,
    word_at,
)
from yaffle.protocols.records import Order

_SUCCESS = "00000"
_ENCRYPTED = "encrypted; the sign-on inside counts as exchanges"

BEGINS = b"\0QPB"  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    if len(client) >= SHORTEST_START and starts(word_at(client, 0), word_at(client, 4)):
        return word_at(client, 4) not in (SSL, GSS) or word_at(client, 0) == SHORTEST_START
    if len(client) >= 6 and client[:1] in (b"Q", b"P"):  # In mid-stream.
        length = word_at(client, 1)
        return (
            5 < length < 1 << 20
            and all(9 <= b < 127 for b in client[5:13] if b)
            and server[:1] in (b"T", b"1", b"C", b"E", b"Z", b"D", b"")
        )
    if len(client) >= 8 and client[:1] == b"B":  # In mid-stream, statements being prepared already.
        length = word_at(client, 1)
        portal = client.find(b"\0", 5)
        name = client.find(b"\0", portal + 1)
        texts = client[5:portal] + client[portal + 1 : name]
        return (
            10 < length < 1 << 20
            and 0 < portal < name < 5 + length
            and all(32 <= b < 127 for b in texts)
            and (server[:5] in (b"2\0\0\0\4", b"") or server[:1] == b"E")
        )
    return False


def first_statement(asked: bytes) -> str:
    """The statement that bytes begin with, as far as it is there; empty without one."""
    if asked[:1] == b"Q":
        return text_at(asked, 5, len(asked))
    return text_at(asked, asked.find(b"\0", 5) + 1, len(asked)) if asked[:1] == b"P" and b"\0" in asked[5:] else ""


def first_outcome(told: bytes) -> str:
    """The SQLSTATE of an error that bytes begin with; success where all of a short answer is there; else that it was
    answered.
    """
    if told[:1] == b"E":
        return error_code(told, 5, len(told))
    return _SUCCESS if told[-6:-1] == b"Z\0\0\0\5" else "answered"


class Postgres(Conversation):
    """Statements with their answers, each up to the next ready-for-query."""

    def __init__(self) -> None:
        self._front = Front()
        self._back = Back(self._front)
        super().__init__("postgresql", self._front, self._back)
        self._signed = self._encrypted = False

    def _went_on(self, order: Order, *, over: bool) -> None:
        front, back = self._front, self._back
        if over:
            back.last()
        if back.state == BackState.SEALED:
            if not self._encrypted:
                self._encrypt()
            return
        if front.begin < 0:
            return
        if back.found and not self._signed:
            if front.starts and not (front.spoke or over):
                return  # A password may still belong to the sign-on.
            self._sign_on()
        while front.found and (back.found or over):
            statement = front.found.popleft()
            answer = back.found.popleft() if back.found else None
            if not statement.asks:
                continue
            pair = Pair(statement.at, statement.end, label=statement.label, values=statement.values)
            pair.outcome = "unanswered"
            if answer is not None:
                pair.answer, pair.answer_end, pair.outcome = answer.at, answer.end, answer.outcome or _SUCCESS
                pair.broken_off = answer.broken_off
            self.pairs.append(pair)

    def _encrypt(self) -> None:
        """The server agreed to encryption: what follows is inside it."""
        self._encrypted = True
        front, back = self._front, self._back
        end, at = front.starts[back.refusals], back.begin + back.refusals
        begin = front.starts[back.refusals - 1] if back.refusals else front.begin
        self.pairs.append(Pair(begin, end, at, at + 1, "encryption asked for", kind=ENCRYPTION))
        self.note = _ENCRYPTED
        if back.agreed == b"S":
            self.sealed = end, at + 1

    def _sign_on(self) -> None:
        """The first ready-for-query ends it, where the connection was seen from its start."""
        self._signed = True
        if self._front.starts:
            answer = self._back.found.popleft()
            self.pairs.append(
                Pair(
                    self._front.begin, self._front.signed_end, self._back.begin, answer.end, "sign-on",
                    answer.outcome or _SUCCESS, SIGN_ON,
                )
            )  # fmt: skip


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(Postgres(), client, server)
