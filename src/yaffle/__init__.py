"""Yaffle: whose delay is it? Network performance analysis from captures, with the evidence.

import yaffle
case = yaffle.analyse(["desk.pcapng", "server.pcapng"])    # or yaffle.open("case.yaffle"), a history
case.exchanges                                             # an Arrow table
case.table("connections", filter="retransmissions > 3")
"""

from importlib import import_module

__version__ = "0.1.0"
_OF_PROGRAMS = ("Case", "analyse", "open")
__all__ = ["__version__", *_OF_PROGRAMS]


def __getattr__(name: str) -> object:
    """What programs ask for is imported when it is asked for: a version costs nothing."""
    if name in _OF_PROGRAMS:
        return getattr(import_module("yaffle.programs.case"), name)
    raise AttributeError(f"module yaffle has no attribute {name}")
