"""What the user makes of a report: its title, the order of its sections, what is left out, words of their own."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Any

TITLE = "Whose delay was it?"
ANSWER = "answer"


@dataclass(frozen=True)
class ReportPlan:
    """Never changed, only replaced.

    title: empty for the usual one. order: keys of sections; those not named follow in their usual order. left_out:
    keys. words: the user's own by key, instead of the report's. pinned_only: findings that were not pinned stay out.
    """

    title: str = ""
    order: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()
    words: dict[str, str] = field(default_factory=dict)
    pinned_only: bool = False

    def arranged(self, keys: Iterable[str]) -> list[str]:
        """Keys in the user's order. One that is not named stands after the one before which it usually follows."""
        usual = list(keys)
        found = [key for key in self.order if key in usual]
        for place, key in enumerate(usual):
            if key not in found:
                before = next((own for own in reversed(usual[:place]) if own in found), None)
                found.insert(found.index(before) + 1 if before is not None else 0, key)
        return found

    def with_words(self, key: str, text: str, usual: str) -> "ReportPlan":
        """With other words for a section; empty ones, or the usual, give the report's back."""
        others = {k: v for k, v in self.words.items() if k != key}
        return replace(self, words=others if text.strip() in ("", usual.strip()) else {**others, key: text.strip()})

    def with_out(self, key: str, out: bool) -> "ReportPlan":
        """With a section left out, or back."""
        others = tuple(k for k in self.left_out if k != key)
        return replace(self, left_out=(*others, key) if out else others)

    def as_json(self) -> dict[str, Any]:
        """For the case."""
        return {
            "title": self.title, "order": list(self.order), "left_out": list(self.left_out), "words": self.words,
            "pinned_only": self.pinned_only,
        }  # fmt: skip

    @classmethod
    def from_json(cls, data: Any) -> "ReportPlan":
        """The reverse; whatever is not understood is left out."""
        if not isinstance(data, dict):
            return cls()

        def texts(name: str) -> tuple[str, ...]:
            found = data.get(name)
            return tuple(str(one) for one in found) if isinstance(found, list) else ()

        words = data.get("words")
        return cls(
            str(data.get("title", "")),
            texts("order"),
            texts("left_out"),
            {str(k): str(v) for k, v in words.items()} if isinstance(words, dict) else {},
            data.get("pinned_only") is True,
        )


@dataclass(frozen=True)
class Letterhead:
    """What stands above every report of a house. logo: an SVG or a data address of a PNG; address: lines."""

    logo: str = ""
    address: str = ""
    order: tuple[str, ...] = ()  # of sections, where a case says nothing else
