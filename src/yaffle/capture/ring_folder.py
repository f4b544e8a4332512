"""A folder into which a capture writes its ring: its files stand for it, as they are at the moment."""

import os
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from yaffle.errors import YaffleError

PATTERN = "*.pcapng"
KEPT = "kept"  # a folder in a ring: what is kept of it, by name
STAMP = "%Y-%m-%dT%H%M%SZ"
_SECOND_NS = 10**9
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


def stretch(folder: Path, first_ns: int, last_ns: int) -> list[Path]:
    """The files of a ring that hold packets of a period. Each begins when its name says, and ends with the next one."""
    files = files_of(folder)
    begins = [_begin_ns(path) for path in files]
    ends = begins[1:] + [path.stat().st_mtime_ns for path in files[-1:]]
    return [
        path
        for path, begin, end in zip(files, begins, ends, strict=True)
        if begin - _SECOND_NS <= last_ns and end + _SECOND_NS >= first_ns
    ]


def _begin_ns(path: Path) -> int:
    """When a file of a ring was begun, to the second; 0 where its name does not say."""
    stamp = path.stem.partition("-")[2]
    try:
        return int(datetime.strptime(stamp, STAMP).replace(tzinfo=UTC).timestamp()) * _SECOND_NS
    except ValueError:
        return 0


def span_ns(folder: Path) -> tuple[int, int]:
    """From when to when a ring reaches. Raises YaffleError where it holds nothing."""
    files = files_of(folder)
    if not files:
        raise YaffleError(f"{folder}: there is no ring of captures here")
    return _begin_ns(files[0]), files[-1].stat().st_mtime_ns


def keep_stretch(folder: Path, name: str, first_ns: int, last_ns: int) -> Path:
    """Keeps what a ring holds of a period under a name: the same files, which the ring's bound no longer takes away.

    Gives the folder, which opens as a ring does. Raises YaffleError.
    """
    if not name or name.startswith(".") or "/" in name:
        raise YaffleError(f"{name!r} is no name for a folder")
    files = stretch(folder, first_ns, last_ns)
    if not files:
        raise YaffleError(f"{folder}: the ring holds nothing of that period any more")
    kept = folder / KEPT / name
    try:
        kept.mkdir(parents=True)
        for path in files:
            os.link(path, kept / path.name)
    except FileExistsError as error:
        raise YaffleError(f"{kept}: something is kept under that name already") from error
    except OSError as error:
        raise YaffleError(f"{kept}: cannot be kept ({error.strerror or error})") from error
    return kept


def packets_of_period(rings: Sequence[Path], first_ns: int, last_ns: int) -> list[Path]:
    """Files with packets of a period in some rings, and in what was kept of them."""
    found: dict[str, Path] = {}
    for ring in rings:
        for folder in (ring, *sorted((ring / KEPT).glob("*"))):
            for path in stretch(folder, first_ns, last_ns) if folder.is_dir() else []:
                found.setdefault(path.name, path)
    return sorted(found.values(), key=lambda path: path.name)
