"""How the user arranged tables and panes: one for the process, read when it is first asked for."""

from functools import cache

from yaffle.session.layout_memory import LayoutMemory, load_layout


@cache
def arrangement() -> LayoutMemory:
    """The one in use."""
    return load_layout()
