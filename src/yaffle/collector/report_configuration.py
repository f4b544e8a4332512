"""What is promised of services, whose health is told, which reports go out when: tables of the configuration."""

from pathlib import Path
from typing import Annotated, Any

from croniter import croniter
from pydantic import BeforeValidator, Field, field_validator, model_validator

from yaffle.collector.configuration_parts import Part, one_of
from yaffle.collector.watch_configuration import Number, check_question, check_where, over_ns
from yaffle.records.catalogue import CATALOGUE, RECORDS, WAITS
from yaffle.watching.flow_sets import FlowSet
from yaffle.watching.service_levels import ServiceLevel
from yaffle.watching.watch import ABOVE, BELOW

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
        check_question(self.measure, self.of, self.where)
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
    of: Annotated[str, one_of((RECORDS, WAITS))] = RECORDS
    over: Annotated[int, BeforeValidator(over_ns)] = 300 * 10**9
    retransmissions: Annotated[float, Field(gt=0, le=100)] = 2.0

    @model_validator(mode="after")
    def _a_condition(self) -> "Flows":
        check_where(self.of, self.where)
        return self

    def flow_set(self) -> FlowSet:
        """As it is judged."""
        return FlowSet(self.name, self.where, self.of, self.over, self.retransmissions)


class Reporting(Part):
    """One report that is made again and again."""

    name: Annotated[str, Field(min_length=1, pattern=r"^[\w. -]+$")]
    at: str = "0 6 * * mon"  # minute, hour, day, month, day of the week (UTC)
    period: Annotated[str, one_of(PERIODS)] = "last week"
    into: Annotated[str, Field(min_length=1)] = "reports"
    format: Annotated[str, one_of(_FORMATS)] = "pdf"
    title: str = ""
    mail: str = ""  # the [[notify]] of kind mail by which it goes out

    @field_validator("at")
    @classmethod
    def _a_schedule(cls, value: Any) -> Any:
        if not isinstance(value, str) or len(value.split()) != 5 or not croniter.is_valid(value):
            raise ValueError('minute, hour, day, month and day of the week (UTC): "0 6 * * mon"')
        return value

    def within(self, folder: Path) -> "Reporting":
        """The same, with its folder named from a folder on."""
        return self.model_copy(update={"into": str(folder / self.into)})
