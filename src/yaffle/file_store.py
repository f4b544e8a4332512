"""Where workers and this machine exchange files: a folder that all see, or an object store (any fsspec address).

What is written is there whole or not at all. Each step is tried again, because stores fail now and then.
"""

import hashlib
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from yaffle.errors import YaffleError
from yaffle.room import spill_folder

_TRIES, _PAUSE_S = 4, 0.5
T = TypeVar("T")


def is_url(text: str) -> bool:
    """Whether this names something that is not a path."""
    return "://" in text


class MissingError(YaffleError):
    """A store does not hold such a file."""


class Store:
    """A folder of files by name. Raises YaffleError where it fails for good."""

    def __init__(self, url: str) -> None:
        url = url.removeprefix("file://")
        self.url = url.rstrip("/") if is_url(url) else str(Path(url).resolve())
        self.written_bytes = 0
        self._files: Any = _file_system(self.url) if is_url(url) else None

    def write(self, name: str, make: Callable[[Path], object]) -> None:
        """Puts a file there that `make` writes to the path that it is given."""
        if self._files is None:
            target = Path(self.url, name)
            part = target.with_name(f"{target.name}.{os.getpid()}.part")

            def written() -> None:
                part.parent.mkdir(parents=True, exist_ok=True)
                make(part)
                self.written_bytes += part.stat().st_size
                part.replace(target)

            self._tried(name, written)
            return
        with tempfile.TemporaryDirectory(dir=spill_folder(), prefix="yaffle-") as folder:
            made = Path(folder, "file")
            make(made)
            self.written_bytes += made.stat().st_size
            self._tried(name, lambda: self._files.put_file(str(made), f"{self.url}/{name}"))

    def put(self, name: str, file: Path) -> None:
        """Puts a copy of a file there. Raises MissingError where that is gone."""
        if self._files is None:
            self.write(name, lambda to: shutil.copyfile(file, to))
            return
        self.written_bytes += file.stat().st_size
        self._tried(name, lambda: self._files.put_file(str(file), f"{self.url}/{name}"))

    def read(self, name: str, beside: Path) -> Path:
        """A file as one of this machine; what has to be fetched is put into the folder `beside`."""
        if self._files is None:
            return Path(self.url, name)
        target = beside / name
        if not target.exists():
            self.fetch(name, target)
        return target

    def fetch(self, name: str, to: Path) -> None:
        """Puts a copy of a file to a path, whole or not at all. Raises MissingError."""
        to.parent.mkdir(parents=True, exist_ok=True)
        part = to.with_name(f"{to.name}.{os.getpid()}-{threading.get_ident()}.part")
        try:
            if self._files is None:
                self._tried(name, lambda: shutil.copyfile(Path(self.url, name), part))
            else:
                self._tried(name, lambda: self._files.get_file(f"{self.url}/{name}", str(part)))
            part.replace(to)
        finally:
            part.unlink(missing_ok=True)

    def content(self, name: str) -> bytes:
        """What a small file holds. Raises MissingError."""
        if self._files is None:
            return self._tried(name, lambda: Path(self.url, name).read_bytes())
        return bytes(self._tried(name, lambda: self._files.cat_file(f"{self.url}/{name}")))

    def folders(self, name: str) -> list[str]:
        """The names of the folders in a folder; none where it is not there."""
        try:
            if self._files is None:
                return self._tried(name, lambda: sorted(one.name for one in Path(self.url, name).iterdir()))
            told = self._tried(name, lambda: self._files.ls(f"{self.url}/{name}", detail=True))
        except MissingError:
            return []
        return sorted(one["name"].rstrip("/").rsplit("/", 1)[-1] for one in told if one["type"] == "directory")

    def files(self, name: str) -> list[str]:
        """The names of all files in a folder and those in it; none where it is not there."""
        try:
            if self._files is None:
                own = Path(self.url, name)
                return [str(one.relative_to(self.url)) for one in own.rglob("*") if one.is_file()]
            told = self._tried(name, lambda: self._files.find(f"{self.url}/{name.rstrip('/')}"))
        except MissingError:
            return []
        root = self.url.split("://", 1)[1]
        return [one.removeprefix(root).lstrip("/") for one in told]

    def remove_files(self, names: Sequence[str]) -> None:
        """Takes files away; those that are not there are no matter."""
        for name in names:
            with suppress(MissingError):
                if self._files is None:
                    self._tried(name, Path(self.url, name).unlink)
                else:
                    self._tried(name, partial(self._files.rm_file, f"{self.url}/{name}"))

    def remove(self, name: str) -> None:
        """Takes a folder away, if it is there."""
        if self._files is None:
            shutil.rmtree(Path(self.url, name), ignore_errors=True)
            return

        def removed() -> None:
            if self._files.exists(f"{self.url}/{name}"):
                self._files.rm(f"{self.url}/{name}", recursive=True)

        self._tried(name, removed)

    def _tried(self, name: str, act: Callable[[], T]) -> T:
        return tried(f"{self.url}/{name}", act)


def tried(what: str, act: Callable[[], T]) -> T:
    """Does something with a store, some times if need be. Raises YaffleError."""
    for turn in range(_TRIES):
        try:
            return act()
        except FileNotFoundError as error:
            raise MissingError(f"{what}: not there") from error
        except Exception as error:  # Each store has errors of its own kind.
            if turn == _TRIES - 1:
                told = " ".join(str(error).split()) or type(error).__name__
                raise YaffleError(f"{what}: the store failed {_TRIES} times ({told})") from error
            time.sleep(_PAUSE_S * 2**turn)
    raise AssertionError


def _file_system(url: str) -> Any:
    """What speaks with such a store; credentials come from the environment. Raises YaffleError."""
    try:
        import fsspec

        # What was listed once would hide what came since.
        options = {"use_listings_cache": False} if url.startswith("s3") else {}
        return fsspec.core.url_to_fs(url, **options)[0]
    except (ImportError, ValueError) as error:
        raise YaffleError(f"{url}: cannot be reached from here ({error}); pip install 'yaffle[cluster]'") from error


def fetched(url: str, beside: Path) -> Path:
    """A capture as a file of this machine: itself where it is one, else fetched into the folder `beside`, once."""
    if not is_url(url):
        return Path(url)
    name = url.rsplit("/", 1)[-1]
    return Store(url[: -len(name) - 1]).read(name, beside / hashlib.sha256(url.encode()).hexdigest()[:16])
