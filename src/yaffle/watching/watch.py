"""What is watched: a measure of each member of a group, against a limit, what is usual, or silence."""

from dataclasses import asdict, dataclass
from typing import Any

from yaffle.records.catalogue import CATALOGUE, Entry, entry_of
from yaffle.watching.states import BAD, BETWEEN, GOOD, NOTHING

SEVERITIES = ("notice", "warning", "critical")
ABOVE, BELOW, OUTSIDE, ABSENT, RISING, FALLING, AVAILABLE = (
    "above", "below", "outside", "absent", "rising", "falling", "available",
)  # fmt: skip
RULES = (ABOVE, BELOW, OUTSIDE, ABSENT, RISING, FALLING, AVAILABLE)
DEVIATIONS = 3.0  # that a lasting rise has, which `outside` finds unless told otherwise


@dataclass(frozen=True)
class Watch:
    """One watch. rule: one of RULES; limit: in the measure's unit, of OUTSIDE in deviations, of RISING and FALLING a
    difference from one `over` before, of AVAILABLE the least share of good minutes, %, where `minute_above` or
    `minute_below` says which minutes are good.
    """

    name: str
    measure: str = ""
    of: str = ""
    where: str = ""
    over_ns: int = 60 * 10**9
    rule: str = ABOVE
    limit: float = 0.0
    for_ns: int = 0
    clear_ns: int = 0
    clear_at: float | None = None  # the value from which it counts as good again; None: the limit
    severity: str = "warning"
    notify: tuple[str, ...] = ()
    respond: str = ""
    minute_above: float | None = None
    minute_below: float | None = None
    event: str = ""  # of watches over what happens: the kind
    keep: bool = False  # the packets around it

    @property
    def entry(self) -> Entry:
        """The measure in the catalogue."""
        return entry_of(self.measure, self.of)

    @property
    def unit(self) -> str:
        """Of its values and its limit."""
        return "%" if self.rule == AVAILABLE else self.entry.unit

    @property
    def limit_words(self) -> str:
        """The limit in words."""
        limit = f"{self.limit:,.6g} {self.unit}".rstrip()
        return {
            ABOVE: f"above {limit}", BELOW: f"below {limit}", ABSENT: "silent",
            OUTSIDE: f"{self.limit:g} deviations off usual",
            RISING: f"risen by {limit}", FALLING: f"fallen by {limit}",
            AVAILABLE: f"good for less than {limit} of the time",
        }[self.rule]  # fmt: skip

    def finding(self, value: float, side: int = 0) -> str:
        """What a value is: BAD, GOOD, BETWEEN; NOTHING of NaN. side: of OUTSIDE, -1 or 1 where it lies outside."""
        if value != value:
            return NOTHING
        if self.rule == OUTSIDE:
            return BAD if side else GOOD
        upward = self.rule in (ABOVE, RISING, FALLING, ABSENT)
        if value > self.limit if upward else value < self.limit:
            return BAD
        back = self.limit if self.clear_at is None else self.clear_at
        return GOOD if (value <= back if upward else value >= back) else BETWEEN

    def as_json(self) -> dict[str, Any]:
        """For whoever reads the book without the configuration."""
        return {**asdict(self), "notify": list(self.notify)}

    @classmethod
    def from_json(cls, told: dict[str, Any]) -> "Watch":
        """The reverse. Raises KeyError, TypeError or ValueError."""
        own = cls(**{**told, "notify": tuple(told["notify"])})
        if own.rule not in RULES or (not own.event and own.measure not in CATALOGUE):
            raise ValueError(f"{own.name}: this is no watch")
        return own
