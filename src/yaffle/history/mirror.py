"""A history of a store as a folder of this machine: all its files by their names, those that were asked for with what
they hold. What was not asked for is an empty file, which no table is.

Collectors number exporters and devices each for itself: here they are numbered together, in the order they came.
"""

import fcntl
import hashlib
import json
import os
import shutil
import threading
from collections import defaultdict
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

import numpy as np
import platformdirs
import pyarrow as pa
import pyarrow.parquet as pq

from yaffle.arrays import Int64s
from yaffle.errors import Cancelled, YaffleError
from yaffle.file_store import MissingError, Store
from yaffle.history import layout
from yaffle.history.branch import Branch
from yaffle.history.layout import (
    BRANCHES,
    COUNTERS,
    EXPORTERS,
    FLOW_SETS,
    LEVELS,
    MANIFEST,
    SERVICE_LEVELS,
    HistoryError,
    Tellers,
    tellers_of,
    tellers_told,
)
from yaffle.history.parts import read_part, write_json, write_part
from yaffle.history.stored import About, is_branch, stored_at
from yaffle.progress import Progress, go_on, step
from yaffle.records.counter_table import Counters
from yaffle.records.flow_table import Exporter
from yaffle.units import date_and_moment

OF_STORE = "store.json"  # in a folder here: which store it is of
_AT_ONCE = 8
_MOST_BYTES = 16 << 30  # of content that is kept here
_NUMBERED = {level.name: "exporter" for level in LEVELS} | {COUNTERS: "device"}


class _Places(NamedTuple):
    """By what a collector's numbers are replaced."""

    exporter: Int64s
    device: Int64s


