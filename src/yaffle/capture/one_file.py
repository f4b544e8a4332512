"""One capture file, read as far as it goes into columns that several files share."""

from collections import deque
from collections.abc import Callable, Generator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.capture.byte_source import Bytes, ByteSource
from yaffle.capture.captured import Source, fingerprint
from yaffle.capture.conversations import ConversationTable
from yaffle.capture.headers import Ends, decode, empty_ends
from yaffle.capture.link_layer import ETHERNET, READABLE_LINKS
from yaffle.capture.packets import MARK_SLICED, Columns, PacketTable
from yaffle.capture.pcap import MAGIC, PcapIndex
from yaffle.capture.pcapng import PcapngIndex
from yaffle.capture.plain_tcp import decode_plain
from yaffle.capture.records import BROKEN, FULL, NEED_MORE, Container, Records, empty_records
from yaffle.capture.transport_layer import empty_quotes
from yaffle.capture.unwrapped import empty_packet
from yaffle.errors import Cancelled, FormatError
from yaffle.kernels import kernel
from yaffle.progress import Progress
from yaffle.room import Room

BLOCK = 1 << 14  # Packets a round: their columns stay in the cache from one step to the next.
_IN_HAND = 3  # Blocks under way at once: one is decoded while another is given its conversations.
_FAR_AHEAD = 1 << 26  # packets for which a file that grows gets room: what is not touched takes no memory
_FAR_APART = 512  # bytes from packet to packet
_WALKED = _IN_HAND + 1  # Beside them, the one whose records are walked.

IPFIX_FILE = "ipfix"


def index_of(head: Bytes) -> PcapIndex | PcapngIndex:
    """What finds the records of a file that begins so. Raises FormatError."""
    start = head[:4].tobytes()
    if start == b"\x0a\x0d\x0d\x0a":
        return PcapngIndex(head)
    if int.from_bytes(start, "big") in MAGIC or int.from_bytes(start, "little") in MAGIC:
        return PcapIndex(head)
    found = start.hex() or "nothing"
    raise FormatError(
        "start of the file",
        at=0,
        found=found,
        expected="a capture (pcap or pcapng)",
        rule="no capture begins like this",
    )


class Block(NamedTuple):
    """Records of a file that follow one another, if any, and the bytes they are in."""

    window: Bytes
    offset: int  # of the window in the file
    records: Records
    link_types: Int64s  # of the interfaces that are known by then
    read_bytes: int  # of the file, for progress

    @property
    def far_apart(self) -> bool:
        """Whether its packets lie so far apart that what was walked over is not in the cache when it is decoded."""
        position = self.records.position
        return position.size > 0 and int(position[-1] - position[0]) > _FAR_APART * position.size


