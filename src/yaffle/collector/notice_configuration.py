"""Who is told of what trips, what is done about it, and when not: tables of the configuration."""

import re
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import urlsplit

from pydantic import BeforeValidator, Field, field_validator, model_validator

from yaffle.collector.configuration_parts import Duration, Part
from yaffle.errors import YaffleError
from yaffle.records.catalogue import CATALOGUE
from yaffle.watching import channels
from yaffle.watching.channels import Channel, template_of
from yaffle.watching.outbox import Maintenance
from yaffle.watching.responses import Response
from yaffle.watching.watch import SEVERITIES

_NS = 10**9
_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_HOURS = re.compile(r"^(\d\d):(\d\d)-(\d\d):(\d\d)$")


def _hours(value: Any) -> Any:
    if value is None or isinstance(value, tuple):
        return value
    found = _HOURS.match(value) if isinstance(value, str) else None
    if not found or int(found[1]) > 23 or int(found[3]) > 24 or int(found[2]) > 59 or int(found[4]) > 59:
        raise ValueError('hours of the day (UTC): "08:00-18:00"')
    return int(found[1]) * 60 + int(found[2]), int(found[3]) * 60 + int(found[4])


def _expression(value: str) -> str:
    try:
        re.compile(value)
    except re.error as error:
        raise ValueError(f"a regular expression ({error})") from error
    return value


Hours = Annotated[tuple[int, int] | None, BeforeValidator(_hours)]
Expression = Annotated[str, BeforeValidator(_expression)]


class Notify(Part):
    """One way to tell people."""

    name: Annotated[str, Field(min_length=1)]
    kind: str
    url: str = ""
    from_: Annotated[str, Field(alias="from")] = ""
    to: tuple[str, ...] = ()
    user: str = ""
    secret_file: str = ""
    template_file: str = ""
    severities: tuple[str, ...] = ()
    subjects: Expression = ""
    hours: Hours = None
    days: tuple[str, ...] = ()
    most_per_minute: Annotated[int, Field(ge=1, le=1000, strict=True)] = 30

    @field_validator("to", mode="before")
    @classmethod
    def _one_or_more(cls, value: Any) -> Any:
        return (value,) if isinstance(value, str) else value

    @model_validator(mode="after")
    def _whole(self) -> "Notify":
        if self.kind not in channels.KINDS:
            raise ValueError(f"kind: one of {', '.join(channels.KINDS)} (not {self.kind})")
        schemes = channels.SCHEMES[self.kind]
        told = urlsplit(self.url)
        if schemes and (told.scheme not in schemes or not told.hostname):
            raise ValueError(f"url: for {self.kind} one that begins with {' or '.join(f'{s}://' for s in schemes)}")
        if told.password:
            raise ValueError("url: without a password; it stands in secret_file")
        if self.kind == channels.MAIL and not (self.from_ and self.to):
            raise ValueError("from and to: who sends the mail, and to whom")
        if unknown := [one for one in self.severities if one not in SEVERITIES]:
            raise ValueError(f"severities: of {', '.join(SEVERITIES)} (not {unknown[0]})")
        if unknown := [one for one in self.days if one not in _DAYS]:
            raise ValueError(f"days: of {', '.join(_DAYS)} (not {unknown[0]})")
        return self

    def within(self, folder: Path) -> "Notify":
        """The same, with its files named from a folder on."""
        return self.model_copy(update={
            key: str(folder / value) for key in ("secret_file", "template_file") if (value := getattr(self, key))
        })  # fmt: skip

    def channel(self, history: str) -> Channel:
        """As it is used. Raises YaffleError where a file cannot be read."""
        return Channel(
            self.name, self.kind, self.url, self.from_, self.to, self.user, secret_of(self.secret_file),
            template_of(Path(self.template_file)) if self.template_file else "", self.severities, self.subjects,
            self.hours, tuple(_DAYS.index(day) for day in self.days), self.most_per_minute, history,
        )  # fmt: skip


def secret_of(path: str) -> str:
    """The secret in a file; empty without one. Raises YaffleError, without its text."""
    if not path:
        return ""
    try:
        return Path(path).read_text(encoding="utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        raise YaffleError(
            f"{path}: the secret cannot be read ({getattr(error, 'strerror', None) or 'no text'})"
        ) from error


class Answering(Part):
    """One answer to what trips."""

    name: Annotated[str, Field(min_length=1)]
    command: tuple[str, ...] = ()
    webhook: str = ""
    secret_file: str = ""
    user: str = ""
    timeout: Duration = 30 * _NS
    cooldown: Duration = 300 * _NS
    most_per_hour: Annotated[int, Field(ge=1, le=3600, strict=True)] = 12
    dry_run: Annotated[bool, Field(strict=True)] = False
    undo: tuple[str, ...] = ()
    judge: str = ""
    settle: Duration = 30 * _NS

    @model_validator(mode="after")
    def _whole(self) -> "Answering":
        if bool(self.command) == bool(self.webhook):
            raise ValueError("command = [...], or webhook = an address; one of both")
        if self.webhook and urlsplit(self.webhook).scheme not in channels.SCHEMES[channels.WEBHOOK]:
            raise ValueError("webhook: an address that begins with http:// or https://")
        if self.judge and self.judge not in CATALOGUE:
            raise ValueError(f"judge: a measure of the catalogue (not {self.judge})")
        return self

    def within(self, folder: Path) -> "Answering":
        """The same, with its file named from a folder on."""
        return self.model_copy(update={"secret_file": str(folder / self.secret_file)}) if self.secret_file else self

    def response(self) -> Response:
        """As it is run. Raises YaffleError where a file cannot be read."""
        return Response(
            self.name, self.command, self.webhook, secret_of(self.secret_file), self.user, self.timeout / _NS,
            self.cooldown, self.most_per_hour, self.dry_run, self.undo, self.judge, self.settle,
        )  # fmt: skip


def _moment(value: Any) -> int:
    if isinstance(value, datetime):
        return int((value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp() * _NS)
    try:
        return _moment(datetime.fromisoformat(value))
    except (TypeError, ValueError) as error:
        raise ValueError("a moment: 2026-11-28 22:00 (UTC unless it says otherwise)") from error


class Maintaining(Part):
    """An announced time in which notices are held."""

    name: str = ""
    from_: Annotated[int, BeforeValidator(_moment), Field(alias="from")] = 0
    to: Annotated[int, BeforeValidator(_moment)] = 0
    day: str = ""
    hours: Hours = None
    subjects: Expression = ""

    @model_validator(mode="after")
    def _whole(self) -> "Maintaining":
        weekly, once = bool(self.day and self.hours), bool(self.from_ and self.to)
        if weekly == once:
            raise ValueError("from and to, or day and hours")
        if self.day and self.day not in _DAYS:
            raise ValueError(f"day: one of {', '.join(_DAYS)} (not {self.day})")
        if once and self.to <= self.from_:
            raise ValueError("to: later than from")
        if weekly and self.hours is not None and self.hours[1] <= self.hours[0]:
            raise ValueError("hours: within one day; write two where it goes on after midnight")
        return self

    def maintenance(self) -> Maintenance:
        """As it holds."""
        day = _DAYS.index(self.day) if self.day else -1
        return Maintenance(self.name, self.from_, self.to, day, self.hours or (0, 0), self.subjects)
