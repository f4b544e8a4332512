"""What is promised of services, whose health is told, which reports go out when: tables of the configuration."""

from pathlib import Path
from typing import Annotated, Any

from croniter import croniter
from pydantic import BeforeValidator, Field, field_validator, model_validator

from yaffle.collector.configuration_parts import Part
from yaffle.collector.watch_configuration import Number, over_ns
from yaffle.records.catalogue import CATALOGUE, RECORDS, WAITS
from yaffle.watching.flow_sets import FlowSet
from yaffle.watching.member_values import GROUPS
from yaffle.watching.service_levels import ServiceLevel
from yaffle.watching.watch import ABOVE, BELOW
from yaffle.watching.windows import WhereError, checked

PERIODS = ("yesterday", "last week", "last month")
_FORMATS = ("pdf", "html")


class Promising(Part):
    """One service level: the measure is not above, or not below, a limit for a share of the time."""

    name: Annotated[str, Field(min_length=1)]
    measure: str
    of: str = ""
    where: str = ""
    over: Annotated[int, BeforeValidator(over_ns)] = 300 * 10**9
    above: Number | None = None
    below: Number | None = None
    target: Annotated[float, Field(gt=0, lt=100)] = 99.0

    @field_validator("measure")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in CATALOGUE:
            raise ValueError("a measure of the catalogue (docs/catalogue.md)")
        return value

    @model_validator(mode="after")
    def _one_limit(self) -> "Promising":
        if (self.above is None) == (self.below is None):
            raise ValueError(f"{self.name}: missed when `above` a limit or `below` one: one of both")
        entry = CATALOGUE[self.measure]
        if self.of not in GROUPS[entry.table]:
            raise ValueError(f"{self.name}: of: one of {', '.join(name for name in GROUPS[entry.table] if name)}")
        if self.where:
            try:
                checked(entry.table, self.where)
            except WhereError as error:
                raise ValueError(f"{self.name}: where: {error}") from error
        return self

    def level(self) -> ServiceLevel:
        """As it is judged."""
        rule, limit = (ABOVE, self.above) if self.above is not None else (BELOW, self.below)
        return ServiceLevel(
            self.name, self.measure, self.of, self.where, rule, float(limit or 0), self.target, self.over
        )


class Flows(Part):
    """A set of flows whose health is told, in both directions."""

    name: Annotated[str, Field(min_length=1)]
    where: Annotated[str, Field(min_length=1)]
    of: str = RECORDS
    over: Annotated[int, BeforeValidator(over_ns)] = 300 * 10**9
    retransmissions: Annotated[float, Field(gt=0, le=100)] = 2.0

    @model_validator(mode="after")
    def _a_condition(self) -> "Flows":
        if self.of not in (RECORDS, WAITS):
            raise ValueError(f"{self.name}: of: {RECORDS} or {WAITS}")
        try:
            checked(self.of, self.where)
        except WhereError as error:
            raise ValueError(f"{self.name}: where: {error}") from error
        return self

    def flow_set(self) -> FlowSet:
        """As it is judged."""
        return FlowSet(self.name, self.where, self.of, self.over, self.retransmissions)


class Reporting(Part):
    """One report that is made again and again."""

    name: Annotated[str, Field(min_length=1, pattern=r"^[\w. -]+$")]
    at: str = "0 6 * * mon"  # minute, hour, day, month, day of the week (UTC)
    period: str = "last week"
    into: Annotated[str, Field(min_length=1)] = "reports"
    format: str = "pdf"
    title: str = ""
    mail: str = ""  # the [[notify]] of kind mail by which it goes out

    @field_validator("at")
    @classmethod
    def _a_schedule(cls, value: Any) -> Any:
        if not isinstance(value, str) or len(value.split()) != 5 or not croniter.is_valid(value):
            raise ValueError('minute, hour, day, month and day of the week (UTC): "0 6 * * mon"')
        return value

    @field_validator("period")
    @classmethod
    def _a_period(cls, value: str) -> str:
        if value not in PERIODS:
            raise ValueError(f"one of {', '.join(PERIODS)}")
        return value

    @field_validator("format")
    @classmethod
    def _a_format(cls, value: str) -> str:
        if value not in _FORMATS:
            raise ValueError(f"one of {', '.join(_FORMATS)}")
        return value

    def within(self, folder: Path) -> "Reporting":
        """The same, with its folder named from a folder on."""
        return self.model_copy(update={"into": str(folder / self.into)})
