"""A case as programs see it: tables as Arrow, series of measures, findings, the document, report and packets."""

import threading
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.analysis import Analysis
from yaffle.case.folder import SUFFIX
from yaffle.errors import YaffleError
from yaffle.given_evidence import given
from yaffle.history.layout import is_history
from yaffle.history.locked_database import locked_database, selected
from yaffle.hops.reports import ReportForm
from yaffle.inventory.expected_markings import USUAL, Expected
from yaffle.programs.analysing import analysed
from yaffle.programs.case_tables import MADE, rows_of_table, tables_of
from yaffle.progress import Progress, go_on
from yaffle.records.catalogue import CATALOGUE, Entry
from yaffle.report.document import document
from yaffle.session.focus import Focus
from yaffle.session.investigation import Opened, open_folder
from yaffle.session.kept import Kept
from yaffle.session.period_words import period_ns
from yaffle.session.scene import Scene
from yaffle.watching.member_values import GROUPS, Question, values
from yaffle.watching.windows import Windows
from yaffle.workforce import Workforce

Period = str | tuple[int, int] | None  # in words ("last 5 min"), or from when to when, ns since 1970 UTC; None: all
_MOST_INTERVALS = 100_000


class UnknownError(YaffleError):
    """There is nothing of that name."""


class Case:
    """Evidence that was analysed, or a history. Nothing in it changes; it may be asked from several threads."""

    def __init__(self, told: Opened | Analysis, name: str) -> None:
        self.name = name
        self.analysis = told.analysis if isinstance(told, Opened) else told
        if isinstance(told, Opened):
            self.opened = told
        self._held: dict[str, Any] = {}
        self._lock = threading.Lock()
        self._database = locked_database()

    @cached_property
    def opened(self) -> Opened:
        """The same as the window sees it; worked out when it is first asked for."""
        return Opened(self.analysis)

    def __repr__(self) -> str:
        return f"<yaffle case {self.name}: {len(self.opened.findings)} findings>"

    # --- when, and what there is ---
    @property
    def period(self) -> tuple[int, int]:
        """From when to when the evidence is, ns since 1970 UTC."""
        history = self.opened.analysis.history
        if history is not None:
            history.refresh()
            return min(self.opened.evidence.first_ns, history.first_ns), max(
                self.opened.evidence.last_ns, history.last_ns
            )
        return self.opened.evidence.first_ns, self.opened.evidence.last_ns

    def period_ns(self, period: Period) -> tuple[int, int]:
        """A period as numbers. Raises PeriodError."""
        whole = self.period
        if period is None or period == "":
            return whole
        if isinstance(period, str):
            names = {p.name: (p.first_ns, p.last_ns) for p in Kept.from_json(self.opened.memory).periods}
            return period_ns(period, *whole, names=names) or whole
        first_ns, last_ns = period
        if last_ns < first_ns:
            raise YaffleError(f"a period from {first_ns} to {last_ns} ends before it begins")
        return first_ns, last_ns

    @property
    def tables(self) -> dict[str, str]:
        """Name and meaning of every table."""
        return tables_of(self.opened)

    # --- tables ---
    def batches(
        self,
        name: str,
        filter: str = "",
        period: Period = None,
        columns: Sequence[str] | None = None,
        limit: int | None = None,
        offset: int = 0,
        progress: Progress = go_on,
    ) -> Iterator[Any]:
        """Rows of a table as Arrow tables, part by part, so that a table of any size can be gone through.

        filter: a boolean SQL expression over the columns. limit, offset: of the rows that it selects.
        Raises UnknownError, FilterError, PeriodError, HistoryError.
        """
        if name not in self.tables:
            raise UnknownError(f"there is no table {name}; these are: {', '.join(self.tables)}")
        first_ns, last_ns = self.period_ns(period)
        left, skip, began = limit, offset, False
        for rows in self._rows(name, first_ns, last_ns):
            table = rows.table
            if unknown := [column for column in columns or () if column not in table.column_names]:
                raise UnknownError(f"table {name} has no column {', '.join(unknown)}")
            keep = np.ones(table.num_rows, bool)
            if period not in (None, ""):
                keep = (rows.first_ns <= last_ns) & (rows.last_ns >= first_ns)
            if filter.strip():
                keep &= selected(self._database, table, filter, progress)
            found = np.flatnonzero(keep)
            skipped = min(skip, found.size)
            found, skip = found[skipped:], skip - skipped
            if left is not None:
                found = found[:left]
                left -= found.size
            own = table if found.size == table.num_rows else table.take(pa.array(found))
            if own.num_rows or not began:  # The first part tells the columns, even where it is empty.
                yield own.select(list(columns)) if columns else own
            began = True
            if left == 0:
                return

    def _rows(self, name: str, first_ns: int, last_ns: int) -> Iterator[Any]:
        """Tables that were made once are kept; those of a history are read each time."""
        if name not in MADE:
            yield from rows_of_table(self.opened, name, first_ns, last_ns)
            return
        with self._lock:
            if name not in self._held:
                self._held[name] = next(rows_of_table(self.opened, name, first_ns, last_ns))
        yield self._held[name]

    def table(
        self,
        name: str,
        filter: str = "",
        period: Period = None,
        columns: Sequence[str] | None = None,
        limit: int | None = None,
        offset: int = 0,
    ) -> Any:
        """Rows of a table as one Arrow table; see `batches`."""
        parts = list(self.batches(name, filter, period, columns, limit, offset))
        return pa.concat_tables(parts, promote_options="permissive") if parts else pa.table({})

    @property
    def exchanges(self) -> Any:
        """Every exchange, with what it waited for."""
        return self.table("exchanges")

    @property
    def connections(self) -> Any:
        """Every connection."""
        return self.table("connections")

    @property
    def segments(self) -> Any:
        """Every segment of the path, in both directions, where several points saw the same packets."""
        return self.table("segments")

    @property
    def findings(self) -> Any:
        """What is slow and why, worst first."""
        return self.table("findings")

    @cached_property
    def document(self) -> dict[str, Any]:
        """The analysis document, literals of statements masked."""
        return document(self.analysis)

    # --- measures over time ---
    @property
    def measures(self) -> dict[str, Entry]:
        """Every measure of the catalogue, by name: unit, meaning, by what it can be told."""
        return dict(CATALOGUE)

    def series(
        self, measure: str, by: str = "", where: str = "", period: Period = None, width_ns: int = 60 * 10**9
    ) -> Any:
        """A measure of each member of a group in equal intervals: Arrow columns time_ns, member, value.

        What was not told is null. Raises UnknownError, WhereError, PeriodError; YaffleError without a history.
        """
        entry, history = CATALOGUE.get(measure), self.opened.analysis.history
        if entry is None:
            raise UnknownError(f"there is no measure {measure}")
        if by not in GROUPS[entry.table]:
            raise UnknownError(f"{measure} cannot be told by {by}: by {', '.join(filter(None, GROUPS[entry.table]))}")
        if history is None:
            raise YaffleError("series are of a history: captures have tables")
        first_ns, last_ns = self.period_ns(period)
        if width_ns <= 0 or (last_ns - first_ns) // width_ns > _MOST_INTERVALS:
            raise YaffleError(f"a series has at most {_MOST_INTERVALS:,} intervals: ask for wider ones")
        start = first_ns // width_ns * width_ns
        count = max(1, -(-(last_ns - start) // width_ns))
        found = values(Windows(history), Question(entry, by, where), start, width_ns, count)
        times = start + np.arange(count, dtype=np.int64) * width_ns
        members = sorted(found.of)
        every = np.concatenate([found.of[member] for member in members]) if members else np.zeros(0)
        return pa.table(
            {
                "time_ns": np.tile(times, len(members)) if members else np.zeros(0, np.int64),
                "member": pa.array(members, pa.string()).take(pa.array(np.repeat(np.arange(len(members)), count))),
                "value": pa.array(every, mask=np.isnan(every)),
            }
        )

    # --- out ---
    def packets_scene(self, filter: str = "", period: Period = None) -> Scene:
        """The packets of the connections whose exchanges a filter selects, in a period. Raises FilterError."""
        chosen = None if period in (None, "") else self.period_ns(period)
        rows = (
            np.flatnonzero(self.opened.filter.rows(filter))
            if filter.strip()
            else np.arange(self.opened.evidence.waits.first_ns.size)
        )
        return Scene(self.opened.evidence, Focus(chosen, (), filter), self.opened.filter, rows, rows)


def analyse(
    paths: str | Path | Sequence[str | Path],
    *,
    progress: Progress = go_on,
    memory_bytes: int = 0,
    expected: Sequence[Expected] = USUAL,
    reports: ReportForm = ReportForm(),
    workforce: Workforce | None = None,
) -> Case:
    """Analyses captures, IPFIX files or a history.

    memory_bytes: that may be taken, 0 for half of what is free. expected: markings that applications should bear.
    reports: how switches report on packets. workforce: who does it, this process without one.
    Raises YaffleError; Cancelled when `progress` says so.
    """
    told = [Path(paths)] if isinstance(paths, str | Path) else [Path(path) for path in paths]
    if not told:
        raise YaffleError("no file to analyse")
    return Case(analysed(told, progress, memory_bytes, expected, reports, workforce), told[0].stem)


def open(path: str | Path, *, progress: Progress = go_on) -> Case:
    """Opens a case, a history, or one capture; the former two may be addresses of a store. Raises YaffleError;
    Cancelled when `progress` says so.
    """
    place = given(path, progress) if isinstance(path, str) else path
    if place.is_dir() and not is_history(place) and (place.suffix == SUFFIX or (place / "manifest.json").exists()):
        return Case(open_folder(place, progress), place.stem)
    return analyse(place, progress=progress)
