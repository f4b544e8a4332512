"""Reads capture files, in any number, into one set of packet columns."""

import hashlib
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np

from yaffle.arrays import Array
from yaffle.capture import headers
from yaffle.capture.byte_source import Bytes, ByteSource
from yaffle.capture.captured import Capture, Source
from yaffle.capture.conversations import ConversationTable
from yaffle.capture.doubles import drop_doubles
from yaffle.capture.icmp_errors import tie_quotes
from yaffle.capture.packets import MARK_SLICED, Columns, PacketTable, SackBlocks
from yaffle.capture.pcap import MAGIC, PcapIndex
from yaffle.capture.pcapng import PcapngIndex
from yaffle.capture.plain_tcp import decode_plain
from yaffle.capture.points import merge_points
from yaffle.capture.records import BROKEN, FULL, NEED_MORE, empty_records
from yaffle.errors import Cancelled, FormatError, YaffleError
from yaffle.kernels import kernel

BLOCK = 1 << 14  # Packets a round: their columns stay in the cache from one step to the next.
_IN_HAND = 3  # Blocks under way at once: one is decoded while another is given its conversations.

IPFIX_FILE = "ipfix"
Progress = Callable[[float, str], bool]  # (share done, words) -> whether to go on


def go_on(_share: float, _words: str) -> bool:
    """The progress of someone who does not watch."""
    return True


def step(progress: Progress, share: float, words: str) -> None:
    """Tells how far work is. Raises Cancelled where it shall not go on."""
    if not progress(share, words):
        raise Cancelled


def fingerprint(path: Path) -> str:
    """Tells a file again after it was moved: its size and a digest of its ends."""
    size = path.stat().st_size
    with path.open("rb") as file:
        digest = hashlib.sha256(file.read(1 << 16))
        file.seek(max(0, size - (1 << 16)))
        digest.update(file.read())
    return f"{size}-{digest.hexdigest()[:24]}"


def _index_of(head: Bytes) -> PcapIndex | PcapngIndex:
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


