"""Filters made from cells: this, not this, above this; and joined to what is there already."""

from yaffle.session.filtering import COLUMNS

NAMES = frozenset(name for name, _ in COLUMNS)


def literal(value: object) -> str:
    """A value as SQL writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return f"{value:.6g}" if isinstance(value, float) else str(value)
    return "'" + str(value).replace("'", "''").replace("\n", " ") + "'"


def only(column: str, value: object) -> str:
    """Rows with this value."""
    return f"{column} = {literal(value)}"


def without(column: str, value: object) -> str:
    """Rows with another value."""
    return f"{column} <> {literal(value)}"


def above(column: str, value: object) -> str:
    """Rows with a greater value."""
    return f"{column} > {literal(value)}"


def also(former: str, more: str) -> str:
    """Both expressions at once; each stands alone where it needs to."""
    if not former.strip():
        return more
    held = f"({former.strip()})" if " or " in f" {former.lower()} " else former.strip()
    return f"{held} and {more}"
