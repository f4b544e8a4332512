"""Puts what one collector writes into a store as well: whole files first, then lists of them, then what says that there
are new lists. Killed at any moment, the store holds a former state or the new one, and what is put there again is the
same.

Each collector has a folder of its own in the store, so that several write one history and none waits for another.
"""

import json
import secrets
import socket
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import pyarrow.parquet as pq

from yaffle.errors import YaffleError
from yaffle.file_store import MissingError, Store
from yaffle.history.layout import (
    BESIDE,
    DAY_NS,
    HOUR_NS,
    LEVELS,
    SUMS,
    TABLE_SUMS,
    TABLES,
    HistoryError,
    counting,
    folder_start,
    folders,
    sums_of,
)
from yaffle.history.parts import write_json
from yaffle.history.stored import (
    ABOUT,
    About,
    Held,
    StoredFile,
    about_of,
    day_of,
    held_of,
    held_text,
    is_branch,
    list_name,
    stored_at,
)

NAME = "branch.json"  # in the collector's folder: by what name it is known in the store
_AT_ONCE = 8
GRACE_S = 120.0  # So long a file stays that no list names any more.
_TRIES = 3
_AT_A_TIME = 200  # hours and days that become known together
_LEVELS_ABOVE = 2  # of a collector's own folder in a store, and the folder in it
_TABLES = tuple(one.name for one in (*LEVELS, *TABLES, *TABLE_SUMS))


