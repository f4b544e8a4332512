"""The demo's waits as rows of a history: hours of four weeks, minutes of the last days."""

import ipaddress
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
        hourly = [_hour_row(one) for one in self._hours]
        table = rows_of({name: [row[name] for row in hourly] for name in hourly[0]})
        minutes = [rows for one in self._hours for rows in _minute_rows(one)] if day >= weeks.DAYS - MINUTE_DAYS else []
        if not minutes:
            write_part(self._folder / WAIT_LEVELS[1].name / folder_name(start_ns, DAY_NS) / SUMS, table, settle=False)
        self._hours = []
        return rows_of({name: [row[name] for row in minutes] for name in minutes[0]}) if minutes else table.slice(0, 0)


def _hour_row(one: Drawn) -> dict[str, object]:
    everyone = np.ones(one.client.size, bool)
    return _row(one, everyone, one.start_ns // HOUR_NS * HOUR_NS, "") | {
        "failures": one.failures, "retransmissions": one.lost * one.each,
        "timeouts": one.lost * one.each // 3,
    }  # fmt: skip


def _minute_rows(one: Drawn) -> list[dict[str, object]]:
    """By client and minute in which exchanges ended; failures are told by the first."""
    minute = (one.began_ns + one.waits_ns.sum(axis=1)) // MINUTE_NS
    code = minute * (1 << 33) + one.client
    order = np.argsort(code, kind="stable")
    found = []
    for rows in np.split(order, np.flatnonzero(np.diff(code[order])) + 1):
        address = str(ipaddress.ip_address(int(one.client[rows[0]])))
        found.append(_row(one, rows, int(minute[rows[0]]) * MINUTE_NS, address) | _NONE)
    found[0] = found[0] | {"failures": one.failures, "retransmissions": one.lost, "timeouts": one.lost // 3}
    return found


_NONE: dict[str, object] = {"failures": 0, "retransmissions": 0, "timeouts": 0}


def _row(one: Drawn, rows: Array, time_ns: int, client: str) -> dict[str, object]:
    waits = one.waits_ns[rows]
    server, port, _, _ = weeks.SERVICES[one.service]
    cells, counts = np.unique(bins_of(waits.sum(axis=1)), return_counts=True)
    found: dict[str, object] = {
        "time_ns": time_ns, "capture": CAPTURE, "application": one.service, "server": server, "port": port,
        "site": one.site, "client": client, "clients": int(np.unique(one.client[rows]).size),
        "exchanges": waits.shape[0] * one.each, BINS: cells, BIN_COUNTS: counts * one.each,
    }  # fmt: skip
    sums = waits.sum(axis=0) * one.each
    for place, column in enumerate(_COLUMNS):
        found[CHARGES[column]] = int(sums[place])
    for party, ends in _BOUNDS.items():
        total = int(sum(sums[k] for k, (who, _) in enumerate(kept_waits.PARTS) if who == party))
        found |= dict.fromkeys(ends, total)
    return found
