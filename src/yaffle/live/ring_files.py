"""A ring of capture files in a folder, bounded in bytes and in time: pcapng, the oldest are taken away.

Blocks are written whole with one call: killed at any moment, files are complete but for the last one written. A full
disk stops writing with a word, and goes on when there is room.
"""

import errno
import os
import time
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from struct import pack

from yaffle.capture.pcapng_writer import block, option
from yaffle.capture.ring_folder import STAMP
from yaffle.errors import YaffleError

_SECTION, _INTERFACE, _STATISTICS = 0x0A0D0D0A, 1, 5
_MAGIC, _ANY_LENGTH = 0x1A2B3C4D, -1
_PARTS = 16  # files of a full ring, so that little is lost when the oldest goes
_LEAST_FILE, _LARGEST_FILE = 64 << 10, 256 << 20
_WRITE_BACK = 8 << 20  # So many octets are begun to be put on the disk at a time, so that none waits for many.
_AHEAD = 32 << 20
_AGAIN_S = 1.0
_SPARE, _SPARE_PART = 32 << 20, 50  # Octets of the disk that are left to others; of a small one so much of it.


@dataclass
class LiveInterface:
    """An interface that is captured from, as the files tell it."""

    name: str
    link_type: int
    speed_bps: int = 0
    hardware: bytes = b""
    filter: str = ""
    captured: int = 0
    dropped: int = 0

    def description(self, snap: int) -> bytes:
        """Its block at the head of a file."""
        told = pack("<HHI", self.link_type, 0, snap) + option(2, self.name.encode())
        if len(self.hardware) == 6:
            told += option(6, self.hardware)
        if self.speed_bps > 0:
            told += option(8, pack("<Q", self.speed_bps))
        told += option(9, b"\x09")
        if self.filter:
            told += option(11, b"\x00" + self.filter.encode())
        return block(_INTERFACE, told + option(0, b""))

    def statistics(self, number: int, now_ns: int) -> bytes:
        """What was captured and dropped so far, at the foot of a file."""
        stamp = pack("<III", number, now_ns >> 32, now_ns & 0xFFFFFFFF)
        told = option(4, pack("<Q", self.captured + self.dropped)) + option(5, pack("<Q", self.dropped))
        return block(_STATISTICS, stamp + told + option(0, b""))


