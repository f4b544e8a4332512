"""The demo's waits as rows of a history: hours of four weeks, minutes of the last days."""

import ipaddress
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.demo import kept_waits, weeks
from yaffle.demo.kept_waits import Drawn
from yaffle.history.layout import DAY_NS, HOUR_NS, SUMS, WAIT_LEVELS, folder_name
from yaffle.history.parts import write_part
from yaffle.history.wait_rows import BIN_COUNTS, BINS, CHARGES, MINUTE_NS, bins_of, rows_of
from yaffle.ledger import causes

Columns = dict[str, Sequence[object]]  # of rows, by name
CAPTURE = "data centre"
MINUTE_DAYS = 1  # of which minutes by client are kept
_COLUMNS = [causes.CHARGES.index(part) for part in kept_waits.PARTS]
_BOUNDS = {"network": ("network_low_ns", "network_high_ns"), "server": ("server_low_ns", "server_high_ns")}


class DrawnWaits:
    """Takes hours of the four weeks, gives rows day by day."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._hours: list[Drawn] = []

    def take(self, hour: weeks.HourOfSite) -> None:
        """What desks of a site waited in an hour."""
        self._hours += kept_waits.drawn(hour)

    def end_day(self, day: int) -> pa.Table:
        """Writes the hours of a day; gives its minutes, where these are kept."""
        start_ns = weeks.START_NS + day * DAY_NS
        table = _joined([_hour(one) for one in self._hours])
        keeps_minutes = day >= weeks.DAYS - MINUTE_DAYS
        minutes = _joined([_minutes(one) for one in self._hours]) if keeps_minutes else table.slice(0, 0)
        if not keeps_minutes:
            write_part(self._folder / WAIT_LEVELS[1].name / folder_name(start_ns, DAY_NS) / SUMS, table, settle=False)
        self._hours = []
        return minutes


def _joined(parts: list[Columns]) -> pa.Table:
    return rows_of({name: [value for part in parts for value in part[name]] for name in parts[0]})


def _hour(one: Drawn) -> Columns:
    """All of an hour as one row."""
    order, starts = np.arange(one.client.size), np.zeros(1, np.int64)
    found = _rows(one, order, starts, np.array([one.start_ns // HOUR_NS * HOUR_NS]), [""])
    found["failures"], found["retransmissions"] = [one.failures], [one.lost * one.each]
    return found | {"timeouts": [one.lost * one.each // 3]}


def _minutes(one: Drawn) -> Columns:
    """By client and minute in which exchanges ended; failures are told by the first."""
    minute = (one.began_ns + one.waits_ns.sum(axis=1)) // MINUTE_NS
    code = minute * (1 << 33) + one.client
    order = np.argsort(code, kind="stable")
    starts = np.concatenate([[0], np.flatnonzero(np.diff(code[order])) + 1])
    first = order[starts]
    clients = [str(ipaddress.ip_address(number)) for number in one.client[first].tolist()]
    found = _rows(one, order, starts, minute[first] * MINUTE_NS, clients)
    rest = [0] * (starts.size - 1)
    told = {"failures": one.failures, "retransmissions": one.lost, "timeouts": one.lost // 3}
    return found | {name: [value, *rest] for name, value in told.items()}


def _rows(one: Drawn, order: Array, starts: Array, times_ns: Array, clients: list[str]) -> Columns:
    """A row for each stretch of the exchanges in an order."""
    count = starts.size
    ends = np.append(starts[1:], order.size)
    waits = one.waits_ns[order]
    sums = np.add.reduceat(waits, starts, axis=0) * one.each
    server, port, _, _ = weeks.SERVICES[one.service]
    bins, counts = _histograms(bins_of(waits.sum(axis=1)), starts, ends)
    users = [int(np.unique(one.client[order]).size)] if clients == [""] else [1] * count
    found: Columns = {
        "time_ns": times_ns.tolist(), "capture": [CAPTURE] * count, "application": [one.service] * count,
        "server": [server] * count, "port": [port] * count, "site": [one.site] * count, "client": clients,
        "clients": users, "exchanges": ((ends - starts) * one.each).tolist(), BINS: bins,
        BIN_COUNTS: [own * one.each for own in counts],
    }  # fmt: skip
    for place, column in enumerate(_COLUMNS):
        found[CHARGES[column]] = sums[:, place].tolist()
    for party, names in _BOUNDS.items():
        own = [k for k, (who, _) in enumerate(kept_waits.PARTS) if who == party]
        found |= dict.fromkeys(names, sums[:, own].sum(axis=1).tolist())
    return found


def _histograms(bins: Array, starts: Array, ends: Array) -> tuple[list[Array], list[Array]]:
    """Cells and counts of each stretch."""
    stretch = np.repeat(np.arange(starts.size), ends - starts)
    cells, counts = np.unique(stretch << 20 | bins, return_counts=True)
    edges = np.searchsorted(cells >> 20, np.arange(1, starts.size))
    return np.split(cells & (1 << 20) - 1, edges), np.split(counts, edges)
