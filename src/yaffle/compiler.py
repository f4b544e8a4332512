"""The child process that compiles the kernels (yaffle.warm_up): waited for, or of low priority in the background."""

import subprocess
import sys
import time

from yaffle.errors import Cancelled, YaffleError
from yaffle.kernel_cache import compiled
from yaffle.progress import Progress

BACKGROUND = "background"


def compile_first(progress: Progress) -> None:
    """Has a child compile what is not compiled yet, and waits for it. Raises Cancelled, or YaffleError if it fails."""
    if compiled():
        return
    began = time.monotonic()
    child = subprocess.Popen(
        [sys.executable, "-m", "yaffle.warm_up"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
    )
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


def compile_in_background() -> None:
    """A child of low priority that outlives this process; a second one waits for the first and finds all done."""
    subprocess.Popen(
        [sys.executable, "-m", "yaffle.warm_up", BACKGROUND],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
