"""This machine as the workforce of an analysis; captures may lie in a store."""

import secrets
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Self

from yaffle.capture.captured import Capture
from yaffle.cluster import tasks
from yaffle.file_store import fetched, is_url
from yaffle.history.mirror import is_stored, mirrored
from yaffle.workforce import Workforce


class Here(Workforce):
    """This process. Use it in a `with` block: at its end, what was fetched is taken away."""

    def __init__(self) -> None:
        self._run = f"run-{secrets.token_hex(6)}"
        self._given: dict[str, str] = {}  # of what was fetched, its address

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        tasks.drop_fetched(self._run)

    def fetch(self, files: Sequence[str | Path]) -> list[Path]:
        """The captures as files of this machine. Raises YaffleError."""
        found = []
        for file in map(str, files):
            stored = is_url(file) and is_stored(file)
            path = mirrored(file) if stored else fetched(file, tasks.fetched_folder(self._run))
            if is_url(file):
                self._given[str(path.resolve())] = file
            found.append(path)
        return found

    def as_given(self, capture: Capture) -> None:
        """Sources bear the addresses that were given, not where they were fetched to."""
        capture.sources[:] = [replace(source, path=self.address(source.path)) for source in capture.sources]

    def address(self, path: str) -> str:
        """Of a file of this machine, how it was given."""
        return self._given.get(str(Path(path).resolve()), path)
