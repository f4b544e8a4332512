"""Where something has been: back and forward, and words for each step."""

from typing import Generic, TypeVar

T = TypeVar("T")


class Navigation(Generic[T]):
    """States of one kind. Going on from the past forgets what was ahead."""

    def __init__(self, now: T) -> None:
        self._past: list[tuple[T, str]] = []
        self._future: list[tuple[T, str]] = []
        self.now = now

    def go(self, state: T, words: str = "") -> bool:
        """Moves on; whether anything changed. The same words again (typing) make one step."""
        if state == self.now:
            return False
        if not (words and self._past and self._past[-1][1] == words and not self._future):
            self._past.append((self.now, words))
        self._future.clear()
        self.now = state
        return True

    def replace(self, state: T) -> None:
        """The present becomes another, without a step."""
        self.now = state

    def back(self) -> bool:
        """One step back, if there is one."""
        return self._step(self._past, self._future)

    def forward(self) -> bool:
        """One step forward again, if there is one."""
        return self._step(self._future, self._past)

    def _step(self, source: list[tuple[T, str]], other: list[tuple[T, str]]) -> bool:
        if not source:
            return False
        state, words = source.pop()
        other.append((self.now, words))
        self.now = state
        return True

    @property
    def can_go_back(self) -> bool:
        """Whether there is a past."""
        return bool(self._past)

    @property
    def can_go_forward(self) -> bool:
        """Whether there is a future."""
        return bool(self._future)

    @property
    def back_words(self) -> str:
        """What going back would take back."""
        return self._past[-1][1] if self._past else ""

    @property
    def forward_words(self) -> str:
        """What going forward would do again."""
        return self._future[-1][1] if self._future else ""
