"""What reading gives: the files it came from, their packets and conversations."""

import hashlib
from collections.abc import Set
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from yaffle.arrays import Bools
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.capture.records import Interface
from yaffle.capture.transport_layer import QUOTE, Quotes


@dataclass
class Source:
    """One capture file: what it covers and what it cannot tell."""

    name: str
    path: str
    format: str
    size_bytes: int
    fingerprint: str
    packets: int = 0
    bytes: int = 0
    first_ns: int = 0
    last_ns: int = 0
    complete: bool = True
    notes: list[str] = field(default_factory=list)
    interfaces: list[Interface] = field(default_factory=list)
    names: dict[str, str] = field(default_factory=dict)


@dataclass
class Capture:
    """Everything read: packets, their conversations, and the files they came from."""

    sources: list[Source]
    packets: Columns
    sack: SackBlocks
    conversations: Rows
    points: list[str]  # names of the observation points; conversations.point counts in these
    names: dict[str, str]
    dropped_copies: int = 0
    quotes: Quotes = field(default_factory=lambda: np.empty(0, QUOTE))  # what ICMP errors say of which conversation
    shared: frozenset[str] = frozenset()  # columns of packets that a reading that goes on has, too
    turned: Bools = field(default_factory=lambda: np.empty(0, bool))  # by conversation: its end `b` is the client
    turned_rows: int = 0  # so many packets in front have heads as `turned` says; -1: heads tell nothing of senders

    def own(self, *names: str) -> None:
        """Makes columns this capture's own, before they are written to."""
        mine = self.shared & set(names)
        if mine:
            self.packets = self.packets._replace(**{name: getattr(self.packets, name).copy() for name in mine})
            self.have_own(mine)

    def have_own(self, names: Set[str]) -> None:
        """Columns are this capture's own now."""
        self.shared -= names
        if "head" in names and self.turned_rows:
            self.turned_rows = -1


def fingerprint(path: Path) -> str:
    """Tells a file again after it was moved: its size and a digest of its ends."""
    size = path.stat().st_size
    with path.open("rb") as file:
        digest = hashlib.sha256(file.read(1 << 16))
        file.seek(max(0, size - (1 << 16)))
        digest.update(file.read())
    return f"{size}-{digest.hexdigest()[:24]}"
