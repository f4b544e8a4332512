"""Captures that grow, followed: each look reads what came since the last one, and accounts again only for connections
that got packets.
"""

from collections.abc import Sequence
from pathlib import Path

from yaffle.analysis import COUNTER_SUFFIXES, Analysis, Former, analyse_capture
from yaffle.capture.reader import GrowingCaptures
from yaffle.progress import Progress, go_on

_END_BYTES = 4096  # by which a file is known again


def can_be_followed(paths: Sequence[Path]) -> bool:
    """Whether all of them are captures; histories follow themselves, and tables are read whole."""
    return bool(paths) and all(path.is_file() and path.suffix.lower() not in COUNTER_SUFFIXES for path in paths)


class Followed:
    """Some captures, the last of which may grow, and be followed by others. A look gives what `analyse` would give of
    the same bytes; one that is
    provisional leaves out what all connections together tell.
    """

    def __init__(self, paths: Sequence[Path | str]) -> None:
        self.paths = [Path(path) for path in paths]
        self._captures: GrowingCaptures | None = None
        self._former: Former | None = None
        self._sizes: list[int] = []
        self._ends = b""  # of the last file, as it was
        self.connections_anew = 0  # that the last look accounted for

    def add(self, path: Path) -> None:
        """Another capture, which goes on where the last one ended."""
        self.paths.append(path)
        if self._captures is not None:
            self._captures.add(path)

    def look(self, progress: Progress = go_on, *, provisional: bool = False) -> Analysis:
        """The analysis of what is there now. Raises YaffleError or Cancelled; then the next look begins anew."""
        sizes = [path.stat().st_size if path.is_file() else 0 for path in self.paths]
        if not self._goes_on(sizes):
            self.close()
        captures = self._captures or GrowingCaptures(self.paths)
        former, self._captures, self._former = self._former, None, None
        try:
            capture = captures.read(lambda share, words: progress(0.5 * share, words))
            analysis, self._former = analyse_capture(
                capture, progress=progress, former=former, keep=True, provisional=provisional
            )
        except BaseException:
            captures.close()
            raise
        self._captures, self._sizes, self._ends = captures, sizes, _both_ends(self.paths[-1], sizes[-1])
        self.connections_anew = self._former.anew if self._former is not None else analysis.account.flow.size
        return analysis

    def __del__(self) -> None:
        self.close()

    def close(self) -> None:
        """Ends what runs beside it."""
        if self._captures is not None:
            self._captures.close()
        self._captures = self._former = None

    def _goes_on(self, sizes: list[int]) -> bool:
        """Whether what was read can be read on: of what there was only the last file has grown, and is the same."""
        if self._captures is None or not self._captures.may_grow or not self._sizes:
            return False
        last = len(self._sizes) - 1
        if sizes[:last] != self._sizes[:last] or sizes[last] < self._sizes[last]:
            return False
        return _both_ends(self.paths[last], self._sizes[last]) == self._ends


def _both_ends(path: Path, size: int) -> bytes:
    """The first and the last bytes of a file when it was so large: those of another one under its name differ."""
    with path.open("rb") as file:
        first = file.read(min(size, _END_BYTES))
        file.seek(max(0, size - _END_BYTES))
        return first + file.read(min(size, _END_BYTES))
