"""HTTP/1.1 (RFC 9110, 9112): requests and answers in order, chunked, pipelined, without bodies, with interim
answers.
"""

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.http1_messages import ANSWER, METHODS, Answers, Message, Requests
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.records import Order

_LONGEST_LABEL = 200
_MISSING = (
    "bytes are missing: requests and answers are paired from the start, what follows the gap may be paired wrongly"
)
_SWITCHED = "went on in another protocol: what follows is not told apart"

BEGINS = bytes(text[0] for text in (*METHODS, ANSWER))  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    return client.startswith(METHODS) or (not client and server.startswith(ANSWER))


class Web(Conversation):
    """Requests with their answers, in the order that pipelining keeps (RFC 9112 section 9.3.2)."""

    def __init__(self) -> None:
        self._requests = Requests()
        self._answers = Answers(self._requests)
        super().__init__("http", self._requests, self._answers)
        self._ended = False  # what follows is another protocol

    def _went_on(self, order: Order, *, over: bool) -> None:
        asked, told = self._requests.found, self._answers.found
        if self._holes and self._requests.heads != self._answers.heads:
            self.note = _MISSING
        while asked and (told or over) and not self._ended:
            self._pair(asked.popleft(), told.popleft() if told else None)

    def _pair(self, request: Message, answer: Message | None) -> None:
        """An exchange is whole."""
        target = request.target.decode("latin-1")
        label = f"{request.text.decode('latin-1')} {target}"[:_LONGEST_LABEL]
        if answer is None:
            self.pairs.append(Pair(request.at, request.end, label=label, outcome="unanswered"))
        else:
            pair = Pair(request.at, request.end, answer.at, answer.end, label, answer.text.decode())
            pair.broken_off = answer.broken_off
            self.pairs.append(pair)
            if request.text == b"CONNECT" and answer.text[:1] == b"2":
                self.note, self.sealed, self._ended = f"a tunnel to {target}", (request.end, answer.end), True
            elif answer.text == b"101":
                self.note, self._ended = _SWITCHED, True
        if request.host and not self.host and not self._ended:
            host = request.host.decode("latin-1")
            self.host = host.rsplit(":", 1)[0] if host.count(":") == 1 else host


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """A connection of which all is there."""
    return whole(Web(), client, server)
