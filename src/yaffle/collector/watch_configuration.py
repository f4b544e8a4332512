"""What is watched: a table of the configuration."""

from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, field_validator, model_validator

from yaffle.collector.configuration_parts import Part, duration_ns, one_of
from yaffle.collector.notice_configuration import Answering, Notify
from yaffle.records.catalogue import CATALOGUE, entry_of
from yaffle.watching import happenings
from yaffle.watching.member_values import GROUPS
from yaffle.watching.watch import (
    ABOVE,
    ABSENT,
    AVAILABLE,
    BELOW,
    DEVIATIONS,
    FALLING,
    OUTSIDE,
    RISING,
    SEVERITIES,
    Watch,
)  # fmt: skip
from yaffle.watching.windows import WhereError, checked

_NS = 10**9
_LONGEST_OVER_NS = 32 * 86_400 * _NS
Number = Annotated[float, Field(allow_inf_nan=False)]


def over_ns(value: Any) -> int:
    """How long a value is of: a duration. Raises ValueError."""
    found = duration_ns(value)
    if not _NS <= found <= _LONGEST_OVER_NS:
        raise ValueError("a duration from 1s to 32d")
    return found


def check_question(measure: str, of: str, where: str) -> None:
    """Whether a measure of the catalogue is told by this group, and a condition fits it. Raises ValueError."""
    table = entry_of(measure, of).table
    if of not in GROUPS[table]:
        raise ValueError(f"of: {measure} is told by {', '.join(one for one in GROUPS[table] if one)} (not {of})")
    check_where(table, where)


def check_where(table: str, where: str) -> None:
    """Whether a condition, where there is one, fits the columns of a table. Raises ValueError."""
    if where:
        try:
            checked(table, where)
        except WhereError as error:
            raise ValueError(f"where: {error}") from error


class Clear(Part):
    """When it is over: the value from which it counts as good again, and for how long it must be."""

    at: Number | None = None
    for_: Annotated[int, BeforeValidator(duration_ns), Field(alias="for")] = 0


def _clear(value: Any) -> Any:
    if isinstance(value, str):
        return {"for": value}
    return {"at": value} if isinstance(value, int | float) and not isinstance(value, bool) else value


def _outside(value: Any) -> float | None:
    if value is None or value is False:
        return None
    if value is True:
        return DEVIATIONS
    if isinstance(value, int | float) and value > 0:
        return float(value)
    raise ValueError("true, or a number of deviations above 0")


class Watching(Part):
    """One watch."""

    name: Annotated[str, Field(min_length=1)]
    measure: str = ""
    happens: str = ""
    of: str = ""
    where: str = ""
    over: Annotated[int, BeforeValidator(over_ns)] = 60 * _NS
    above: Number | None = None
    below: Number | None = None
    outside: Annotated[float | None, BeforeValidator(_outside)] = None
    rising: Number | None = None
    falling: Number | None = None
    available: Annotated[float | None, Field(gt=0, le=100)] = None
    absent: Annotated[bool, Field(strict=True)] = False
    for_: Annotated[int | None, BeforeValidator(duration_ns), Field(alias="for")] = None
    clear: Annotated[Clear, BeforeValidator(_clear)] = Field(default_factory=Clear)
    severity: Annotated[str, one_of(SEVERITIES)] = "warning"
    notify: tuple[str, ...] = ()
    respond: str = ""
    keep: Annotated[bool, Field(strict=True)] = False  # the packets around it, of the rings that are captured

    @field_validator("notify", mode="before")
    @classmethod
    def _one_or_more(cls, value: Any) -> Any:
        return (value,) if isinstance(value, str) else value

    @field_validator("measure")
    @classmethod
    def _known_measure(cls, value: str) -> str:
        if value and value not in CATALOGUE:
            raise ValueError(f"a measure of the catalogue: {', '.join(CATALOGUE)}")
        return value

    @model_validator(mode="after")
    def _whole(self) -> "Watching":
        if self.happens:
            if self.happens not in happenings.KINDS:
                raise ValueError(f"happens: one of {', '.join(happenings.KINDS)} (not {self.happens})")
            return self
        if not self.measure:
            raise ValueError(f"measure: one of the catalogue, or happens: one of {', '.join(happenings.KINDS)}")
        check_question(self.measure, self.of, self.where)
        self._one_rule()
        return self

    def _one_rule(self) -> None:
        limits = {ABOVE: self.above, BELOW: self.below, RISING: self.rising, FALLING: self.falling}
        given = [name for name, value in (limits | {OUTSIDE: self.outside}).items() if value is not None]
        if self.available is not None:
            if given not in ([ABOVE], [BELOW], [ABOVE, BELOW]):
                raise ValueError("available: with above or below, which say which minutes are not good")
        elif len(given) + self.absent != 1:
            raise ValueError("one of above, below, outside, rising, falling, absent; or available with above or below")

    def watch(self) -> Watch:
        """As it is watched."""
        rule, limit = ABOVE, 0.0
        if self.available is not None:
            rule, limit = AVAILABLE, self.available
        elif self.absent:
            rule = ABSENT
        else:
            told = ((ABOVE, self.above), (BELOW, self.below), (OUTSIDE, self.outside), (RISING, self.rising),
                    (FALLING, self.falling))  # fmt: skip
            rule, limit = next(((name, value) for name, value in told if value is not None), (ABOVE, 0.0))
        minute = self.available is not None
        return Watch(
            self.name, self.measure, self.of, self.where, self.over, rule, limit, self.for_ or 0, self.clear.for_,
            self.clear.at, self.severity, self.notify, self.respond, self.above if minute else None,
            self.below if minute else None, self.happens, self.keep,
        )  # fmt: skip


def linked(watch: Sequence[Watching], notify: Sequence[Notify], response: Sequence[Answering]) -> None:
    """Raises ValueError where a watch names what is not there."""
    ways, answers = [one.name for one in notify], [one.name for one in response]
    for one in watch:
        if unknown := [name for name in one.notify if name not in ways]:
            raise ValueError(f"watch {one.name}: notify names {unknown[0]}, and no [[notify]] is called so")
        if one.respond and one.respond not in answers:
            raise ValueError(f"watch {one.name}: respond names {one.respond}, and no [[response]] is called so")
