"""A capture while it is read: until it is told which interfaces are one point, what is found is written into it."""

from collections.abc import Set
from dataclasses import dataclass, field

import numpy as np

from yaffle.capture.captured import Capture, Source
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.capture.transport_layer import QUOTE, Quotes


@dataclass
class Draft:
    """As `Capture`; conversations and quotes are its own."""

    sources: list[Source]
    packets: Columns
    sack: SackBlocks
    conversations: Rows
    names: dict[str, str]
    quotes: Quotes = field(default_factory=lambda: np.empty(0, QUOTE))
    points: list[str] = field(default_factory=list)
    dropped_copies: int = 0
    shared: Set[str] = frozenset()  # columns of packets that a reading that goes on has, too

    def own(self, *names: str) -> None:
        """Makes columns this draft's own, before they are written to."""
        mine = self.shared & set(names)
        if mine:
            self.packets = self.packets._replace(**{name: getattr(self.packets, name).copy() for name in mine})
            self.shared = self.shared - mine

    def finish(self) -> Capture:
        """The capture that was read."""
        return Capture(
            self.sources, self.packets, self.sack, self.conversations, self.points, self.names, self.dropped_copies,
            self.quotes, revised=self.dropped_copies > 0,
        )  # fmt: skip
