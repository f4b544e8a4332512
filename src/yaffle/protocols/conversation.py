"""A connection in one protocol, understood piece by piece: exchanges come out as soon as nothing can change them."""

from collections.abc import Iterable

from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.reader import Reader
from yaffle.protocols.records import Order


class Conversation:
    """Both sides of a connection. `pairs` are exchanges that nothing changes any more: whoever reads on takes them out.

    What comes out does not depend on how the bytes are cut, nor on which side's come first.
    """

    def __init__(self, protocol: str, asks: Reader, tells: Reader) -> None:
        self.protocol, self._asks, self._tells = protocol, asks, tells
        self.pairs: list[Pair] = []
        self.host = ""  # the server's name as the client asked for it
        self.note = ""  # what could not be told, in words
        self.sealed: tuple[int, int] | None = None  # places of both sides from which on it is inside TLS

    def feed(self, client: Iterable[Run], server: Iterable[Run], order: Order) -> None:
        """More bytes of both sides, without holes. order: what came since, in order of time."""
        self._take(client, server, order, over=False)

    def finish(self, client: Iterable[Run], server: Iterable[Run], order: Order) -> None:
        """The last bytes, which may lie behind holes: what is not whole is told as far as it is there."""
        self._take(client, server, order, over=True)

    def _take(self, client: Iterable[Run], server: Iterable[Run], order: Order, *, over: bool) -> None:
        for reader, runs in ((self._asks, client), (self._tells, server)):
            for run in runs:
                reader.feed(run)
            if over:
                reader.end()
            else:
                reader.go_on()
        self._went_on(order, over=over)

    def _went_on(self, order: Order, *, over: bool) -> None:
        """Puts together what both sides said."""
        raise NotImplementedError

    @property
    def _holes(self) -> int:
        return self._asks.holes + self._tells.holes


def whole(conversation: Conversation, client: Iterable[Run], server: Iterable[Run], order: Order = ()) -> Decoded:
    """A connection of which all bytes are there."""
    one = conversation
    one.finish(client, server, order)
    return Decoded(one.protocol, one.pairs, one.host, one.note, one.sealed)
