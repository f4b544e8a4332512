"""Bytes of a capture asked for before their turn: each record lies far from the last one."""

from yaffle.arrays import Uint8s
from yaffle.kernels import helper
from yaffle.prefetch import prefetch

CACHE_LINE = 64  # bytes
_AHEAD = 8  # records


@helper
def ask_ahead(buf: Uint8s, at: int, length: int) -> None:
    """Asks for the first bytes of the record that begins here after some others, if all are as long as the last one."""
    ahead = at + _AHEAD * length
    prefetch(buf, ahead)
    prefetch(buf, ahead + CACHE_LINE)
