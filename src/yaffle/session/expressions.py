"""Filters made from cells: this, not this, above this; and joined to what is there already."""

from collections.abc import Iterable

import numpy as np

MOMENTS = ("began",)


def literal(value: object) -> str:
    """A value as SQL writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return f"{value:.6g}" if isinstance(value, float) else str(value)
    return "'" + str(value).replace("'", "''").replace("\n", " ") + "'"


def utc(time_ns: int) -> str:
    """A moment as the filter reads it: in UTC."""
    return str(np.datetime64(time_ns, "us")).replace("T", " ")


def only(column: str, value: object) -> str:
    """Rows with this value."""
    return f"{column} = {literal(value)}"


def without(column: str, value: object) -> str:
    """Rows with another value."""
    return f"{column} <> {literal(value)}"


def above(column: str, value: object) -> str:
    """Rows with a greater value."""
    return f"{column} > {literal(value)}"


def since(column: str, value: object) -> str:
    """Rows with this value or a greater one."""
    return f"{column} >= {literal(value)}"


def one_of(column: str, values: Iterable[object]) -> str:
    """Rows with any of these values; empty without one."""
    held = ", ".join(literal(value) for value in values)
    return f"{column} in ({held})" if held else ""


def opposite(expression: str) -> str:
    """Rows that the expression does not select."""
    return f"not ({expression})"


def also(former: str, more: str) -> str:
    """Both expressions at once; each stands alone where it needs to."""
    if not former.strip():
        return more
    return " and ".join(
        f"({part.strip()})" if " or " in f" {part.lower()} " else part.strip() for part in (former, more)
    )
