"""How kernels are compiled: one decorator, and a cache of its own that follows the sources.

Numba's cache does not notice edits in helper modules, so the folder's name carries a key of all source files
(name, size, time), of the Python and of this package's version.
"""

import hashlib
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import platformdirs

from yaffle import __version__

ROOT = Path(__file__).parent


def cache_folder() -> Path:
    """Folder of compiled kernels for exactly these sources."""
    key = hashlib.sha256(f"{__version__} {sys.version}".encode())
    for package in (
        ".",
        "capture",
        "transport",
        "protocols",
        "exchanges",
        "ledger",
        "normal",
        "path",
        "media",
        "findings",
        "session",
    ):
        for file in sorted((ROOT / package).glob("*.py")):
            stat = file.stat()
            key.update(f"{file.name} {stat.st_size} {stat.st_mtime_ns}".encode())
    base = os.environ.get("YAFFLE_CACHE_DIR") or platformdirs.user_cache_dir("yaffle")
    return Path(base) / f"kernels-{key.hexdigest()[:16]}"


os.environ.setdefault("NUMBA_CACHE_DIR", str(cache_folder()))

import numba  # noqa: E402  (the cache folder must be set before)

numba.config.CACHE_DIR = os.environ["NUMBA_CACHE_DIR"]  # Somebody may have imported it before us.


def kernel(function: Callable[..., Any]) -> Any:
    """Compiles a loop ahead of its first run, without the interpreter lock, cached on disk."""
    return numba.njit(cache=True, nogil=True, error_model="numpy")(function)


def leaf(function: Callable[..., Any]) -> Any:
    """A kernel that makes no arrays, called for every exchange: it counts no references, which would cost more than
    what it does.
    """
    return numba.njit(cache=True, nogil=True, error_model="numpy", _nrt=False)(function)


def helper(function: Callable[..., Any]) -> Any:
    """A small function that the optimizer pastes into the kernels that call it."""
    return numba.njit(nogil=True, error_model="numpy")(function)