class Mirror:
    """One history of a store. Several threads, and several processes, may use it at the same time."""

    def __init__(self, folder: Path, url: str, most_bytes: int = _MOST_BYTES) -> None:
        self.folder, self.url = folder, url
        self.trouble = ""  # since when it lacks what came, and why
        self._store = Store(url)
        self._most_bytes = most_bytes
        self._lock = threading.RLock()
        held = folder / BRANCHES
        self._branches = {one.name: Branch(self._store, one) for one in held.iterdir()} if held.exists() else {}
        self._places: dict[str, _Places] = {}
        if self._branches:
            self._number()
        self._bytes = sum(file.stat().st_size for file in folder.glob(f"{BRANCHES}/*/*/*/*.parquet"))

    # --- what there is ---
    def refresh(self, progress: Progress = go_on) -> bool:
        """Asks the store what came and went; whether anything did. Where it does not answer, what is here stays, with a
        word in `trouble`; raises HistoryError where nothing is, Cancelled when `progress` says so.
        """
        with self._alone():
            try:
                changed = self._take(self._told(), progress)
            except Cancelled:
                raise
            except YaffleError as error:
                if not (self.folder / MANIFEST).exists():
                    raise HistoryError(str(error)) from error
                self.trouble = f"what came since {date_and_moment(self._answered_ns)} is not here: {error}"
                return False
            self.trouble = ""
            with suppress(FileNotFoundError):
                os.utime(self.folder / OF_STORE)
            return changed

    @property
    def _answered_ns(self) -> int:
        """When the store answered last, whoever asked."""
        return ((self.folder / OF_STORE) if (self.folder / OF_STORE).exists() else self.folder).stat().st_mtime_ns

    def _told(self) -> dict[str, About]:
        """What each collector says. Raises YaffleError."""
        names = [name for name in self._store.folders(BRANCHES) if is_branch(name)]
        for name in names:
            if name not in self._branches:
                self._branches[name] = Branch(self._store, self.folder / BRANCHES / name)
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            told = list(pool.map(lambda name: self._branches[name].about(), names))
        found = {name: about for name, about in zip(names, told, strict=True) if about is not None}
        if not found:
            raise HistoryError(f"{self.url}: there is no history; yaffle collect writes one there")
        return found

    def _take(self, told: dict[str, About], progress: Progress) -> bool:
        """Makes the folder as the store is; whether that changed it. Raises YaffleError."""
        gone = set(self._branches) - set(told)
        for name in gone:
            shutil.rmtree(self._branches.pop(name).folder, ignore_errors=True)
        changed = {name: about for name, about in told.items() if not self._branches[name].is_as(about)}
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            for name, about in changed.items():
                branch = self._branches[name]
                branch.read_beside(about)  # Before lists: no file is named whose exporter is not known.
                branch.forget(branch.days - set(about.days))
                lists = branch.lists(about)
                for number, _ in enumerate(pool.map(branch.read_list, lists)):
                    step(progress, number / len(lists), f"asking what {name} put into the store")
        if changed or set(told) - set(self._places) or not (self.folder / MANIFEST).exists():
            self._number()
            self._put_together()
            days = {level: days for about in told.values() for level, days in about.keep.items()}
            for about in told.values():
                days = {level: max(many, about.keep.get(level, 0)) for level, many in days.items()}
            write_json(self.folder / MANIFEST, {"format": layout.FORMAT, "version": layout.VERSION, "days": days})
        return bool(changed or gone)

    def _number(self) -> None:
        """Numbers all who told together; nobody's number changes."""
        before = tellers_of(self.folder)
        names = Counters(devices=list(before.counters.devices))
        joined = {_key(one): _blank(one) for one in before.exporters}
        longest_ns, reception = 0, before.reception
        for branch in sorted(self._branches.values(), key=lambda one: one.name):
            told = tellers_of(branch.folder)
            for one in told.exporters:
                joined[_key(one)] = _added(joined.get(_key(one), _blank(one)), one)
            own = [names.device(name) for name in told.counters.devices]
            names.names.update({(own[device], port): text for (device, port), text in told.counters.names.items()})
            place = {key: number for number, key in enumerate(joined)}
            exporters = np.array([place[_key(one)] for one in told.exporters], np.int64)
            self._places[branch.name] = _Places(exporters, np.array(own, np.int64))
            longest_ns, reception = max(longest_ns, told.longest_ns), told.reception or reception
        every = Tellers(list(joined.values()), names, longest_ns, reception)
        if tellers_told(every) != tellers_told(before):
            write_json(self.folder / EXPORTERS, tellers_told(every))

    def _put_together(self) -> None:
        """What collectors promised and watched, each once."""
        for name in (SERVICE_LEVELS, FLOW_SETS):
            every: dict[str, object] = {}
            for path in sorted(self.folder.glob(f"{BRANCHES}/*/{name}")):
                try:
                    every |= {json.dumps(one, sort_keys=True): one for one in json.loads(path.read_text())}
                except (OSError, ValueError, TypeError) as error:
                    raise HistoryError(f"{path} cannot be read: {error}") from error
            write_json(self.folder / name, list(every.values()))

    # --- what files hold ---
    def bring(self, files: Sequence[Path]) -> None:
        """Fetches what files hold where that is not here; who is asked for what was merged away meanwhile looks again.
        Raises HistoryError.
        """
        away = [path for path in files if _is_away(path)]
        if not away:
            return
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            try:
                came = sum(pool.map(self._fetch, away))
            except YaffleError as error:
                raise HistoryError(str(error)) from error
        with self._lock:
            self._bytes += came
            if self._bytes > self._most_bytes:
                self._trim({str(path) for path in files})

    def _fetch(self, path: Path) -> int:
        """Gives its bytes here."""
        name, table = str(path.relative_to(path.parents[2])), path.parents[1].name
        branch = self._branches.get(path.parents[2].name)
        file = branch.file(name) if branch is not None else None
        if branch is None or file is None:
            return 0
        fresh = path.with_name(f"{path.name}.{os.getpid()}-{threading.get_ident()}.fresh")
        try:
            self._store.fetch(stored_at(branch.name, file.stored), fresh)
            if table in _NUMBERED:
                self._renumber(fresh, branch.name, _NUMBERED[table])
            fresh.replace(path)
            return path.stat().st_size
        except MissingError:
            self.refresh()  # It was merged into another one.
            return 0
        except (OSError, pa.ArrowException) as error:
            raise HistoryError(f"{self.url}: {name} of {branch.name} cannot be read: {error}") from error
        finally:
            fresh.unlink(missing_ok=True)

    def _renumber(self, path: Path, branch: str, column: str) -> None:
        table, places = read_part(path), getattr(self._places[branch], column)
        numbers = table[column].to_numpy()
        if numbers.size and not (int(numbers.min()) >= 0 and int(numbers.max()) < places.size):
            raise HistoryError(f"{self.url}: a row of {branch} names nobody who is told of")
        own = pa.array(places[numbers]).cast(table.schema.field(column).type)
        write_part(path, table.set_column(table.column_names.index(column), column, own), settle=False)

    def row_count(self, path: Path) -> int:
        """How many rows a file has, wherever what it holds is; none where it was taken away."""
        branch = self._branches.get(path.parents[2].name)
        file = branch.file(str(path.relative_to(path.parents[2]))) if branch is not None else None
        return file.rows if file is not None else 0

    def _trim(self, needed: set[str]) -> None:
        """Empties the files that were fetched first until half of what may be kept is free again."""
        found = [(file.stat(), file) for file in self.folder.glob(f"{BRANCHES}/*/*/*/*.parquet")]
        held = sorted((told.st_mtime_ns, told.st_size, str(file)) for told, file in found if told.st_size)
        self._bytes = sum(size for _, size, _ in held)
        for _, size, file in held:
            if self._bytes <= self._most_bytes // 2:
                return
            if file not in needed:
                empty = Path(file).with_suffix(".empty")
                empty.touch()
                empty.replace(file)  # Who has it open reads on.
                self._bytes -= size

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """While this thread of this process changes names."""
        self.folder.mkdir(parents=True, exist_ok=True)
        with self._lock, (self.folder / "lock").open("w") as held:
            fcntl.flock(held, fcntl.LOCK_EX)
            yield


