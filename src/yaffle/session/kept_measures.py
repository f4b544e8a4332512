"""Measures of kept waits over time: how long, on whom, how many, how many failed."""

import numpy as np

from yaffle.arrays import Float64s, Int64s
from yaffle.history.store import History
from yaffle.history.wait_rows import CHARGES
from yaffle.history.wait_sums import Grouping, text
from yaffle.inventory.places import Places
from yaffle.session.evidence import Evidence
from yaffle.session.kept_names import application_of
from yaffle.watching.member_values import wait_value

GROUPS = ("", "application", "server", "site", "client")
_OF_SERVERS = "application <> ''"


def _column(history: History, places: Places, by: str, span: tuple[int, int]) -> str:
    """What rows are grouped by, as SQL."""
    if by == "application":
        return application_of(history.waits, places, *span)
    return {"": "''", "server": "server || ' ' || port"}.get(by, by)


def _whole(history: History) -> tuple[int, int]:
    return history.waits.span or (0, 1)


def applications(history: History, places: Places) -> list[str]:
    """All whose waits are kept, those that were waited for most first. Raises HistoryError."""
    return _groups(history, places, "application")


def groups(evidence: Evidence, by: str) -> list[str]:
    """The groups by one of GROUPS, those that waited most first. Raises HistoryError."""
    history = evidence.analysis.history
    return _groups(history, evidence.places, by) if by and history is not None else []


def _groups(history: History, places: Places, by: str) -> list[str]:
    span = _whole(history)
    found = history.waits.asked(Grouping({"part": _column(history, places, by, span)}, _OF_SERVERS), *span)
    waited = [(-sum(row[name] for name in CHARGES), row["part"]) for row in found.to_pylist() if row["part"]]
    return [part for _, part in sorted(waited)]


def over_time(evidence: Evidence, name: str, by: str, label: str, edge_ns: Int64s) -> Float64s:
    """Values of equal intervals; nan where there is none. Raises HistoryError."""
    found = np.full(edge_ns.size - 1, np.nan)
    history = evidence.analysis.history
    if history is None:
        return found
    first, last = int(edge_ns[0]), int(edge_ns[-1])
    width = max(1, (last - first) // found.size)
    where = _OF_SERVERS
    if by and label:
        where += f" AND ({_column(history, evidence.places, by, (first, last))}) = {text(label)}"
    table = history.waits.asked(Grouping({"at": f"(time_ns - {first}) // {width}"}, where), first, last)
    for row in table.to_pylist():
        if 0 <= row["at"] < found.size and row["exchanges"] > 0:
            found[row["at"]] = wait_value(name, row, width)
    return found
