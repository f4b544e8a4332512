"""What may be typed next in a filter: columns, functions and words of SQL, and values that were seen."""

import re
from typing import Any

from yaffle.session.filtering import COLUMNS
from yaffle.session.flow_filter import FLOW_COLUMNS

FUNCTIONS = (
    "abs", "coalesce", "contains", "date_trunc", "ends_with", "floor", "greatest", "hour", "least", "length", "lower",
    "minute", "regexp_matches", "round",
    "second", "starts_with", "upper",
)  # fmt: skip
WORDS = ("and", "between", "false", "ilike", "in", "is null", "like", "not", "or", "true")
_TEXTS = re.compile(r"(\w+)\s*(?:=|<>|!=|like|ilike|in\s*\((?:\s*'[^']*'\s*,)*)\s*'([^']*)$", re.IGNORECASE)
_MOST = 200


def word_before(text: str) -> str:
    """The word that ends where the text ends."""
    return re.search(r"\w*$", text).group(0)  # type: ignore[union-attr]


def complete(before: str, table: Any = None) -> tuple[str, list[str]]:
    """What stands before the cursor: the part of it that would be replaced, and what might replace it, likeliest first.

    table: the filter's Arrow table, for values that were seen; None: none.
    """
    inside = _TEXTS.search(before)
    if inside is not None and before.count("'") % 2 == 1:
        column, typed = inside.group(1), inside.group(2)
        return typed, [f"{value}'" for value in _values(table, column) if typed.lower() in value.lower()]
    if before.count("'") % 2 == 1:
        return "", []
    word = word_before(before)
    if not word:
        return "", []
    known = list(dict.fromkeys(name for name, _ in (*COLUMNS, *FLOW_COLUMNS)))
    names = [name for name in known if name.startswith(word.lower())]
    names += [name for name in known if word.lower() in name and name not in names]
    names += [f"{name}(" for name in FUNCTIONS if name.startswith(word.lower())]
    names += [name for name in WORDS if name.startswith(word.lower())]
    return word, [name for name in names if name != word]


def _values(table: Any, column: str) -> list[str]:
    import pyarrow as pa

    if table is None or column not in table.column_names or not pa.types.is_dictionary(table.schema.field(column).type):
        return []
    chunks = table.column(column).chunks
    return sorted(chunks[0].dictionary.to_pylist())[:_MOST] if chunks else []
