"""A folder into which a capture writes its ring: its files stand for it, as they are at the moment."""

from collections.abc import Sequence
from pathlib import Path

PATTERN = "*.pcapng"
_HEAD_BYTES = 28  # A file that holds less has not begun.


def is_ring(path: Path) -> bool:
    """Whether a folder holds capture files, and nothing that makes it a history or a case."""
    return path.is_dir() and not any(path.glob("*.json")) and any(path.glob(PATTERN))


def files_of(folder: Path) -> list[Path]:
    """The files of a ring, the oldest first. One that is taken away meanwhile is left out."""
    found = []
    for path in sorted(folder.glob(PATTERN)):
        try:
            if path.stat().st_size >= _HEAD_BYTES:
                found.append(path)
        except FileNotFoundError:
            continue
    return found


def with_rings(paths: Sequence[Path]) -> list[Path]:
    """The paths, rings as their files."""
    return [file for path in paths for file in (files_of(path) if is_ring(path) else [path])]