class Reading:
    """State of one reading of several files."""

    def __init__(self, progress: Progress, total_bytes: int, room: Room | None = None) -> None:
        self.table = PacketTable(room=room)
        self._spilled = room is not None and room.spilled
        self.conversations = ConversationTable()
        self.sack: list[tuple[Array, Array]] = []
        self.sack_count = 0
        self.progress, self.total_bytes, self.done_bytes = progress, max(1, total_bytes), 0
        self._records = [empty_records(BLOCK) for _ in range(_WALKED)]
        self.rest = np.empty(BLOCK, np.int64)
        self.packet_room, self.quote_room = empty_packet(), empty_quotes(BLOCK)
        self.quotes: list[Array] = []
        self.ends = [empty_ends(BLOCK) for _ in range(_IN_HAND)]
        self.left, self.right = np.empty(4 * BLOCK, np.uint32), np.empty(4 * BLOCK, np.uint32)
        self._walker, self._assigner = ThreadPoolExecutor(1), ThreadPoolExecutor(1)
        self._under_way: deque[Future[None]] = deque()
        self._walked = self._blocks = 0

    def room_for(self, rows: int, read: int, size: int, *, grows: bool) -> None:
        """Room for more rows, from the share of the bytes read so far; far ahead in a file that grows."""
        needed = self.table.size + rows
        if needed <= self.table.capacity:
            return
        self.settle()
        if not grows:
            guess = int(needed * max(1.0, (size / max(1, read))) * 1.1) if read > 1 << 20 else needed * 2
            self.table.reserve(max(needed, min(guess, needed * 1024)))
            return
        try:  # Else all that was read would be copied in one of the looks, which takes as long as several others.
            self.table.reserve(max(2 * needed, needed if self._spilled else _FAR_AHEAD))
        except MemoryError:  # Not even without being touched.
            self.table.reserve(2 * needed)

    def records(self) -> Records:
        """Room for those of the block that comes next, if the one before it holds any."""
        return self._records[self._walked % _WALKED]

    def work(self, blocks: Generator[Block], take: Callable[[Block], None]) -> None:
        """Has all blocks taken. Where packets lie far apart each is walked while the one before it is decoded."""
        block, ahead = next(blocks, None), None
        try:
            while block is not None:
                self._walked += block.records.position.size > 0
                ahead = self._walker.submit(next, blocks, None) if block.far_apart else None
                take(block)
                block = ahead.result() if ahead else next(blocks, None)
        finally:
            block = None
            if ahead:
                wait([ahead])  # What it reads from is closed by who called.
            blocks.close()

    def take(self, block: Block, source: int, links: int, sums: "Sums") -> None:
        """Decodes the records of the block and adds them to the table, and to the sums of their file.
        links: interfaces of the files before.
        """
        start, window, records, link_types = self.table.size, block.window, block.records, block.link_types
        count = records.time_ns.size
        out = self.table.window(start, start + count)
        if records.link.any():
            out.link[:] = records.link
        if len(self._under_way) == _IN_HAND - 1:
            self._under_way.popleft().result()
        ends = self.ends[self._blocks % _IN_HAND]
        self._blocks += 1
        left = decode_plain(window, records, link_types == ETHERNET, out, ends, self.rest)
        blocks, quoted = decode(
            window,
            records.position,
            self.rest[:left],
            link_types,
            out,
            ends,
            self.packet_room,
            self.left,
            self.right,
            self.sack_count,
            self.quote_room,
        )
        if quoted:
            found = self.quote_room[:quoted].copy()
            found["packet"] += start
            self.quotes.append(found)
        if blocks:
            self.sack.append((self.left[:blocks].copy(), self.right[:blocks].copy()))
            self.sack_count += blocks
        points = np.arange(links, links + link_types.size, dtype=np.int64)
        self._under_way.append(self._assigner.submit(self._follow, out, block, source, ends, points, sums))
        self.table.size += count

    def _follow(self, out: Columns, block: Block, source: int, ends: Ends, points: Int64s, sums: "Sums") -> None:
        """What else is told of the packets of a block, beside the decoding of what follows."""
        out.time_ns[:] = block.records.time_ns
        out.captured_bytes[:] = block.records.captured
        out.wire_bytes[:] = block.records.wire
        np.add(block.records.position, block.offset, out=out.position)
        if source:
            out.source[:] = source
        self.decoded(out, ends, points)
        sums.take(out)

    def decoded(self, out: Columns, ends: Ends, points: Int64s) -> None:
        """Gives a block's packets their conversations."""
        self.conversations.assign(out, ends, points)

    def settle(self) -> None:
        """Waits until every packet so far has its conversation."""
        while self._under_way:
            self._under_way.popleft().result()

    def close(self) -> None:
        """Ends the other threads."""
        self._walker.shutdown(cancel_futures=True)
        self._assigner.shutdown(cancel_futures=True)


def _begins_with_messages(window: Bytes) -> bool:
    """Whether a file begins with a message of IPFIX (RFC 5655), whose first set is one of templates."""
    if window.size < 20 or window[0] != 0 or window[1] != 10:
        return False
    length, kind, size = (int(window[at]) << 8 | int(window[at + 1]) for at in (2, 16, 18))
    return length >= 20 and kind in (2, 3) and 4 <= size <= length - 16


