"""Reads capture files, in any number, into one set of packet columns."""

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from yaffle.capture.captured import Capture
from yaffle.capture.doubles import drop_doubles
from yaffle.capture.draft import Draft
from yaffle.capture.icmp_errors import tie_quotes
from yaffle.capture.one_file import CaptureFile, Reading
from yaffle.capture.packets import Columns, SackBlocks
from yaffle.capture.points import merge_points
from yaffle.capture.transport_layer import QUOTE
from yaffle.errors import Cancelled, FormatError, YaffleError
from yaffle.progress import Progress, go_on
from yaffle.room import Room


def opened(path: Path, read: Callable[[], None]) -> None:
    """Reads a file, and says which one it was that could not be read."""
    try:
        read()
    except FormatError as error:
        raise YaffleError(f"{path}: {error}") from error
    except OSError as error:
        raise YaffleError(f"{path}: {error.strerror or error}") from error


class GrowingCaptures:
    """Files that may grow at their end: each reading gives a capture, which shares columns with those before it, and
    reads only what has come since.
    """

    def __init__(self, paths: Sequence[Path | str], room: Room | None = None) -> None:
        self.paths = [Path(p) for p in paths]
        self._reading = Reading(go_on, 1, room)
        self._files: list[CaptureFile] = []

    def read(self, progress: Progress = go_on) -> Capture:
        """Packets, conversations and sources of the files, in the order given, and so far.

        Raises as `read_captures`. Only the last file is read on, then those that were added.
        """
        return settled(self.draft(progress), progress)

    def draft(self, progress: Progress, *, beginning: bool = False, last: bool = False) -> Draft:
        """The same before points are told. `last`: no reading will follow.

        Raises as `read_captures`.
        """
        reading = self._reading
        reading.progress, reading.done_bytes = progress, 0
        reading.total_bytes = max(1, sum(f.stat().st_size for f in self.paths if f.is_file()))
        if self._files:
            file = self._files[-1]
            opened(file.path, lambda: file.read(reading))
        for number, path in enumerate(self.paths[len(self._files) :], len(self._files)):
            file = CaptureFile(path, number, self._files[-1].links if self._files else 0)
            self._files.append(file)
            opened(path, lambda file=file: file.read(reading, beginning=beginning))  # type: ignore[misc]
        return self._draft(last)

    def add(self, path: Path) -> None:
        """Another file, which goes on where the last one ended."""
        self.paths.append(path)

    @property
    def may_grow(self) -> bool:
        """Whether the last file can be read on."""
        return bool(self._files) and self._files[-1].may_grow

    def close(self) -> None:
        """Ends what runs beside it."""
        self._reading.close()

    def _draft(self, last: bool) -> Draft:
        reading = self._reading
        sources = [file.source() for file in self._files]
        sack = SackBlocks(
            np.concatenate([left for left, _ in reading.sack]) if reading.sack else np.empty(0, np.uint32),
            np.concatenate([right for _, right in reading.sack]) if reading.sack else np.empty(0, np.uint32),
        )
        names: dict[str, str] = {}
        for source in sources:
            names.update(source.names)
        quotes = np.concatenate([np.empty(0, QUOTE), *reading.quotes])
        shared = frozenset() if last else frozenset(Columns._fields)
        return Draft(
            sources, reading.table.columns(), sack, reading.conversations.rows(), names, quotes, shared=shared
        )  # fmt: skip


def settled(draft: Draft, progress: Progress = go_on) -> Capture:
    """Tells which interfaces are one point, drops what was captured twice, ties ICMP errors to what they quote.

    Raises Cancelled when `progress` says so.
    """

    def looked() -> None:
        if not progress(1.0, "looking for packets that were captured twice"):
            raise Cancelled

    merge_points(draft)
    drop_doubles(draft, looked)
    tie_quotes(draft.quotes, draft.conversations)
    return draft.finish()


def read_apart(path: Path, progress: Progress = go_on) -> Draft:
    """One file by itself, before it is told which interfaces are one point (see `joined`). Raises as
    `read_captures`.
    """
    captures = GrowingCaptures([path])
    try:
        return captures.draft(progress, last=True)
    finally:
        captures.close()


def read_captures(
    paths: Sequence[Path | str], progress: Progress = go_on, *, beginning: bool = False, room: Room | None = None
) -> Capture:
    """Packets, conversations and sources of the files, in the order given; only what each begins with where
    `beginning`. room: where the packets' columns are put.

    Raises: YaffleError where a file cannot be read at all; Cancelled when `progress` says so. A file that breaks
    in the middle gives everything before the break and a note.
    """
    captures = GrowingCaptures(paths, room)
    try:
        return settled(captures.draft(progress, beginning=beginning, last=True), progress)
    finally:
        captures.close()
