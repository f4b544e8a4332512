"""DNS over TCP: messages behind their lengths (RFC 1035 section 4.2.2), questions with their answers."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.dns import DnsMessage, parse
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.numbered import Numbered
from yaffle.protocols.reader import Reader
from yaffle.protocols.records import Order

PORT, _SHORTEST = 53, 14


def looks_like(client: bytes, port: int) -> bool:
    """Whether a TCP connection to this port that begins like this carries it."""
    return port == PORT and len(client) >= _SHORTEST and parse(client[2:]) is not None


class State(IntEnum):
    """Where one side is."""

    MESSAGES = 0
    UNREADABLE = 1  # what stands here is no message: nothing tells where the next one begins


class Event(IntEnum):
    """What ends a state."""

    SENSELESS = 0
    HOLE = 1


@dataclass(slots=True)
class Said:
    """One message with its places."""

    at: int
    end: int
    message: DnsMessage


class Messages(Reader):
    """Messages as they are whole; whoever reads on takes them out of `found`."""

    BEGIN, HOLE = State.MESSAGES, Event.HOLE

    def __init__(self) -> None:
        super().__init__()
        self.found: list[Said] = []

    def _messages(self) -> Event | None:
        while self.rest >= _SHORTEST:
            at = self.at
            end = at + 2 + int.from_bytes(self.data[at : at + 2], "big")
            if end > len(self.data) and not self.over:
                return None
            message = parse(self.data[at + 2 : end])
            if message is None:
                return Event.SENSELESS
            self.at = min(end, len(self.data))
            self.found.append(Said(self.base + at, self.base + self.at, message))
        return None

    def _unreadable(self) -> Event | None:
        self.at = len(self.data)
        return None

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.MESSAGES: _messages,
        State.UNREADABLE: _unreadable,
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.MESSAGES, Event.SENSELESS): State.UNREADABLE,
        (State.MESSAGES, Event.HOLE): State.MESSAGES,
        (State.UNREADABLE, Event.HOLE): State.MESSAGES,
    }


class DnsStream(Conversation):
    """Questions with their answers, by their numbers."""

    def __init__(self) -> None:
        self._front, self._back = Messages(), Messages()
        super().__init__("dns", self._front, self._back)
        self._numbered: Numbered[Pair, Said] = Numbered()

    def _went_on(self, order: Order, *, over: bool) -> None:
        for said in self._front.found:
            question = said.message
            pair = Pair(said.at, said.end, label=f"{question.kind} {question.name}", outcome="unanswered")
            if (told := self._numbered.ask(question.id, pair)) is not None:
                self._pair(pair, told)
        for said in self._back.found:
            if said.message.answer and (asked := self._numbered.tell(said.message.id, said)) is not None:
                self._pair(asked, said)
        self._front.found, self._back.found = [], []
        if over:
            self.pairs += self._numbered.unanswered
            self.pairs.sort(key=lambda pair: pair.request)

    def _pair(self, pair: Pair, told: Said) -> None:
        """A question is answered."""
        pair.answer, pair.answer_end, pair.outcome = told.at, told.end, told.message.code
        self.pairs.append(pair)


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(DnsStream(), client, server)
