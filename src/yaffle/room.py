"""Room for large columns: in memory, or in files without a name that are mapped, so that more fits than memory holds.

Files without a name are gone when the process is, however it ends. Their space is taken on the disk before it is
written to: a mapped file that finds the disk full would kill the process.
"""

import mmap
import os
import tempfile
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import IO, Any
from weakref import WeakSet

import numpy as np

from yaffle.arrays import Array, Uint8s, skipped, staggered
from yaffle.errors import YaffleError

_PAGE = 4096
_EVERY_S = 0.05


class Column:
    """A column that grows in memory."""

    def __init__(self, dtype: Any, place: int) -> None:
        self._dtype, self._place = dtype, place
        self._array = np.empty(0, dtype)

    def reserve(self, capacity: int, used: int) -> Array:
        """Room for `capacity` rows, of which the first `used` are kept. Room that is not touched costs no memory."""
        grown = staggered(capacity, self._dtype, self._place)  # Not resized: that would fill the new part, for nothing.
        grown[:used] = self._array[:used]
        self._array = grown
        return grown


class NilColumn(Column):
    """A column of which little is written to: what is not, is nil, and takes no memory."""

    def reserve(self, capacity: int, used: int) -> Array:
        """As above; what is new is nil."""
        grown = _nil(capacity, self._dtype)
        if self._array[:used].any():
            grown[:used] = self._array[:used]
        self._array = grown
        return grown


def _nil(rows: int, dtype: Any) -> Array:
    """A column of so many rows, all nil: what is not written to takes no memory, and all is given back with it."""
    size = max(1, rows) * np.dtype(dtype).itemsize
    return np.frombuffer(mmap.mmap(-1, size, mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS), dtype, rows)


class SpilledColumn(Column):
    """A column that grows in a file."""

    def __init__(self, dtype: Any, place: int, folder: Path) -> None:
        super().__init__(dtype, place)
        self._file: IO[bytes] = tempfile.TemporaryFile(dir=folder, prefix="yaffle-")  # noqa: SIM115
        self._folder = folder

    def reserve(self, capacity: int, used: int) -> Array:
        """As above; what was there is there still, and nothing is copied. Raises YaffleError where the disk is full."""
        skip, size = skipped(self._place), max(1, capacity) * np.dtype(self._dtype).itemsize
        try:
            os.posix_fallocate(self._file.fileno(), 0, skip + size)
            whole = mmap.mmap(self._file.fileno(), skip + size)
        except OSError as error:
            raise YaffleError(
                f"{self._folder}: no room for columns that memory does not hold ({error.strerror}); give more memory"
                " (--memory) or another folder (TMPDIR)"
            ) from error
        _watch.add(whole)
        self._array = np.frombuffer(whole, np.uint8)[skip : skip + size].view(self._dtype)[:capacity]
        return self._array


class Room:
    """Where columns are put: in memory."""

    spilled = False

    def column(self, dtype: Any, place: int = 0) -> Column:
        """A column that grows."""
        return Column(dtype, place)

    def nil_column(self, dtype: Any, place: int = 0) -> Column:
        """A column that grows, whose rows are nil until they are written to."""
        return NilColumn(dtype, place)

    def empty(self, rows: int, dtype: Any, place: int = 0) -> Array:
        """A column of so many rows, filled with anything."""
        return self.column(dtype, place).reserve(rows, 0)

    def zeros(self, rows: int, dtype: Any) -> Array:
        """A column of so many rows, all nil; in memory what is not written to takes none."""
        return _nil(rows, dtype)


class SpilledRoom(Room):
    """Where columns are put: in files without a name in a folder."""

    spilled = True

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def column(self, dtype: Any, place: int = 0) -> Column:
        """A column that grows. Raises YaffleError where the folder cannot be written to."""
        try:
            return SpilledColumn(dtype, place, self._folder)
        except OSError as error:
            raise YaffleError(
                f"{self._folder}: columns that memory does not hold cannot be put there ({error.strerror}); give more"
                " memory (--memory) or another folder (TMPDIR)"
            ) from error

    def nil_column(self, dtype: Any, place: int = 0) -> Column:
        """The same: what is new in a file is nil."""
        return self.column(dtype, place)

    def zeros(self, rows: int, dtype: Any) -> Array:
        """So is this."""
        return self.empty(rows, dtype)


def spill_folder() -> Path:
    """Where there is room for more than memory holds: TMPDIR, else /var/tmp, which is on a disk."""
    return Path(os.environ.get("TMPDIR") or "/var/tmp")


def mapped_file(path: Path) -> Uint8s:
    """The bytes of a file, mapped to be read."""
    found = np.memmap(path, np.uint8, "r")
    _watch.add(found._mmap)  # type: ignore[attr-defined]  # noqa: SLF001  NumPy has no other name for it.
    return found


def free_bytes(proc: Path = Path("/proc"), groups: Path = Path("/sys/fs/cgroup")) -> int:
    """Memory that can be had without taking it from others, as the kernel estimates it, within what this container may
    have.
    """
    told = [line.split() for line in (proc / "meminfo").read_text().splitlines()]
    free = min((int(parts[1]) * 1024 for parts in told if parts[:1] == ["MemAvailable:"]), default=1 << 62)
    for most, now in (
        ("memory.max", "memory.current"),
        ("memory/memory.limit_in_bytes", "memory/memory.usage_in_bytes"),
    ):
        with suppress(OSError, ValueError):  # No limit is told as "max".
            free = min(free, max(0, int((groups / most).read_text()) - int((groups / now).read_text())))
    return free


def resident_bytes() -> int:
    """What this process has in memory, what is mapped included."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * _PAGE


class _Watch:
    """Gives back pages of mapped files whenever the process has too much in memory.

    They are not lost: they are in their files, and the kernel brings them back when they are touched.
    """

    def __init__(self) -> None:
        self._mapped: WeakSet[mmap.mmap] = WeakSet()  # whatever can be had from its file again
        self._lock = threading.Lock()
        self._most_bytes = 0

    def add(self, one: mmap.mmap) -> None:
        """Something is mapped."""
        with self._lock:
            self._mapped.add(one)

    def begin(self, most_bytes: int) -> None:
        """From now on no more than this is kept in memory."""
        first, self._most_bytes = not self._most_bytes, most_bytes
        if first:
            threading.Thread(target=self._look, name="resident memory", daemon=True).start()

    def _look(self) -> None:
        while True:
            if resident_bytes() > self._most_bytes:
                self.give_back()
            time.sleep(_EVERY_S)

    def give_back(self) -> None:
        """Gives back what is mapped."""
        with self._lock:
            every = list(self._mapped)
        for one in every:
            try:
                one.madvise(mmap.MADV_DONTNEED)
            except ValueError:  # It was closed meanwhile.
                continue


_watch = _Watch()


def keep_below(most_bytes: int) -> None:
    """From now on, pages of mapped files are given back whenever this process has more than this in memory."""
    _watch.begin(most_bytes)


def give_back() -> None:
    """Gives back what is mapped, now."""
    _watch.give_back()
