"""How a history lies in a store: each collector's own files, and lists of them that it alone writes.

    by/NAME/about.json                  of which days there are lists, and their stamps; written last
    by/NAME/held/2026-11-25.json        the files of that day's hours, with their sizes and rows
    by/NAME/exporters.json              who told, by number; service_levels.json, flow_sets.json
    by/NAME/records/2026-11-25T14/LO-HI.parquet   and all else as in a folder; of sums with the moment they were made

Nobody lists a store to know what it holds: listings may be late. A list names files that are whole, and a file that no
list names any more stays for a while, so that whoever read the list finds it.
"""

import json
import re
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from yaffle.history.layout import BESIDE, BRANCHES, LEVELS, SUMS, TABLE_SUMS, TABLES, HistoryError

FORMAT, VERSION = "yaffle-stored-history", 1
ABOUT, HELD = "about.json", "held"
_HOURS = r"\d{4}-\d\d-\d\d(T\d\d)?"
_TABLE_NAMES = frozenset(one.name for one in (*LEVELS, *TABLES, *TABLE_SUMS))
_NAME = re.compile(rf"([0-9a-z_]+)/({_HOURS})/(\d{{20}}-\d{{20}}\.parquet|{re.escape(SUMS)})")
_STORED = re.compile(rf"[0-9a-z_]+/{_HOURS}/[0-9a-z-]+\.parquet")
_BRANCH = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,99}")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")


class StoredFile(NamedTuple):
    """One file. stored: its name in the store, which never comes again with another content."""

    stored: str
    octets: int
    rows: int


Held = dict[str, StoredFile]  # by the name that the file has in a history's folder


@dataclass(frozen=True)
class About:
    """What a collector says of what it put into a store."""

    days: dict[str, int] = field(default_factory=dict)  # the stamp of the list of each day
    keep: dict[str, int] = field(default_factory=dict)  # for how many days each level is kept
    beside: dict[str, int] = field(default_factory=dict)  # the stamp of each file beside the tables
    told_ns: int = 0

    @property
    def text(self) -> str:
        """As it is written."""
        return json.dumps({
            "format": FORMAT, "version": VERSION, "days": self.days, "keep": self.keep, "beside": self.beside,
            "told_ns": self.told_ns,
        })  # fmt: skip


def is_branch(name: str) -> bool:
    """Whether a collector's files can lie in a folder of that name."""
    return _BRANCH.fullmatch(name) is not None


def stored_at(branch: str, name: str) -> str:
    """Where a file of a collector lies in the store."""
    return f"{BRANCHES}/{branch}/{name}"


def list_name(day: str) -> str:
    """The list of a day's files."""
    return f"{HELD}/{day}.json"


def day_of(name: str) -> str:
    """The day to whose list a file belongs, by its name."""
    return name.split("/")[1][:10]


def about_of(where: str, content: bytes) -> About:
    """What is told by a file. Raises HistoryError."""
    told = _parsed(where, content)
    try:
        if told["format"] != FORMAT:
            raise HistoryError(f"{where} is no history")
        if told["version"] != VERSION:
            raise HistoryError(f"{where} was written by another version ({told['version']}; this one reads {VERSION})")
        days = {str(day): int(stamp) for day, stamp in told["days"].items()}
        if wrong := next((day for day in days if not _DAY.fullmatch(day)), ""):
            raise HistoryError(f"{where} is damaged: {wrong!r} is no day")
        keep = {str(name): int(count) for name, count in told["keep"].items()}
        beside = {name: int(stamp) for name, stamp in told["beside"].items() if name in BESIDE}
        return About(days, keep, beside, int(told["told_ns"]))
    except (KeyError, ValueError, TypeError, AttributeError) as error:
        raise HistoryError(f"{where} is damaged: {error}") from error


def held_text(stamp: int, held: Held) -> str:
    """A list as it is written."""
    return json.dumps({"stamp": stamp, "files": {name: list(file) for name, file in sorted(held.items())}})


def held_of(where: str, content: bytes) -> tuple[int, Held]:
    """The stamp of a list, and the files that it names. Raises HistoryError: names become paths of this machine, others
    are not taken.
    """
    told = _parsed(where, content)
    try:
        rows = told["files"].items()
        found = {str(name): StoredFile(str(stored), int(octets), int(rows)) for name, (stored, octets, rows) in rows}
        stamp = int(told["stamp"])
    except (KeyError, ValueError, TypeError, AttributeError) as error:
        raise HistoryError(f"{where} is damaged: {error}") from error
    for name, file in found.items():
        own = _NAME.fullmatch(name)
        if own is None or own[1] not in _TABLE_NAMES or not _STORED.fullmatch(file.stored):
            raise HistoryError(f"{where} is damaged: a history has no file {name[:200]!r}")
    return stamp, found


def _parsed(where: str, content: bytes) -> Any:
    try:
        return json.loads(content)
    except (ValueError, RecursionError) as error:
        raise HistoryError(f"{where} is damaged: {error}") from error
