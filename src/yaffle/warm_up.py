"""Compiles every kernel into the cache by running it once on a tiny capture; run as `python -m yaffle.warm_up`.

Compiling holds the interpreter for long: the window has it done by a child process, with a word about it.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path
from struct import Struct

from yaffle.capture.reader import Progress
from yaffle.errors import Cancelled, YaffleError
from yaffle.kernels import cache_folder


def _tiny(path: Path, order: str) -> None:
    head = Struct(order + "IHHiIII").pack(0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
    frame = bytes(12) + b"\x08\x06" + bytes(28)
    path.write_bytes(head + Struct(order + "IIII").pack(1, 0, len(frame), len(frame)) + frame)


def _tiny_blocks(path: Path) -> None:
    from yaffle.capture.pcapng_writer import write_pcapng

    write_pcapng(path, [(1, 42, bytes(12) + b"\x08\x06" + bytes(28))])


def compiled() -> bool:
    """Whether the kernels of exactly these sources are in the cache."""
    return (cache_folder() / "complete").exists()


def compile_first(progress: Progress) -> None:
    """Has a child compile what is not compiled yet, and waits for it. Raises Cancelled, or YaffleError if it fails."""
    if compiled():
        return
    began = time.monotonic()
    child = subprocess.Popen([sys.executable, "-m", "yaffle.warm_up"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    while True:
        try:
            _, said = child.communicate(timeout=0.1)
            break
        except subprocess.TimeoutExpired:
            spent = time.monotonic() - began
            if not progress(0.0, f"compiling the engine, once for this version: {spent:.0f} s so far"):
                child.kill()
                child.communicate()
                raise Cancelled from None
    if child.returncode:
        raise YaffleError(f"the engine cannot be compiled: {said.decode(errors='replace').strip()[-300:]}")


def warm_up() -> None:
    """Compiles what is not compiled yet."""
    from yaffle.analysis import analyse

    with tempfile.TemporaryDirectory() as folder:
        one, two = Path(folder) / "one.pcap", Path(folder) / "two.pcapng"
        _tiny(one, "<")
        _tiny_blocks(two)
        analyse([one])
        analyse([two])
    cache_folder().mkdir(parents=True, exist_ok=True)
    (cache_folder() / "complete").touch()


if __name__ == "__main__":
    warm_up()