class _Reading:
    """State of one reading of several files."""

    def __init__(self, progress: Progress, total_bytes: int) -> None:
        self.table = PacketTable()
        self.conversations = ConversationTable()
        self.sack: list[tuple[Array, Array]] = []
        self.sack_count = 0
        self.links = 0  # interfaces of the files before
        self.progress, self.total_bytes, self.done_bytes = progress, max(1, total_bytes), 0
        self.records = empty_records(BLOCK)
        self.rest = np.empty(BLOCK, np.int64)
        self.quote_room = np.zeros(BLOCK, headers.QUOTE)
        self.quotes: list[Array] = []
        self.ends = [headers.empty_ends(BLOCK) for _ in range(_IN_HAND)]
        self.left, self.right = np.empty(4 * BLOCK, np.uint32), np.empty(4 * BLOCK, np.uint32)
        self._assigner = ThreadPoolExecutor(1)
        self._under_way: deque[Future[None]] = deque()
        self._blocks = 0

    def room_for(self, rows: int, read: int, size: int) -> None:
        """Room for more rows, from the share of the bytes read so far."""
        needed = self.table.size + rows
        if needed > self.table.capacity:
            self.settle()
            guess = int(needed * max(1.0, (size / max(1, read))) * 1.1) if read > 1 << 20 else needed * 2
            self.table.reserve(max(needed, min(guess, needed * 1024)))

    def take(self, window: Bytes, offset: int, count: int, source: int, link_types: Array) -> None:
        """Decodes the first `count` records of the block and adds them to the table."""
        start = self.table.size
        out = self.table.window(start, start + count)
        records = self.records
        out.time_ns[:] = records.time_ns[:count]
        out.position[:] = records.position[:count] + offset
        out.captured_bytes[:] = records.captured[:count]
        out.wire_bytes[:] = records.wire[:count]
        out.link[:] = records.link[:count]
        out.source[:] = source
        if len(self._under_way) == _IN_HAND - 1:
            self._under_way.popleft().result()
        ends = self.ends[self._blocks % _IN_HAND]
        self._blocks += 1
        starts = records.position[:count]
        left = decode_plain(window, starts, link_types == headers.ETHERNET, out, ends, self.rest)
        blocks, quoted = headers.decode(
            window,
            starts,
            self.rest[:left],
            link_types,
            out,
            ends,
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
        points = np.arange(self.links, self.links + link_types.size, dtype=np.int64)
        self._under_way.append(self._assigner.submit(self.conversations.assign, out, ends, points))
        self.table.size += count

    def settle(self) -> None:
        """Waits until every packet so far has its conversation."""
        while self._under_way:
            self._under_way.popleft().result()

    def close(self) -> None:
        """Ends the second thread."""
        self._assigner.shutdown(cancel_futures=True)


def _begins_with_messages(window: Bytes) -> bool:
    """Whether a file begins with a message of IPFIX (RFC 5655), whose first set is one of templates."""
    if window.size < 20 or window[0] != 0 or window[1] != 10:
        return False
    length, kind, size = (int(window[at]) << 8 | int(window[at + 1]) for at in (2, 16, 18))
    return length >= 20 and kind in (2, 3) and 4 <= size <= length - 16


def _read_file(reading: _Reading, path: Path, number: int, *, beginning: bool = False) -> Source:
    data = ByteSource(path)
    try:
        source = Source(path.name, str(path.resolve()), "", data.file_bytes, fingerprint(path))
        index: PcapIndex | PcapngIndex | None = None
        windows = data.windows()
        started, tail = reading.table.size, 0
        try:
            offset, window, last = next(windows)  # type: ignore[misc]
        except StopIteration:
            raise FormatError("file", at=0, found="empty", expected="a capture", rule="pcap or pcapng") from None
        while True:
            if index is None:
                if _begins_with_messages(window):  # No capture: what is in it is read where flow records are.
                    source.format = IPFIX_FILE
                    reading.links, reading.done_bytes = reading.links + 1, reading.done_bytes + data.file_bytes
                    return source
                index = _index_of(window)
                at = index.header_bytes
            else:
                at = 0
            status = FULL
            while status == FULL:
                count, at, status = index.index(window, at, offset, reading.records)
                faces = index.container.interfaces
                if count:
                    reading.room_for(count, data.done_bytes + at, data.file_bytes)
                    reading.take(window, offset, count, number, np.array([f.link_type for f in faces], np.int64))
                share = (
                    reading.done_bytes + min(data.file_bytes, data.done_bytes + (0 if data.compressed else at))
                ) / reading.total_bytes
                if not reading.progress(min(share, 1.0), f"reading {path.name}"):
                    raise Cancelled
                if beginning and count:
                    break
            if beginning or status == BROKEN or (last and status == NEED_MORE):
                tail = window.size - at if status == NEED_MORE else 0
                break
            try:
                offset, window, last = windows.send(at)  # type: ignore[attr-defined]
            except StopIteration:
                tail = 0 if last else window.size - at
                break
        container = index.container
        source.format, source.interfaces, source.names = container.format, container.interfaces, container.names
        source.notes += container.notes
        if data.note:
            source.notes.append(data.note)
        if tail and container.broken_at is None:
            source.notes.append(f"the file ends inside a record: its last {tail} bytes are not read")
        source.complete = container.broken_at is None and not tail and not data.note
        reading.settle()
        _describe(source, reading.table.window(started, reading.table.size))
        reading.links += max(1, len(container.interfaces))
        reading.done_bytes += data.file_bytes
        return source
    finally:
        data.close()


@kernel
def _sums(packets):  # type: ignore[no-untyped-def]
    """Bytes on the wire, first and last time, longest packet kept, how many are sliced, fragments, broken, and steps
    back in time.
    """
    octets, longest, sliced, fragments, broken, backwards = 0, 0, 0, 0, 0, 0
    first_ns = last_ns = previous = packets.time_ns[0]
    for i in range(packets.time_ns.size):
        t = packets.time_ns[i]
        marks = int(packets.marks[i])
        octets += int(packets.wire_bytes[i])
        longest = max(longest, int(packets.captured_bytes[i]))
        first_ns, last_ns = min(first_ns, t), max(last_ns, t)
        backwards += 1 if t < previous else 0
        previous = t
        sliced += marks & MARK_SLICED
        fragments += (marks >> 1) & 1
        broken += (marks >> 12) & 1
    return octets, first_ns, last_ns, longest, sliced, fragments, broken, backwards


def _describe(source: Source, packets: Columns) -> None:
    """Sums, and plain words on what the packets cannot tell."""
    source.packets = int(packets.time_ns.size)
    if not source.packets:
        source.notes.append("it holds no packets")
        return
    octets, first_ns, last_ns, longest, sliced, fragments, broken, backwards = (int(x) for x in _sums(packets))
    source.bytes, source.first_ns, source.last_ns = octets, first_ns, last_ns
    if sliced:
        source.notes.append(
            f"{sliced:,} packets truncated (snap length {longest} bytes): payloads are incomplete, headers and"
            " sizes are not"
        )
    dropped = sum(face.dropped for face in source.interfaces)
    if dropped:
        source.complete = False
        source.notes.append(f"the capture itself lost {dropped:,} packets: gaps may be its own, not the network's")
    if backwards:
        source.notes.append(f"timestamps go backwards {backwards:,} times")
    if fragments:
        source.notes.append(
            f"{fragments:,} packets are fragments; later fragments are put to the conversation of their first"
        )
    if broken:
        source.notes.append(f"{broken:,} packets have truncated or malformed headers")
    for kind in sorted({f.link_type for f in source.interfaces} - set(headers.READABLE_LINKS)):
        source.notes.append(f"link type {kind} is not known here: its packets are counted, not decoded")


def read_captures(paths: Sequence[Path | str], progress: Progress = go_on, *, beginning: bool = False) -> Capture:
    """Packets, conversations and sources of the files, in the order given; only what each begins with where
    `beginning`.

    Raises: YaffleError where a file cannot be read at all; Cancelled when `progress` says so. A file that breaks
    in the middle gives everything before the break and a note.
    """
    files = [Path(p) for p in paths]
    total = sum(f.stat().st_size for f in files if f.is_file())
    reading, sources = _Reading(progress, total), []
    try:
        for number, path in enumerate(files):
            try:
                sources.append(_read_file(reading, path, number, beginning=beginning))
            except FormatError as error:
                raise YaffleError(f"{path}: {error}") from error
            except OSError as error:
                raise YaffleError(f"{path}: {error.strerror or error}") from error
    finally:
        reading.close()
    sack = SackBlocks(
        np.concatenate([left for left, _ in reading.sack]) if reading.sack else np.empty(0, np.uint32),
        np.concatenate([right for _, right in reading.sack]) if reading.sack else np.empty(0, np.uint32),
    )
    names: dict[str, str] = {}
    for source in sources:
        names.update(source.names)
    capture = Capture(sources, reading.table.columns(), sack, reading.conversations.rows(), [], names)
    if reading.quotes:
        capture.quotes = np.concatenate(reading.quotes)
    merge_points(capture)

    def looked() -> None:
        if not progress(1.0, "looking for packets that were captured twice"):
            raise Cancelled

    drop_doubles(capture, looked)
    tie_quotes(capture.quotes, capture.conversations)
    return capture