class CaptureFile:
    """One file, read as far as it goes; and further, when more has come to it."""

    def __init__(
        self, path: Path, number: int, links: int, index: PcapIndex | PcapngIndex | None = None, begin: int = 0
    ) -> None:
        self.path, self._number, self._links = path, number, links
        self._index = index  # where its beginning was read already
        self._at = begin  # where the next record begins
        self._rows: tuple[int, int] | None = None  # packets that are its own
        self._sums = Sums()
        self._size, self._compressed, self._messages, self._tail, self._note = 0, False, False, 0, ""

    @property
    def links(self) -> int:
        """Interfaces of this file and those before."""
        return self._links + max(1, len(self._index.container.interfaces) if self._index is not None else 1)

    @property
    def may_grow(self) -> bool:
        """Whether it can be read on from where it ended."""
        whole = self._index is not None and self._index.container.broken_at is None
        return whole and not self._compressed and not self._note

    def read(self, reading: Reading, *, beginning: bool = False, stop: int | None = None) -> None:
        """Reads what has not been read yet; only the first records where `beginning`, and only those before the byte
        `stop`, where one begins.
        """
        data = ByteSource(self.path)
        try:
            self._size, self._compressed = data.file_bytes, data.compressed
            first = reading.table.size
            self._read(reading, data, beginning, stop)
            self._note = data.note
            reading.settle()
            self._rows = (self._rows[0] if self._rows else first, reading.table.size)
            reading.done_bytes += data.file_bytes
        finally:
            data.close()

    def _read(self, reading: Reading, data: ByteSource, beginning: bool, stop: int | None) -> None:
        def take(block: Block) -> None:
            if rows := block.records.position.size:
                reading.room_for(rows, block.read_bytes, data.file_bytes, grows=self._rows is not None)
                reading.take(block, self._number, self._links, self._sums)
            data.give_back(block.offset)
            done = reading.done_bytes + min(data.file_bytes, block.read_bytes)
            if not reading.progress(min(done / reading.total_bytes, 1.0), f"reading {self.path.name}"):
                raise Cancelled

        reading.work(self._blocks(reading, data, beginning, stop), take)

    def _blocks(self, reading: Reading, data: ByteSource, beginning: bool, stop: int | None) -> Generator[Block]:
        """Walks the records that have not been read yet, block by block."""
        windows = data.windows(self._at)
        try:
            offset, window, last = next(windows)
        except StopIteration:
            if self._index is not None:
                return
            raise FormatError("file", at=0, found="empty", expected="a capture", rule="pcap or pcapng") from None
        while True:
            at = 0
            if stop is not None and offset + window.size >= stop:
                window, last = window[: max(0, stop - offset)], True
            if self._index is None:
                if _begins_with_messages(window):  # No capture: what is in it is read where flow records are.
                    self._messages = True
                    return
                self._index = index_of(window)
                at = self._index.header_bytes
            status = FULL
            while status == FULL:
                records = reading.records()
                count, at, status = self._index.index(window, at, offset, records)
                self._at = offset + at
                types = np.array([face.link_type for face in self._index.container.interfaces], np.int64)
                records = Records._make(column[:count] for column in records)
                yield Block(window, offset, records, types, data.done_bytes + (0 if data.compressed else at))
                if beginning:
                    break
            if beginning or status == BROKEN or (last and status == NEED_MORE):
                self._tail = window.size - at if status == NEED_MORE else 0
                return
            try:
                offset, window, last = windows.send(at)
            except StopIteration:
                self._tail = 0 if last else window.size - at
                return

    def source(self) -> Source:
        """What is known of it."""
        if self._messages:
            return Source(self.path.name, str(self.path.resolve()), IPFIX_FILE, self._size, fingerprint(self.path))
        first, end = self._rows or (0, 0)
        return source_of(self.path, self._size, self.facts, end - first, self._sums)

    @property
    def steady(self) -> bool:
        """Whether what its beginning says holds for all that was read."""
        return self._index is not None and self._index.steady

    @property
    def facts(self) -> "FileFacts":
        """What is known of it besides its packets."""
        assert self._index is not None
        return FileFacts(self._index.container, self._at, self._tail, self._note)


