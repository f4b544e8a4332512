"""How long work tells how far it is, and is told to stop."""

from collections.abc import Callable

from yaffle.errors import Cancelled

Progress = Callable[[float, str], bool]  # (share done, words) -> whether to go on


def go_on(_share: float, _words: str) -> bool:
    """The progress of someone who does not watch."""
    return True


def step(progress: Progress, share: float, words: str) -> None:
    """Tells how far work is. Raises Cancelled where it shall not go on."""
    if not progress(share, words):
        raise Cancelled
