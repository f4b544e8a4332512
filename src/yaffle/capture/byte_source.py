"""Where the bytes of a capture come from: a mapped file, or a stream that is decompressed as it is read.

A reader asks for a window, says how many bytes of it were used up, and gets the next window, which begins
with the rest of the last one.
"""

import gzip
import mmap
import os
from pathlib import Path
from typing import IO, Any, cast

import numpy as np

from yaffle.arrays import Uint8s
from yaffle.errors import YaffleError
from yaffle.room import mapped_file

WINDOW = 16 << 20
_STEP = 1 << 18
LARGEST_WINDOW = 64 << 20  # No record may be larger; a length beyond this is not believed.

Bytes = np.ndarray[Any, np.dtype[np.uint8]]


def decompressed(path: Path) -> IO[bytes] | None:
    """A decompressing stream if the file starts like gzip, zstd or lz4."""
    with path.open("rb") as file:
        magic = file.read(4)
    if magic[:2] == b"\x1f\x8b":
        return cast(IO[bytes], gzip.open(path))
    if magic == b"\x28\xb5\x2f\xfd":
        import zstandard

        return cast(
            IO[bytes],
            zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(path.open("rb"), read_across_frames=True),
        )
    if magic == b"\x04\x22\x4d\x18":
        import lz4.frame

        return cast(IO[bytes], lz4.frame.open(path))
    return None


class ByteSource:
    """The bytes of one file. `note` says in words where a compressed stream broke."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self.file_bytes = path.stat().st_size
            if not path.is_file():
                raise YaffleError(f"{path}: not a file")
            self._raw = path.open("rb")
            self._packed = decompressed(path)
        except OSError as error:
            raise YaffleError(f"{path}: {error.strerror or error}") from error
        self._mapped: Uint8s | None = None
        self._given = 0  # bytes that are not asked for again
        self.compressed = self._packed is not None
        self.note = ""
        self.done_bytes = 0  # of file_bytes, for progress

    def give_back(self, before: int) -> None:
        """What lies before a byte is not asked for again. To unmap a large file at once takes long, and all threads
        that want memory meanwhile wait for it.
        """
        before -= before % mmap.PAGESIZE
        if self._mapped is not None and before > self._given:
            mapping: mmap.mmap = self._mapped._mmap  # type: ignore[attr-defined]  # noqa: SLF001  As in `mapped_file`.
            mapping.madvise(mmap.MADV_DONTNEED, self._given, before - self._given)
            self._given = before

    def windows(self, begin: int = 0) -> Any:
        """Yields (offset, bytes, last); `send` the number of bytes used up. From a byte on, where nothing is packed."""
        return self._stream_windows() if self._packed else self._mapped_windows(begin)

    def _mapped_windows(self, begin: int) -> Any:
        if self.file_bytes <= begin:
            return
        self._mapped = mapped_file(self.path)
        at, size = begin, WINDOW
        self.done_bytes = begin
        while True:
            # A file cut short while it is mapped would kill the process at the first touch behind its end.
            end = min(len(self._mapped), os.fstat(self._raw.fileno()).st_size)
            if end < len(self._mapped) and not self.note:
                self.note = f"the file was cut to {end} bytes while it was read"
            stop = min(end, at + size)
            used = yield at, np.asarray(self._mapped[at:stop]), stop == end
            if stop == end and (used == 0 or at + used >= end):
                return
            size = WINDOW if used else size * 2  # A record larger than the window: look further.
            if size > LARGEST_WINDOW:
                return
            at += used
            self.done_bytes = at

    def _stream_windows(self) -> Any:
        assert self._packed is not None
        held, at, wanted, ended = b"", 0, WINDOW, False
        while True:
            parts, have = [held], len(held)
            while have < wanted and not ended:
                try:
                    # One step of the decompressor a call: what came out before a break is not lost with it.
                    more = self._packed.read1(min(wanted - have, _STEP))  # type: ignore[attr-defined]
                except Exception as error:  # noqa: BLE001  Each library has its own kinds; all mean that the stream is broken here.
                    self.note = f"the compressed data break after {at + have} bytes ({error})"
                    more = b""
                ended = not more
                parts.append(more)
                have += len(more)
            held = b"".join(parts)
            used = yield at, np.frombuffer(held, np.uint8), ended
            if ended and (used == 0 or used >= len(held)):
                return
            wanted = WINDOW if used else wanted * 2
            if wanted > LARGEST_WINDOW:
                return
            held, at = held[used:], at + used
            self.done_bytes = min(self.file_bytes, self._raw_position())

    def _raw_position(self) -> int:
        packed: Any = self._packed
        inner = getattr(packed, "fileobj", None) or getattr(packed, "_fp", None)
        try:
            return int(inner.tell()) if inner is not None else int(self.file_bytes / 2)
        except (OSError, ValueError):
            return 0

    def close(self) -> None:
        """Closes the files; a mapped window may live on."""
        self._raw.close()
        self._mapped = None
        if self._packed:
            self._packed.close()


def read_at(path: Path, position: int, length: int) -> bytes:
    """Some bytes of the (decompressed) file, fewer at its end."""
    packed = decompressed(path)
    if packed is None:
        with path.open("rb") as file:
            file.seek(position)
            return file.read(length)
    with packed:
        left = position
        while left:
            skipped = len(packed.read(min(left, 1 << 20)))
            if not skipped:
                return b""
            left -= skipped
        return packed.read(length)
