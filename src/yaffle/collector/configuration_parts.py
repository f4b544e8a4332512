"""What tables of the configuration are made of: keys that are all known, durations, ports."""

import re
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from yaffle.errors import YaffleError
from yaffle.memory_plan import bytes_of

_DURATION = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(ms|s|min|h|d)\s*$")
_UNITS_NS = {"ms": 10**6, "s": 10**9, "min": 60 * 10**9, "h": 3600 * 10**9, "d": 86_400 * 10**9}
_LEAST_EVERY_NS, _MOST_EVERY_NS = 10**9, 86_400 * 10**9


def duration_ns(value: Any) -> int:
    """A duration as it is written: 10s, 500ms, 1min. Raises ValueError."""
    if not isinstance(value, str) or not (found := _DURATION.match(value)):
        raise ValueError('a duration with its unit: "10s", "500ms", "1min", "2h"')
    return round(float(found[1]) * _UNITS_NS[found[2]])


def _every_ns(value: Any) -> int:
    found = duration_ns(value)
    if not _LEAST_EVERY_NS <= found <= _MOST_EVERY_NS:
        raise ValueError("a duration from 1s to 1d")
    return found


Every = Annotated[int, BeforeValidator(_every_ns)]
Duration = Annotated[int, BeforeValidator(duration_ns)]
Port = Annotated[int, Field(ge=0, le=65_535, strict=True)]


def one_of(known: Sequence[str]) -> AfterValidator:
    """A check that a word is one of these."""

    def check(value: str) -> str:
        if value not in known:
            raise ValueError(f"one of {', '.join(known)}")
        return value

    return AfterValidator(check)


class Part(BaseModel):
    """A table of the configuration, in which every key is known."""

    model_config = ConfigDict(extra="forbid", frozen=True)


def octets_of(value: Any) -> int:
    """An amount as it is written: 10MiB, 2GiB; 0 for none. Raises ValueError."""
    if value == 0:
        return 0
    if not isinstance(value, str):
        raise ValueError('an amount with its unit: "2GiB", "512MiB"')
    try:
        return bytes_of(value, "an amount", 1)
    except YaffleError as error:
        raise ValueError(str(error)) from error


Octets = Annotated[int, BeforeValidator(octets_of)]
