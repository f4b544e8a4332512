"""The collector of garbage rests while very many small objects are made that all live on: looking at them again and
again finds nothing.
"""

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def collector_resting() -> Iterator[None]:
    """Within, nothing is collected that counting references does not free."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def leave_the_rest() -> None:
    """Before a program ends: what is left is not looked through for garbage, all of it goes with the process."""
    gc.freeze()
