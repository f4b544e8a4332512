"""Where compiled kernels are kept: a folder named after the content of the sources and the versions of the compiler.

Nothing in it depends on where the sources lie, when they were written, or on the processor: what was compiled when the
package was built is used as it is. Another version of anything is another folder, and compiles anew.
"""

import hashlib
import os
import platform
import shutil
import sys
import tempfile
from collections.abc import Callable
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

import platformdirs

ROOT = Path(__file__).parent
SHIPPED = ROOT / "compiled"  # in a wheel: what was compiled for it, a folder a key
GENERIC = "generic"  # One form for all processors, which measured no slower, so that it can be shipped.
COMPLETE = "complete"  # a file that says that every kernel is there
_PACKAGES = (
    ".", "capture", "transport", "protocols", "exchanges", "ledger", "normal", "path", "media", "hops", "radio",
    "cyclic", "tiers", "findings", "session",
)  # fmt: skip


@cache
def key() -> str:
    """Names these sources with this compiler: what numba does not look at when it finds an entry stands in it, too."""
    versions = " ".join(version(name) for name in ("numba", "llvmlite", "numpy"))
    python = f"{sys.implementation.name}{sys.version_info[0]}.{sys.version_info[1]}"
    system = f"{sys.platform} {platform.machine()} {os.environ.get('NUMBA_CPU_NAME', GENERIC)}"
    found = hashlib.sha256(f"{versions} {python} {system}".encode())
    for package in _PACKAGES:
        for file in sorted((ROOT / package).glob("*.py")):
            found.update(file.name.encode())
            found.update(file.read_bytes())
    return found.hexdigest()[:16]


def cache_folder() -> Path:
    """The folder of compiled kernels for exactly these sources."""
    base = os.environ.get("YAFFLE_CACHE_DIR") or platformdirs.user_cache_dir("yaffle")
    return Path(base) / f"kernels-{key()}"


def compiled() -> bool:
    """Whether all kernels are in the cache; what came with the package is put there."""
    return (cache_folder() / COMPLETE).exists() or _unpack()


def _unpack() -> bool:
    """Copies the kernels that came with the package, whole or not at all; whether there are some that fit."""
    shipped, folder = SHIPPED / key(), cache_folder()
    if not (shipped / COMPLETE).exists():
        return False
    folder.parent.mkdir(parents=True, exist_ok=True)
    part = Path(tempfile.mkdtemp(prefix="part-", dir=folder.parent))
    try:
        shutil.copytree(shipped, part, dirs_exist_ok=True)
        if folder.exists():  # Of a run that was killed while it compiled.
            shutil.rmtree(folder)
        part.rename(folder)
    except OSError:
        shutil.rmtree(part, ignore_errors=True)
        return (folder / COMPLETE).exists()  # Another process may have been quicker.
    return True


def locator(base: type) -> type:
    """A locator of numba's for our kernels. base: numba's own class of locators."""

    class Locator(base):  # type: ignore[misc]
        """Our kernels lie by package in one folder; all of it is of one state of the sources."""

        def __init__(self, function: Callable[..., Any], file: str) -> None:
            self._line = function.__code__.co_firstlineno
            self._folder = cache_folder() / Path(file).relative_to(ROOT).parent

        def get_cache_path(self) -> str:
            return str(self._folder)

        def get_source_stamp(self) -> str:
            return key()

        def get_disambiguator(self) -> str:
            return str(self._line)

        @classmethod
        def from_function(cls, function: Callable[..., Any], file: str) -> "Locator | None":
            if not Path(file).is_relative_to(ROOT):
                return None
            found = cls(function, file)
            found.ensure_cache_path()
            return found

    return Locator
