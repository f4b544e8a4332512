"""Ranges of one large file that are read apart, and put together as if one reading had read them all.

A range begins and ends where a record does. Where that is, is found by looking: from some byte on, the first place from
which many records follow one another. A range has to end where the next one begins, else the file is read as a whole:
so a place that only looks like a record's beginning does no harm.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.byte_source import ByteSource
from yaffle.capture.conversations import ConversationTable
from yaffle.capture.draft import Draft
from yaffle.capture.headers import Ends, empty_ends
from yaffle.capture.joined import move_on
from yaffle.capture.one_file import BLOCK, CaptureFile, FileFacts, Reading, Sums, index_of, source_of
from yaffle.capture.packets import SCHEMA, Columns, SackBlocks, fill
from yaffle.capture.pcap import PcapIndex
from yaffle.capture.pcapng import PcapngIndex
from yaffle.capture.radio_head import RADIO_LINKS
from yaffle.capture.reader import opened
from yaffle.capture.records import Container, empty_records
from yaffle.capture.transport_layer import QUOTE, Quotes
from yaffle.errors import FormatError, YaffleError
from yaffle.progress import go_on
from yaffle.room import Room, mapped_file

_LOOKED_AT = 2 << 20  # bytes in which a record's beginning is looked for


@dataclass(frozen=True)
class Piece:
    """What was read of one range: packets, which have no conversations yet, with their ends."""

    packets: Columns
    ends: Ends
    sack: SackBlocks
    quotes: Quotes
    facts: FileFacts
    steady: bool  # whether what the file's beginning says holds for it


def _beginning(path: Path) -> tuple[PcapIndex | PcapngIndex, int] | None:
    """(what the beginning of a file says, seconds of its first packet); None where it cannot be read in ranges."""
    data, records = ByteSource(path), empty_records(1)
    try:
        _, window, _ = next(data.windows())
        index = index_of(window)
        count, _, _ = index.index(window, index.header_bytes, 0, records)
    except (StopIteration, FormatError):
        return None
    finally:
        data.close()
    if data.compressed or not count or any(face.link_type in RADIO_LINKS for face in index.container.interfaces):
        return None  # Frames of a radio that are sent again are told by those before them.
    return index, int(records.time_ns[0] // 1_000_000_000)


def cuts_of(path: Path, most: int) -> list[int]:
    """Where a file may be cut into at most so many ranges; nowhere where it has to be read as a whole."""
    begun = _beginning(path) if most > 1 else None
    if begun is None:
        return []
    index, first_s = begun
    mapped, cuts = mapped_file(path), [0]
    for number in range(1, most):
        hint = mapped.size * number // most // 4 * 4
        found = index.record_from(np.asarray(mapped[hint : hint + _LOOKED_AT]), first_s)
        if found >= 0 and hint + found > cuts[-1]:
            cuts.append(hint + found)
    return cuts[1:]


class _Apart(Reading):
    """Keeps the ends of packets instead of giving them conversations."""

    def __init__(self) -> None:
        super().__init__(go_on, 1)
        self.kept: list[Ends] = []

    def decoded(self, out: Columns, ends: Ends, points: Int64s) -> None:
        out.flow[:] = -1
        self.kept.append(Ends._make(column[: out.flow.size].copy() for column in ends))


def read_range(path: Path, begin: int, stop: int | None) -> Piece:
    """What lies from the byte `begin` on, before `stop`. Raises YaffleError."""
    begun = _beginning(path) if begin else None
    if begin and begun is None:
        raise YaffleError(f"{path}: it is another file than before")
    reading = _Apart()
    try:
        file = CaptureFile(path, 0, 0, begun[0] if begun else None, begin)
        opened(path, lambda: file.read(reading, stop=stop))
    finally:
        reading.close()
    none = np.empty(0, np.uint32)
    sack = SackBlocks(*(np.concatenate(side) for side in zip((none, none), *reading.sack, strict=True)))
    ends = Ends(*(np.concatenate(columns) for columns in zip(empty_ends(0), *reading.kept, strict=True)))
    quotes = np.concatenate([np.empty(0, QUOTE), *reading.quotes])
    return Piece(reading.table.columns(), ends, sack, quotes, file.facts, file.steady)


def fitting(facts: Sequence[FileFacts], steady: Sequence[bool], cuts: Sequence[int]) -> int:
    """How many of the ranges of a file, in order, are what one reading would read: all, or those up to where it breaks.
    0 where it has to be read as a whole.
    """
    faces = len(facts[0].container.interfaces)
    for number, one in enumerate(facts):
        if not steady[number] or len(one.container.interfaces) != faces:
            return 0
        if one.container.broken_at is not None or one.note:
            return number + 1
        if number < len(cuts) and one.end != cuts[number]:
            return 0
    return len(facts)


def _joined_facts(facts: Sequence[FileFacts]) -> FileFacts:
    """What is known of the file by its ranges."""
    first, last = facts[0].container, facts[-1]
    names: dict[str, str] = {}
    for one in facts:
        names |= one.container.names
    faces = []
    for number, face in enumerate(first.interfaces):
        said = [one.container.interfaces[number].dropped for one in facts]
        faces.append(replace(face, dropped=next((count for count in reversed(said) if count != said[0]), said[0])))
    container = last.container
    return replace(last, container=Container(first.format, faces, names, container.notes, container.broken_at))


def join_ranges(path: Path, facts: Sequence[FileFacts], pieces: Iterable[Piece], total: int, room: Room) -> Draft:
    """The file as `read_apart` would give it, by its ranges, which hold so many packets together and fit."""
    columns = Columns._make(room.empty(total, dtype, place) for place, (_, dtype, _) in enumerate(SCHEMA))
    joined, table = _joined_facts(facts), ConversationTable()
    points = np.arange(max(1, len(joined.container.interfaces)), dtype=np.int64)
    sack, quotes = [SackBlocks(*np.empty((2, 0), np.uint32))], [np.empty(0, QUOTE)]
    at = blocks = 0
    for piece in pieces:
        size = piece.packets.time_ns.size
        own = Columns._make(column[at : at + size] for column in columns)
        fill(own, piece.packets)
        move_on(own.head, own.flow, 0, blocks)
        for begin in range(0, size, BLOCK):
            few = slice(begin, begin + BLOCK)
            table.assign(
                Columns._make(column[few] for column in own), Ends._make(end[few] for end in piece.ends), points
            )
        said = piece.quotes.copy()
        said["packet"] += at
        quotes.append(said)
        sack.append(piece.sack)
        at, blocks = at + size, blocks + piece.sack.left.size
    sums = Sums()
    if total:
        sums.take(columns)
    source = source_of(path, path.stat().st_size, joined, total, sums)
    return Draft(
        [source], columns, SackBlocks(*(np.concatenate(side) for side in zip(*sack, strict=True))), table.rows(),
        dict(source.names), quotes=np.concatenate(quotes),
    )  # fmt: skip
