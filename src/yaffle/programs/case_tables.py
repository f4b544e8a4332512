"""The tables of a case, each with the time of its rows: made from what was analysed, or read from a history."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.report import document, path_part
from yaffle.session.exports import connections_table, flows_table, waits_table
from yaffle.session.focus import Focus
from yaffle.session.investigation import Opened
from yaffle.session.scene import Scene
from yaffle.session.table_export import NAMES, history_parts, words_of

_WHOLE = (-(1 << 62), 1 << 62)


@dataclass(frozen=True)
class Rows:
    """Some rows, and from when to when each of them is."""

    table: Any  # pyarrow.Table
    first_ns: Array
    last_ns: Array


def _scene(opened: Opened) -> Scene:
    every = np.arange(opened.evidence.waits.first_ns.size)
    return Scene(opened.evidence, Focus(), opened.filter, every, every)


def _exchanges(opened: Opened) -> Rows:
    waits = opened.evidence.waits
    return Rows(waits_table(_scene(opened)), waits.first_ns, waits.end_ns)


def _connections(opened: Opened) -> Rows:
    account, scene = opened.analysis.account, _scene(opened)
    rows = np.unique(opened.evidence.waits.connection)
    return Rows(connections_table(scene), account.fact("first_ns")[rows], account.fact("last_ns")[rows])


def _listed(rows: list[dict[str, Any]], first: str = "", last: str = "") -> Rows:
    """Rows of the document; without times they are of the whole period."""
    table = pa.Table.from_pylist(rows) if rows else pa.table({})
    ends = [
        np.array([_WHOLE[k] if row.get(name) is None else row[name] for row in rows], np.int64)
        if name
        else np.full(len(rows), _WHOLE[k], np.int64)
        for k, name in enumerate((first, last or first))
    ]
    return Rows(table, *ends)


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    """What is nested stays where it is of one kind: lists and dictionaries as text would tell less."""
    return {key: value for key, value in row.items() if not isinstance(value, dict | list)}


def _findings(opened: Opened) -> Rows:
    rows = [
        {
            "number": number,
            "key": f.key,
            "severity": f.severity,
            "party": f.party,
            "cause": f.cause,
            "subject": f.subject,
            "site": f.site,
            "sentence": f.sentence,
            "next_step": f.next_step,
            "confidence": f.confidence,
            "first_ns": f.first_ns,
            "last_ns": f.last_ns,
            "lost_ms": f.lost_ns / document.NS_PER_MS,
            "clients": f.users,
        }
        for number, f in enumerate(opened.findings, 1)
    ]
    return _listed(rows, "first_ns", "last_ns")


def _lookups(opened: Opened) -> Rows:
    rows = document.lookups(opened.analysis) + document.lookups(opened.analysis, others=True)
    return _listed([_flat(row) for row in rows], "asked_ns")


def _segments(opened: Opened) -> Rows:
    return _listed([_flat(row) for row in path_part.segments(opened.analysis)])


def _flows(opened: Opened) -> Rows:
    flows = opened.analysis.flows
    return Rows(flows_table(flows.rows, flows.exporters), flows.rows["first_ns"], flows.rows["last_ns"])


MADE: dict[str, tuple[str, Callable[[Opened], Rows]]] = {
    "exchanges": ("one row an exchange: who waited, for how long, on whom and why", _exchanges),
    "connections": ("one row a connection: packets, repeats, round trips, charges", _connections),
    "segments": ("one row a segment of the path and direction: packets, losses, delays", _segments),
    "lookups": ("one row a question of single packets: names, leases, sign-ons, times", _lookups),
    "findings": ("one row a finding, worst first", _findings),
    "flows": ("one row a flow record of the captures", _flows),
}


def tables_of(opened: Opened) -> dict[str, str]:
    """Name and meaning of every table that there is."""
    found = {name: words for name, (words, _) in MADE.items()}
    if opened.analysis.history is not None:
        found |= {name: words_of(name) for name in NAMES}
    return found


def rows_of_table(opened: Opened, name: str, first_ns: int, last_ns: int) -> Iterator[Rows]:
    """The rows of a table in parts, those of a history a file at a time; all that may lie in a period are among them.
    Raises KeyError, HistoryError.
    """
    if name in MADE:
        yield MADE[name][1](opened)
        return
    history = opened.analysis.history
    if history is None or name not in NAMES:
        raise KeyError(name)
    for table in history_parts(history.folder, name, first_ns, last_ns):  # Already of that period.
        inside = np.full(table.num_rows, first_ns, np.int64)
        yield Rows(table, inside, inside)
