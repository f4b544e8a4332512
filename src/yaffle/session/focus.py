"""The focus: the period, the trail and the filter that everything on the screen is narrowed to; and its history."""

from dataclasses import dataclass, replace

TRAIL = ("application", "server", "client", "connection")


@dataclass(frozen=True)
class Focus:
    """None means: not narrowed. The trail holds labels, outermost first; a connection is told by its number."""

    period: tuple[int, int] | None = None
    trail: tuple[str, ...] = ()
    filter: str = ""

    def with_period(self, period: tuple[int, int] | None) -> "Focus":
        """The same, in another period."""
        return replace(self, period=period)

    def with_trail(self, trail: tuple[str, ...]) -> "Focus":
        """The same, on another trail."""
        return replace(self, trail=trail[: len(TRAIL)])

    def with_filter(self, text: str) -> "Focus":
        """The same, with another filter."""
        return replace(self, filter=text.strip())

    def as_json(self) -> dict[str, object]:
        """For the manifest of a case."""
        return {"period": list(self.period) if self.period else None, "trail": list(self.trail), "filter": self.filter}

    @classmethod
    def from_json(cls, data: dict[str, object]) -> "Focus":
        """The reverse; whatever is not understood is left out."""
        period, trail, text = data.get("period"), data.get("trail"), data.get("filter")
        return cls(
            (int(period[0]), int(period[1])) if isinstance(period, list) and len(period) == 2 else None,
            tuple(str(part) for part in trail) if isinstance(trail, list) else (),
            text if isinstance(text, str) else "",
        )


class FocusHistory:
    """Where the focus has been: back and forward."""

    def __init__(self) -> None:
        self._past: list[Focus] = []
        self._future: list[Focus] = []
        self.now = Focus()

    def go(self, focus: Focus) -> bool:
        """Moves on; whether anything changed."""
        if focus == self.now:
            return False
        self._past.append(self.now)
        self._future.clear()
        self.now = focus
        return True

    def back(self) -> bool:
        """One step back, if there is one."""
        if not self._past:
            return False
        self._future.append(self.now)
        self.now = self._past.pop()
        return True

    def forward(self) -> bool:
        """One step forward again, if there is one."""
        if not self._future:
            return False
        self._past.append(self.now)
        self.now = self._future.pop()
        return True

    @property
    def can_go_back(self) -> bool:
        """Whether there is a past."""
        return bool(self._past)

    @property
    def can_go_forward(self) -> bool:
        """Whether there is a future."""
        return bool(self._future)
