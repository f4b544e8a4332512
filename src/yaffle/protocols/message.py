"""What every decoder of a stream gives: requests with their answers, by their places in the two streams."""

from dataclasses import dataclass, field

EXCHANGE, ENCRYPTION, SIGN_ON, LAST_OF_ENCRYPTION = 0, 1, 2, 3  # what a pair of request and answer is
MOST_VALUES, LONGEST_VALUE = 3, 16  # of what a prepared statement is run with: so many, of so many bytes


@dataclass(slots=True)
class Pair:
    """A request with its answer. Places count the bytes of each stream; an answer that was not seen has none (-1)."""

    request: int
    request_end: int
    answer: int = -1
    answer_end: int = -1
    label: str = ""
    outcome: str = ""
    kind: int = EXCHANGE
    asked_bytes: int = -1  # of the message, where it does not fill all that lies between its places
    told_bytes: int = -1
    values: tuple[str, ...] = ()  # what it was asked with, beside its label, as text
    broken_off: bool = False  # the answer ends in the middle of what it announced, with the last byte of its side


@dataclass
class Decoded:
    """A whole connection in one protocol."""

    protocol: str
    pairs: list[Pair] = field(default_factory=list)
    host: str = ""  # the server's name as the client asked for it
    note: str = ""  # what could not be told, in words
    sealed: tuple[int, int] | None = None  # places of both streams from which on it is inside TLS


@dataclass(frozen=True)
class Run:
    """Bytes of one side without a hole: `at` is the place of the first."""

    at: int
    data: bytes

    def after(self, place: int) -> "Run":
        """What stands from a place on."""
        skip = min(len(self.data), max(0, place - self.at))
        return Run(self.at + skip, self.data[skip:])

    @property
    def end(self) -> int:
        """The place after the last."""
        return self.at + len(self.data)
