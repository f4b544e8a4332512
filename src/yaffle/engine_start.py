"""Gets the engine ready for some files: compiled where it is, plain for small captures while it is not."""

from collections.abc import Sequence
from pathlib import Path

from yaffle.capture.record_count import holds_at_most
from yaffle.compiler import compile_first, compile_in_background
from yaffle.kernel_cache import compiled
from yaffle.plain_kernels import run_plainly, running_plainly
from yaffle.progress import Progress

MOST_PLAIN_STEPS = 18_000  # possible owners weighed in plain Python (yaffle.tiers): some 3 s
MOST_PLAIN = 15_000  # Packets that are analyzed in plain Python: some 7 s, while compiling takes longer.


def make_ready(paths: Sequence[Path], progress: Progress) -> None:
    """Compiled, or plain and compiling meanwhile; larger captures wait for the compiler. Raises Cancelled, or
    YaffleError if it fails.
    """
    if compiled():
        run_plainly(False)
    elif holds_at_most(paths, MOST_PLAIN):
        if not running_plainly():
            compile_in_background()
        run_plainly(True)
    else:
        compile_first(progress)
        run_plainly(False)


def ready_for(work: int, progress: Progress) -> None:
    """Waits for the compiler where so many small steps are to be made that plain Python would take longer. Raises
    Cancelled, or YaffleError if it fails.
    """
    if running_plainly() and work > MOST_PLAIN_STEPS:
        compile_first(progress)
        run_plainly(False)


def switch_when_compiled() -> bool:
    """Leaves plain Python once the compiler is done; whether it has been left."""
    if running_plainly() and compiled():
        run_plainly(False)
    return not running_plainly()
