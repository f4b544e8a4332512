"""On which line of a TOML file each key stands, for errors that say where."""

import re
import tomllib
from typing import Any

_HEADER = re.compile(r"^\s*(\[{1,2})\s*(.+?)\s*\]{1,2}\s*(?:#.*)?$")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[\w-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[\w-]+))*)\s*=""")
_PART = re.compile(r"""\s*(?:"([^"]*)"|'([^']*)'|([\w-]+))\s*""")
_AT_LINE = re.compile(r"\(at line (\d+), column \d+\)$")

Place = tuple[str | int, ...]  # keys, and numbers in arrays of tables


def line_of(text: str, place: Place) -> int:
    """The line of a key, else of the table that it would stand in, else the first: 1 and up."""
    lines = _lines(text)
    while place and place not in lines:
        place = place[:-1]
    return lines.get(place, 1)


def wrong_line(text: str, error: tomllib.TOMLDecodeError) -> tuple[int, str]:
    """Where a file is no TOML, and why."""
    words = str(error)
    found = _AT_LINE.search(words)
    last = max(1, len(text.splitlines()))
    return (int(found[1]) if found else last), _AT_LINE.sub("", words).removesuffix("(at end of document)").strip()


def _parts(dotted: str) -> tuple[str, ...]:
    return tuple(next(text for text in found if text is not None) for found in (m.groups() for m in _matches(dotted)))


def _matches(dotted: str) -> Any:
    return (found for found in _PART.finditer(dotted))


def _within(names: tuple[str, ...], counts: dict[tuple[str, ...], int]) -> Place:
    """A table's place, in the last member of each array that it lies in."""
    found: Place = ()
    for k, name in enumerate(names, 1):
        found = (*found, name, counts[names[:k]]) if names[:k] in counts else (*found, name)
    return found


def _lines(text: str) -> dict[Place, int]:
    """Lines by place. What looks like a key inside of a text of several lines is taken for one, too."""
    found: dict[Place, int] = {}
    table: Place = ()
    counts: dict[tuple[str, ...], int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            names = _parts(header[2])
            if header[1] == "[[":
                counts[names] = counts.get(names, -1) + 1
            table = _within(names, counts)
            found.setdefault(table, number)
            found.setdefault(names, number)
        elif key := _KEY.match(line):
            found.setdefault((*table, *_parts(key[1])), number)
    return found
