"""A history that keeps waits: three days of one application at two sites, with a bad hour every evening."""

import numpy as np

from yaffle.history.layout import DAY_NS, HOUR_NS, RINGS, WAITS
from yaffle.history.parts import write_json
from yaffle.history.wait_rows import BIN_COUNTS, BINS, MINUTE_NS, bins_of, rows_of
from yaffle.history.writer import HistoryWriter

START_NS = 1_773_100_800 * 10**9  # midnight, UTC
DAYS, EVENING = 3, 22
QUICK_NS, SLOW_NS = 100_000_000, 900_000_000
SITES = {"pier": "198.51.100.7", "quay": "192.0.2.7"}


def write_kept(folder, rings=()):
    """Every ten minutes ten exchanges at either site; in the evening those of the pier wait for the network."""
    writer = HistoryWriter(folder, now_ns=lambda: START_NS + DAYS * DAY_NS + HOUR_NS, settle=False)
    rows = []
    for step in range(DAYS * 144):
        at = START_NS + step * 10 * MINUTE_NS
        for site, client in SITES.items():
            slow = site == "pier" and at % DAY_NS // HOUR_NS == EVENING
            rows.append(row(at, site, client, SLOW_NS - QUICK_NS if slow else 0))
    writer.append_rows(WAITS, rows_of({name: [one[name] for one in rows] for name in rows[0]}))
    minute = {"time_ns": [START_NS], "captured_packets": [90], "dropped_packets": [10], "covered_ns": [MINUTE_NS]}
    writer.append_rows(WAITS, rows_of({"capture": ["eth"], **minute}))
    if rings:
        write_json(folder / RINGS, {f"eth{k}": str(ring) for k, ring in enumerate(rings)})
    writer.tidy()
    writer.close()
    return folder


def row(at, site, client, queueing_ns):
    waits = np.full(10, QUICK_NS + queueing_ns)
    bins, counts = np.unique(bins_of(waits), return_counts=True)
    return {
        "time_ns": at, "capture": "eth", "application": "remote desktop", "server": "203.0.113.9", "port": 3389,
        "site": site, "client": client, "clients": 1, "exchanges": 10, "failures": 1,
        "server_processing_ns": 10 * QUICK_NS, "network_queueing_ns": 10 * queueing_ns,
        "server_low_ns": 10 * QUICK_NS, "server_high_ns": 10 * QUICK_NS, BINS: bins, BIN_COUNTS: counts,
    }  # fmt: skip
