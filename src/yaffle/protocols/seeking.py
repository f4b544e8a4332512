"""One side of a connection whose messages can be found again where what stands there makes no sense."""

from collections.abc import Callable, Mapping
from enum import IntEnum
from typing import Any, ClassVar

from yaffle.protocols.reader import Reader


class State(IntEnum):
    """Where one side is."""

    READING = 0
    LOST = 1  # what stands here makes no sense: in mid-stream, or after a hole


class Event(IntEnum):
    """What ends a state."""

    SENSELESS = 0
    FOUND = 1
    HOLE = 2


class Seeking(Reader):
    """Reads one message after the other; seeks the next one where none begins."""

    BEGIN, HOLE = State.READING, Event.HOLE

    def _read(self) -> Event | None:
        """Uses up messages; SENSELESS where none begins."""
        raise NotImplementedError

    def _seek(self) -> Event | None:
        """Goes to where one begins: FOUND there."""
        raise NotImplementedError

    READERS: ClassVar[Mapping[int, Callable[[Any], int | None]]] = {
        State.READING: lambda side: side._read(),  # noqa: SLF001  Its own, whichever it is.
        State.LOST: lambda side: side._seek(),  # noqa: SLF001
    }
    TRANSITIONS: ClassVar[Mapping[tuple[int, int], int]] = {
        (State.READING, Event.SENSELESS): State.LOST,
        (State.LOST, Event.FOUND): State.READING,
        (State.READING, Event.HOLE): State.READING,
        (State.LOST, Event.HOLE): State.READING,
    }