def _key(one: Exporter) -> tuple[str, int, int]:
    return one.address, one.domain, one.protocol


def _blank(one: Exporter) -> Exporter:
    return Exporter(*_key(one))


def _added(before: Exporter, one: Exporter) -> Exporter:
    """An exporter of which several collectors tell."""
    counted = ("records", "flow_records", "datagrams", "lost_records", "lost_datagrams", "undecoded")
    return replace(
        one,
        **{name: getattr(before, name) + getattr(one, name) for name in counted},
        interfaces={**before.interfaces, **one.interfaces},
        applications={**before.applications, **one.applications},
    )


def _is_away(path: Path) -> bool:
    try:
        return path.stat().st_size == 0
    except FileNotFoundError:
        return False


def is_stored(url: str) -> bool:
    """Whether there is a history at an address. Raises YaffleError where the store does not answer."""
    return bool(Store(url).folders(BRANCHES))


def mirrored(url: str, folder: Path | None = None, progress: Progress = go_on) -> Path:
    """The folder of this machine for a history of a store, one of its own where none is given. Raises HistoryError
    where there is no history; Cancelled when `progress` says so.
    """
    if folder is None:
        hashed = hashlib.sha256(url.rstrip("/").encode()).hexdigest()[:16]
        folder = Path(platformdirs.user_cache_dir("yaffle"), "histories", hashed, url.rstrip("/").rsplit("/", 1)[-1])
    mirror = _mirror(folder, url)
    mirror.refresh(progress)
    if not (folder / OF_STORE).exists():
        write_json(folder / OF_STORE, {"url": url})
    return folder


@lru_cache(16)
def _mirror(folder: Path, url: str) -> Mirror:
    return Mirror(folder, url)


def mirror_at(folder: Path) -> Mirror | None:
    """What a history's folder is a mirror with; None where it holds all it has. Raises HistoryError."""
    path = folder / OF_STORE
    try:
        return _mirror(folder, str(json.loads(path.read_text())["url"]))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise HistoryError(f"{path} cannot be read: {error}") from error


def _by_root(files: Sequence[Path]) -> dict[Path, list[Path]]:
    """Files of mirrored histories by these: ROOT/by/COLLECTOR/TABLE/HOUR/FILE."""
    found = defaultdict(list)
    for path in files:
        parents = path.parents
        if len(parents) > 4 and parents[3].name == BRANCHES:
            found[parents[4]].append(path)
    return found


def at_hand(files: Sequence[Path]) -> list[str]:
    """Paths of a history's files, for who reads them now: what they hold is fetched before. Raises HistoryError."""
    for root, own in _by_root(files).items():
        if (mirror := mirror_at(root)) is not None:
            mirror.bring(own)
    return [str(path) for path in files]


def row_count(path: Path) -> int:
    """How many rows a file has. Raises OSError or pa.ArrowException where it cannot be read."""
    for root in _by_root([path]):
        if (mirror := mirror_at(root)) is not None:
            return mirror.row_count(path)
    return int(pq.read_metadata(path).num_rows)
