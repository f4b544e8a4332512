"""What reading gives: the files it came from, their packets and conversations."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.capture.records import Interface
from yaffle.capture.transport_layer import QUOTE, Quotes


@dataclass(frozen=True)
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
    notes: tuple[str, ...] = ()
    interfaces: tuple[Interface, ...] = ()
    names: dict[str, str] = field(default_factory=dict)

    def noting(self, *words: str) -> "Source":
        """The same with more notes."""
        return replace(self, notes=(*self.notes, *words)) if words else self


def source_from(fields: dict[str, Any]) -> Source:
    """The reverse of `asdict`."""
    faces = tuple(Interface(**face) for face in fields["interfaces"])
    return Source(**{**fields, "notes": tuple(fields["notes"]), "interfaces": faces})


@dataclass(frozen=True)
class Capture:
    """Everything read: packets, their conversations, and the files they came from.

    A value: who finds more gives another one, which shares the columns that stay as they are. Only where a file lies
    now may be told anew.
    """

    sources: list[Source]
    packets: Columns
    sack: SackBlocks
    conversations: Rows
    points: list[str]  # names of the observation points; conversations.point counts in these
    names: dict[str, str]
    dropped_copies: int = 0
    quotes: Quotes = field(default_factory=lambda: np.empty(0, QUOTE))  # what ICMP errors say of which conversation
    revised: bool = False  # packets were dropped, or times put right: what comes next might do so to others, too

    def with_columns(self, **columns: Array) -> "Capture":
        """The same with other columns of packets."""
        return replace(self, packets=self.packets._replace(**columns))

    def noting(self, words: Sequence[Sequence[str]]) -> "Capture":
        """The same with more notes on each source."""
        if not any(words):
            return self
        return replace(self, sources=[one.noting(*more) for one, more in zip(self.sources, words, strict=True)])


def fingerprint(path: Path) -> str:
    """Tells a file again after it was moved: its size and a digest of its ends."""
    size = path.stat().st_size
    with path.open("rb") as file:
        digest = hashlib.sha256(file.read(1 << 16))
        file.seek(max(0, size - (1 << 16)))
        digest.update(file.read())
    return f"{size}-{digest.hexdigest()[:24]}"
