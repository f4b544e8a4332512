"""One side of a connection, read piece by piece as a table of states says."""

from collections.abc import Callable, Mapping
from typing import Any, ClassVar

from yaffle.protocols.message import Run


class Reader:
    """The bytes of one side, used up as they come.

    For each state a subclass has a function in READERS: it uses up what it can, and gives the event that ended it, or
    None where more bytes are needed. TRANSITIONS tells which state follows a state and an event. Where bytes are
    missing, or nothing follows any more, `over` is set: then messages that are not whole are taken as far as they are
    there, and states that wait for no more than their beginning are left; HOLE ends all others.
    """

    BEGIN: ClassVar[int]
    HOLE: ClassVar[int]  # the event of missing bytes
    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]]
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]]

    def __init__(self) -> None:
        self.state = self.BEGIN
        self.data = b""
        self.base = -1  # the place of the first byte of `data`; -1 before anything came
        self.at = 0  # the first byte of `data` that is not used up
        self.over = False
        self.holes = 0
        self.in_hole = False  # `over` because of missing bytes, not for good

    def feed(self, run: Run) -> None:
        """Bytes that follow those that came before, or stand behind missing ones."""
        if not run.data:
            return
        if self.base >= 0 and run.at != self.base + len(self.data):
            self.in_hole = True
            self.end()
            self.state = self.TRANSITIONS[self.state, self.HOLE]
            self.holes += 1
            self.over, self.in_hole, self.data, self.at = False, False, b"", 0
        rest = self.data[self.at :]
        self.data = rest + run.data if rest else run.data
        self.base, self.at = run.at - len(rest), 0
        self.go_on()

    def go_on(self) -> None:
        """Reads as far as that is possible: called again where a reader waited for the other side."""
        readers, transitions = self.READERS, self.TRANSITIONS
        while (event := readers[self.state](self)) is not None:
            self.state = transitions[self.state, event]

    def end(self) -> None:
        """Nothing follows without a hole."""
        self.over = True
        self.go_on()

    @property
    def place(self) -> int:
        """The place of the first byte that is not used up."""
        return self.base + self.at

    @property
    def rest(self) -> int:
        """Bytes that are not used up."""
        return len(self.data) - self.at