class Shipper:
    """Copies the history of one folder into a store, a change at a time."""

    def __init__(
        self,
        folder: Path,
        url: str,
        keep: Mapping[str, int],
        now_ns: Callable[[], int] = time.time_ns,
        grace_s: float = GRACE_S,
    ) -> None:
        self.folder, self.url = folder, url
        self._grace_s = grace_s
        self.until_s = float("inf")  # by the clock that only goes on: after that no file is begun
        self.keep = dict(keep)  # for how many days each level stays in the store
        self.name = _name_of(folder)
        self._store, self._now_ns = Store(url), now_ns
        self._held: dict[str, Held] | None = None  # by day, as the lists in the store are; None before they were read
        self._about = About()
        self._beside: dict[str, bytes] = {}  # as they are in the store
        self._gone: list[tuple[float, list[str]]] = []  # when files were named no more, and which

    def ship(self, changed: Iterable[Path]) -> None:
        """Puts into the store what hours and days hold now. Raises YaffleError: then nothing is lost, and the same
        folders are to be named again.
        """
        if self._held is None:
            self._read_own()
            every = [one for name in _TABLES for one in folders(self.folder / name)]
            changed = [folder for _, folder in sorted(every, key=lambda one: -one[0])]  # What is new comes first.
        some = list(dict.fromkeys(changed))
        for begin in range(0, max(1, len(some)), _AT_A_TIME):  # What is there is known, however this ends.
            self._ship(some[begin : begin + _AT_A_TIME])
        self._clean()

    def _ship(self, changed: Sequence[Path]) -> None:
        lists = self._with(self._shipped(changed))
        # Who told is written before what they told: read after that, and known before it, it leaves nobody out.
        beside = {name: (self.folder / name).read_bytes() for name in BESIDE if (self.folder / name).exists()}
        stamps = self._ship_beside(beside)
        self._give_up(lists)
        self._write_lists(lists, stamps)
        self._beside = beside

    def _read_own(self) -> None:
        """What this collector put there before. Raises YaffleError."""
        name = stored_at(self.name, ABOUT)
        with suppress(MissingError):
            self._about = about_of(f"{self.url}/{name}", self._store.content(name))
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            names = [stored_at(self.name, list_name(day)) for day in self._about.days]
            lists = list(pool.map(lambda name: held_of(name, self._store.content(name))[1], names))
        self._held = dict(zip(self._about.days, lists, strict=True))
        own = stored_at(self.name, "")
        there = {name.removeprefix(own) for name in self._store.files(own) if name.count("/") > _LEVELS_ABOVE}
        if left := sorted(there - self._named):  # By a run that was killed.
            self._gone.append((time.monotonic(), left))

    def _ship_beside(self, beside: Mapping[str, bytes]) -> dict[str, int]:
        """Who told, and all else beside the tables; gives the stamps."""
        stamps = {}
        for name, content in beside.items():
            if content == self._beside.get(name):
                stamps[name] = self._about.beside[name]
            else:
                self._put(name, content)
                stamps[name] = max(self._about.beside.get(name, 0) + 1, self._now_ns())
        return stamps

    def _shipped(self, changed: Sequence[Path]) -> dict[str, Held]:
        """The files of folders that are there, by folder; those that the store lacked were put there."""
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            some = [folder for folder in changed if folder.exists()]
            held = pool.map(self._folder, some)
            told = list(zip(some, held, strict=True))
        # What is given up here stays in the store: it goes at once, so that it was seen as a whole or is gone now.
        return {_within(folder): own for folder, own in told if folder.exists()}

    def _folder(self, folder: Path) -> Held:
        """One hour or day. It may be merged meanwhile: then it is looked at once more."""
        for last_try in (False,) * (_TRIES - 1) + (True,):
            try:
                return dict(self._file(path) for path in [*counting(folder), *sums_of(folder)])
            except (FileNotFoundError, MissingError) as error:
                if last_try:
                    raise YaffleError(f"{folder}: its files change faster than they are copied") from error
        raise AssertionError

    def _file(self, path: Path) -> tuple[str, StoredFile]:
        name, told = f"{_within(path.parent)}/{path.name}", path.stat()
        # Sums are made anew under their name: in the store, each has one of its own.
        stored = f"{name.removesuffix('.parquet')}-{told.st_mtime_ns}.parquet" if path.name == SUMS else name
        known = (self._held or {}).get(day_of(name), {}).get(name)
        if known is not None and known.stored == stored and known.octets == told.st_size:
            return name, known
        if time.monotonic() > self.until_s:
            raise YaffleError("there was no time for all of it")
        file = StoredFile(stored, told.st_size, int(pq.read_metadata(path).num_rows))
        self._store.put(stored_at(self.name, stored), path)
        return name, file

    def _with(self, shipped: Mapping[str, Held]) -> dict[str, Held]:
        """The lists of days as they become by what folders hold now."""
        assert self._held is not None
        lists = {day: self._held.get(day, {}) for day in {day_of(f"{folder}/") for folder in shipped}}
        for folder, own in shipped.items():
            day = day_of(f"{folder}/")
            others = {name: file for name, file in lists[day].items() if not name.startswith(f"{folder}/")}
            lists[day] = others | own
        return {day: held for day, held in lists.items() if held != self._held.get(day, {})}

    def _give_up(self, lists: dict[str, Held]) -> None:
        """Takes out of the lists what is kept no longer."""
        assert self._held is not None
        now = self._now_ns()
        shortest = min(self.keep.values(), default=0)
        for day, held in (self._held | lists).items():
            if (folder_start(day) or 0) + DAY_NS > now - shortest * DAY_NS:
                continue
            kept = {name: file for name, file in held.items() if not self._is_late(name, now)}
            if len(kept) < len(held):
                lists[day] = kept

    def _is_late(self, name: str, now_ns: int) -> bool:
        table, folder = name.split("/")[:2]
        width = HOUR_NS if "T" in folder else DAY_NS
        days = self.keep.get(table)
        return days is not None and (folder_start(folder) or 0) + width < now_ns - days * DAY_NS

    def _write_lists(self, lists: dict[str, Held], beside: dict[str, int]) -> None:
        """Makes new lists known, and what they name no more due to be removed."""
        assert self._held is not None
        if not lists and beside == self._about.beside and self.keep == self._about.keep:
            return
        days, now = dict(self._about.days), self._now_ns()
        for day, held in lists.items():
            stamp = max(days.pop(day, 0) + 1, now)
            if held:
                text = held_text(stamp, held)
                self._put(list_name(day), text.encode())
                days[day] = stamp
        about = About(days, self.keep, beside, now)
        self._put(ABOUT, about.text.encode())
        gone = [
            file.stored
            for day, held in lists.items()
            for file in set(self._held.get(day, {}).values()) - set(held.values())
        ]
        gone += [list_name(day) for day in lists if day not in days]
        self._gone.append((time.monotonic(), gone))
        self._about = about
        self._held = {day: held for day, held in (self._held | lists).items() if held}

    def _put(self, name: str, content: bytes) -> None:
        self._store.write(stored_at(self.name, name), lambda to: to.write_bytes(content))

    def _clean(self) -> None:
        """Removes files that were named no more some time ago."""
        while self._gone and time.monotonic() - self._gone[0][0] >= self._grace_s:
            gone = [name for name in self._gone[0][1] if name not in self._named]
            self._store.remove_files([stored_at(self.name, name) for name in gone])
            self._gone.pop(0)

    @property
    def _named(self) -> set[str]:
        """The files that count, by their names in the store."""
        lists = [list_name(day) for day in self._about.days]
        return {file.stored for held in (self._held or {}).values() for file in held.values()} | set(lists)


def _within(folder: Path) -> str:
    """The name of an hour's or a day's folder within a history."""
    return f"{folder.parent.name}/{folder.name}"


def _name_of(folder: Path) -> str:
    """By what name a collector is known in the store: that of its host, and a number that is drawn once."""
    path = folder / NAME
    try:
        name = str(json.loads(path.read_text())["name"])
    except FileNotFoundError:
        host = "".join(one if one.isascii() and (one.isalnum() or one in "-.") else "-" for one in socket.gethostname())
        name = f"{host.strip('-.')[:60] or 'collector'}-{secrets.token_hex(4)}"
        write_json(path, {"name": name})
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise HistoryError(f"{path} cannot be read: {error}") from error
    if not is_branch(name):
        raise HistoryError(f"{path}: {name!r} is no name of a collector")
    return name
