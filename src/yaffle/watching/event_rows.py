"""Rows of the table `events`: what was noticed, who was told, what was done, and what it changed."""

from dataclasses import dataclass, field
from typing import Any
from uuid import uuid4

import pyarrow as pa

from yaffle.watching.states import RAISED, UNKNOWN

CLEARED, ACKNOWLEDGED, NOTICE, RESPONSE, EFFECT, UNDONE, CORRECTED = (
    "cleared", "acknowledged", "notice", "response", "effect", "undone", "corrected",
)  # fmt: skip
HAPPENED = "happened"  # of what has no end: another way, another hardware address
EVENT_STATES = (RAISED, CLEARED, UNKNOWN, ACKNOWLEDGED, NOTICE, RESPONSE, EFFECT, UNDONE, CORRECTED, HAPPENED)
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        ("watch", pa.string()),
        ("subject", pa.string()),
        ("state", pa.string()),
        ("severity", pa.string()),
        ("value", pa.float64()),
        ("limit", pa.float64()),
        ("unit", pa.string()),
        ("words", pa.string()),
        ("id", pa.string()),
        ("about", pa.string()),  # the event that a notice, a response or its effect belongs to
    ]
)


@dataclass(frozen=True)
class Event:
    """One of them. value, limit: NaN where there is none."""

    time_ns: int
    watch: str
    subject: str
    state: str
    severity: str = ""
    value: float = float("nan")
    limit: float = float("nan")
    unit: str = ""
    words: str = ""
    id: str = field(default_factory=lambda: uuid4().hex)
    about: str = ""

    def as_json(self) -> dict[str, Any]:
        """As a row is told to others; what is not known is null."""
        return {name: None if (value := getattr(self, name)) != value else value for name in SCHEMA.names}


def event_of(told: dict[str, Any]) -> Event:
    """The reverse."""
    figures = {key: float("nan") if told[key] is None else told[key] for key in ("value", "limit")}
    return Event(**{**told, **figures})


def table_of(events: list[Event]) -> pa.Table:
    """Rows of the table."""
    rows = [one.as_json() for one in events]
    return pa.table({name: pa.array([row[name] for row in rows], SCHEMA.field(name).type) for name in SCHEMA.names})
