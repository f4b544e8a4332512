"""The focus: the period, the trail and the filter that everything on the screen is narrowed to;"""

from dataclasses import dataclass, replace

from yaffle.session.former_words import present_filter

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
            present_filter(text) if isinstance(text, str) else "",
        )
