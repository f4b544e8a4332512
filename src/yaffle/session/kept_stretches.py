"""Measures of what is told of stretches of time, as a history keeps it: what nodes told of packets, what radios heard,
cyclic streams; by member, over time.
"""

from pathlib import Path

import numpy as np

from yaffle.arrays import Float64s, Int64s
from yaffle.history.layout import HOUR_NS, counting, folders
from yaffle.history.store import History
from yaffle.records.catalogue import CYCLIC, HOPS, RADIO, Entry
from yaffle.watching.member_values import ALL, Question, stretch_value

TABLES = (HOPS, RADIO, CYCLIC)
_MOST_MEMBERS = 10_000
_LATEST_HOURS = 24  # of which the names are offered


def are_kept(history: History, table: str) -> bool:
    """Whether anybody told anything."""
    return bool(folders(history.folder / table))


def names(history: History, entry: Entry) -> list[str]:
    """Members that were told of lately. Raises HistoryError."""
    hours = [start for start, folder in folders(history.folder / entry.table) if counting(folder)]
    if not hours:
        return []
    first_ns = hours[-1] - (_LATEST_HOURS - 1) * HOUR_NS
    return sorted(groups(history, entry, entry.groups[0], first_ns, hours[-1] + 2 * HOUR_NS))


def groups(history: History, entry: Entry, by: str, first_ns: int, last_ns: int) -> list[str]:
    """Members of a period, those with most first. Raises HistoryError."""
    asked = Question(entry, by)
    found = history.told(
        lambda: _files(history, entry.table, first_ns, last_ns),
        f"SELECT {asked.subject} AS subject, {stretch_value(entry)} AS value FROM told"
        f" WHERE subject IS NOT NULL AND to_ns > {first_ns} AND to_ns <= {last_ns} GROUP BY ALL"
        f" ORDER BY value DESC NULLS LAST, subject LIMIT {_MOST_MEMBERS}",
    )
    return found["subject"].to_pylist() if found is not None else []


def over_time(history: History, entry: Entry, by: str, label: str, edge_ns: Int64s) -> Float64s:
    """Values of equal intervals; nan where there is none. A stretch counts for the interval that it ends in. Raises
    HistoryError.
    """
    count, first, last = edge_ns.size - 1, int(edge_ns[0]), int(edge_ns[-1])
    width = max(1, (last - first) // count)
    by = by or entry.groups[0]
    found = history.told(
        lambda: _files(history, entry.table, first, last),
        f"SELECT {Question(entry, by if label else '').subject} AS subject, (to_ns - {first} - 1) // {width} AS place,"
        f" {stretch_value(entry)}::DOUBLE AS value FROM told WHERE subject IS NOT NULL AND to_ns > {first}"
        f" AND to_ns <= {last} GROUP BY ALL",
    )
    values = np.full(count, np.nan)
    if found is not None:
        rows = zip(*(found[name].to_pylist() for name in ("subject", "place", "value")), strict=True)
        for subject, place, value in rows:
            if subject == (label or ALL) and value is not None:
                values[min(place, count - 1)] = value
    return values


def _files(history: History, table: str, first_ns: int, last_ns: int) -> list[Path]:
    return [
        path
        for start, folder in folders(history.folder / table)
        if start < last_ns and start + 2 * HOUR_NS > first_ns
        for path in counting(folder)
    ]