@dataclass(frozen=True)
class FileFacts:
    """What is known of a file that was read, besides its packets."""

    container: Container
    end: int  # where the next record would begin
    tail: int  # bytes at its end that are no whole record
    note: str  # why it could not be read on


def source_of(path: Path, size: int, facts: FileFacts, packets: int, sums: "Sums") -> Source:
    """What is known of a file of this size. packets: how many it has; sums: of these."""
    container, faces = facts.container, tuple(replace(face) for face in facts.container.interfaces)
    notes = [*container.notes]
    if facts.note:
        notes.append(facts.note)
    if facts.tail and container.broken_at is None:
        notes.append(f"the file ends inside a record: its last {facts.tail} bytes are not read")
    source = Source(
        path.name,
        str(path.resolve()),
        container.format,
        size,
        fingerprint(path),
        packets=packets,
        complete=container.broken_at is None and not facts.tail and not facts.note,
        notes=tuple(notes),
        interfaces=faces,
        names=dict(container.names),
    )
    return _described(source, sums.told) if packets else source.noting("it holds no packets")


_Told = tuple[int, int, int, int, int, int, int, int, int]


@kernel
def _add_up(packets: Columns, fresh: bool, sums: _Told) -> _Told:
    """Adds packets to sums, which begin where `fresh`: bytes on the wire, first and last time, longest packet kept, how
    many are sliced, fragments, broken, steps back in time; time of the last packet.
    """
    octets, first_ns, last_ns, longest, sliced, fragments, broken, backwards, previous = sums
    if fresh:
        first_ns = last_ns = previous = int(packets.time_ns[0])
    for i in range(packets.time_ns.size):
        t = int(packets.time_ns[i])
        marks = int(packets.head[i].marks)
        octets += int(packets.wire_bytes[i])
        longest = max(longest, int(packets.captured_bytes[i]))
        first_ns, last_ns = min(first_ns, t), max(last_ns, t)
        backwards += 1 if t < previous else 0
        previous = t
        sliced += marks & MARK_SLICED
        fragments += (marks >> 1) & 1
        broken += (marks >> 12) & 1
    return octets, first_ns, last_ns, longest, sliced, fragments, broken, backwards, previous


class Sums:
    """Of the packets of one file, as it is read."""

    def __init__(self) -> None:
        self._fresh = True
        self.told: _Told = (0, 0, 0, 0, 0, 0, 0, 0, 0)  # those of `_add_up`

    def take(self, packets: Columns) -> None:
        """Adds packets; at least one."""
        self.told = _add_up(packets, self._fresh, self.told)
        self._fresh = False


def _described(source: Source, told: _Told) -> Source:
    """With sums, and plain words on what the packets cannot tell."""
    octets, first_ns, last_ns, longest, sliced, fragments, broken, backwards, _ = told
    notes: list[str] = []
    if sliced:
        notes.append(
            f"{sliced:,} packets truncated (snap length {longest} bytes): payloads are incomplete, headers and"
            " sizes are not"
        )
    dropped = sum(face.dropped for face in source.interfaces)
    if dropped:
        notes.append(f"the capture itself lost {dropped:,} packets: gaps may be its own, not the network's")
    if backwards:
        notes.append(f"timestamps go backwards {backwards:,} times")
    if fragments:
        notes.append(f"{fragments:,} packets are fragments; later fragments are put to the conversation of their first")
    if broken:
        notes.append(f"{broken:,} packets have truncated or malformed headers")
    for kind in sorted({f.link_type for f in source.interfaces} - set(READABLE_LINKS)):
        notes.append(f"link type {kind} is not known here: its packets are counted, not decoded")
    return replace(
        source.noting(*notes),
        bytes=octets,
        first_ns=first_ns,
        last_ns=last_ns,
        complete=source.complete and not dropped,
    )
