"""Requests and answers that bear one number: which belong together."""

from collections import deque
from collections.abc import Hashable
from typing import Generic, TypeVar

Asked = TypeVar("Asked")
Told = TypeVar("Told")
Waiting = TypeVar("Waiting")


class Numbered(Generic[Asked, Told]):
    """The first request of a number with the first answer of it, the second with the second: whichever comes first."""

    def __init__(self) -> None:
        self._asked: dict[Hashable, deque[Asked]] = {}
        self._told: dict[Hashable, deque[Told]] = {}

    def ask(self, number: Hashable, asked: Asked) -> Told | None:
        """Its answer, where that is here already."""
        told = _next(self._told, number)
        if told is None:
            self._asked.setdefault(number, deque()).append(asked)
        return told

    def tell(self, number: Hashable, told: Told) -> Asked | None:
        """What it answers, where that is here already."""
        asked = _next(self._asked, number)
        if asked is None:
            self._told.setdefault(number, deque()).append(told)
        return asked

    @property
    def unanswered(self) -> list[Asked]:
        """Requests without an answer so far."""
        return [asked for waiting in self._asked.values() for asked in waiting]


def _next(waiting: dict[Hashable, deque[Waiting]], number: Hashable) -> Waiting | None:
    own = waiting.get(number)
    if own is None:
        return None
    first = own.popleft()
    if not own:
        del waiting[number]
    return first