@dataclass
class RingFiles:
    """The files of one capture. limit_bytes, limit_time_ns: of all of them together; 0: no bound."""

    folder: Path
    snap: int
    limit_bytes: int = 2 << 30
    limit_time_ns: int = 0
    interfaces: list[LiveInterface] = field(default_factory=list)
    trouble: str = ""
    unwritten: int = 0  # packets for which there was no room on the disk
    files: list[Path] = field(default_factory=list)  # those there are, the oldest first

    def __post_init__(self) -> None:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._ages = [(path, path.stat().st_mtime_ns) for path in sorted(self.folder.glob("*.pcapng"))]
        except OSError as error:
            raise YaffleError(f"{self.folder}: no ring can be kept here ({error.strerror or error})") from error
        self._sizes = {path: path.stat().st_size for path, _ in self._ages}
        self.files = [path for path, _ in self._ages]
        self._ended = dict(self._ages)
        self._number = max((_number_of(path) for path in self.files), default=0)
        self._file = -1
        self._size = self._flushed = 0
        self._began_ns = 0
        self._tried = 0.0
        self._taker = ThreadPoolExecutor(1)
        self._going: list[tuple[Future[None], int]] = []  # files that are being taken away
        self.file_bytes = (
            min(_LARGEST_FILE, max(_LEAST_FILE, self.limit_bytes // _PARTS)) if self.limit_bytes else _LARGEST_FILE
        )
        self.file_time_ns = self.limit_time_ns // _PARTS if self.limit_time_ns else 0

    def add_interface(self, one: LiveInterface) -> int:
        """Its number in the files; told in the one that is open, too."""
        self.interfaces.append(one)
        if self._file >= 0:
            self._put(one.description(self.snap))
        return len(self.interfaces) - 1

    def write(self, packets: memoryview, count: int, last_ns: int) -> None:
        """Writes blocks of packets, of which the last was at a moment."""
        if self._file >= 0 and (
            self._size + len(packets) > self.file_bytes
            or (self.file_time_ns and last_ns - self._began_ns >= self.file_time_ns)
        ):
            self.end_file(last_ns)
        self.make_room(last_ns, len(packets))
        if (self._file < 0 and not self.begin(last_ns)) or not self._put(packets):
            self.unwritten += count

    def begin(self, now_ns: int) -> bool:
        """Begins another file; whether that went well."""
        if self.trouble and time.monotonic() - self._tried < _AGAIN_S:
            return False
        self._tried = time.monotonic()
        told = os.statvfs(self.folder)
        if told.f_bavail < min(_SPARE // told.f_frsize, told.f_blocks // _SPARE_PART):
            self.trouble = f"{self.folder}: the disk is full: nothing is written until there is room"
            return False
        self._number += 1
        stamp = time.strftime(STAMP, time.gmtime(now_ns // 10**9))
        path = self.folder / f"{self._number:08d}-{stamp}.pcapng"
        try:
            self._file = os.open(path, os.O_CREAT | os.O_WRONLY | os.O_EXCL | os.O_CLOEXEC, 0o600)
        except OSError as error:
            self.trouble = f"{path}: cannot be written ({error.strerror or error}): tried again every second"
            return False
        self.files.append(path)
        self._size = self._flushed = 0
        self._began_ns = now_ns
        head = block(_SECTION, pack("<IHHq", _MAGIC, 1, 0, _ANY_LENGTH))
        return self._put(head + b"".join(one.description(self.snap) for one in self.interfaces))

    def _put(self, octets: "bytes | memoryview") -> bool:
        """Writes all or nothing: what was written of a block that has no room is cut away again."""
        view = memoryview(octets)
        begun = self._size
        try:
            while view.nbytes:
                done = os.write(self._file, view)
                self._size += done
                view = view[done:]
        except OSError as error:
            words = "the disk is full" if error.errno == errno.ENOSPC else error.strerror or str(error)
            self.trouble = f"{self.files[-1]}: {words}: nothing is written until there is room"
            os.ftruncate(self._file, begun)
            os.lseek(self._file, begun, os.SEEK_SET)
            self._size = begun
            self._close()
            return False
        self.trouble = ""
        if self._size - self._flushed >= _WRITE_BACK:
            _write_back(self._file, self._flushed, self._size - self._flushed)
            self._flushed = self._size
        return True

    def look(self, now_ns: int) -> None:
        """While nothing passes: what is too old goes, the open file is ended in time."""
        if self._file >= 0 and self.file_time_ns and now_ns - self._began_ns >= self.file_time_ns:
            self.end_file(now_ns)
        self.make_room(now_ns)

    def end_file(self, now_ns: int) -> None:
        """Ends the file that is open, with what was captured and dropped so far."""
        if self._file >= 0:
            foot = b"".join(one.statistics(k, now_ns) for k, one in enumerate(self.interfaces))
            if self._put(foot):
                self._close()

    def _close(self) -> None:
        path = self.files[-1]
        os.close(self._file)
        self._file = -1
        self._sizes[path] = self._size
        self._ended[path] = time.time_ns()

    def make_room(self, now_ns: int, more: int = 0) -> None:
        """Takes away the oldest files that the ring has no room for, and for so many octets more; never the one that
        is open. Large files go beside the capture, somewhat early: it takes longer than packets can wait.
        """
        ahead = min(self.file_bytes // 4, _AHEAD) if self.file_bytes >= _AHEAD else 0
        done = self.files[:-1] if self._file >= 0 else list(self.files)
        total = sum(self._sizes[path] for path in done) + (self._size if self._file >= 0 else 0) + more
        for path in done:
            late = self.limit_time_ns and self._ended[path] < now_ns - self.limit_time_ns
            if not late and not (self.limit_bytes and total > self.limit_bytes - ahead):
                break
            size = self._sizes.pop(path)
            self._going.append((self._taker.submit(path.unlink, missing_ok=True), size))
            total -= size
            self.files.remove(path)
        while self._going and (self._going[0][0].done() or self._is_over(total)):
            self._going.pop(0)[0].result()

    def _is_over(self, total: int) -> bool:
        """Whether there is more than may be, with files that are about to go."""
        return bool(self.limit_bytes) and total + sum(size for _, size in self._going) > self.limit_bytes


def _number_of(path: Path) -> int:
    head = path.name.partition("-")[0]
    return int(head) if head.isdigit() else 0


def _write_back(file: int, begin: int, size: int) -> None:
    """Begins to put octets on the disk, and lets go of those before (sync_file_range(2))."""
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    libc.sync_file_range(file, ctypes.c_int64(begin), ctypes.c_int64(size), 2)
    behind = begin - 8 * _WRITE_BACK
    if behind >= 0:
        os.posix_fadvise(file, behind, size, os.POSIX_FADV_DONTNEED)
