"""A finding: one sentence about a subject, with its grounds and the next step."""

from dataclasses import dataclass, field
from typing import Any

from yaffle.units import moment


@dataclass
class Finding:
    """A sentence about a subject, with everything it rests on."""

    party: str
    cause: str
    severity: str  # critical, major, minor (ITU-T X.733)
    subject: str
    sentence: str
    next_step: str
    confidence: float
    first_ns: int
    last_ns: int
    lost_ns: int  # time lost to this cause
    users: int
    site: str = ""  # whose users waited; empty where it is nobody's in particular
    exchanges: list[int] = field(default_factory=list)  # rows
    connections: list[int] = field(default_factory=list)
    grounds: dict[str, Any] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """Tells the finding again in a later analysis of the same evidence."""
        return f"{self.party}/{self.cause}/{self.subject}"


def period_words(first: int, last: int) -> str:
    """From when to when."""
    digits = 0 if last - first > 5_000_000_000 else 1
    return f"{moment(first, digits=digits)} to {moment(last, digits=digits)}"


def severity_of(lost_ns: int, users: int) -> str:
    """How bad so much lost time of so many is (ITU-T X.733)."""
    seconds = lost_ns / 1e9
    return "critical" if seconds >= 20 or (seconds >= 5 and users >= 3) else "major" if seconds >= 2 else "minor"
