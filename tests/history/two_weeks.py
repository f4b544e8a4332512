"""A small history for tests: two weeks of one router; every night a copy, and in the second week one that ran into the
morning.
"""

import numpy as np

from yaffle.history.layout import DAY_NS, HOUR_NS
from yaffle.history.writer import HistoryWriter
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.flow_table import Exporter, FlowRecords, empty_flows

S = 10**9
START = 1_790_553_600 * S  # Monday 2026-09-28
ROUTER, LINE_BPS = "203.0.113.9", 10_000_000
COPIER, ARCHIVE = 0xC63364B4, 0xCB007123  # 198.51.100.180, 203.0.113.35
LONG_DAY = 9
STEP_NS = 900 * S


def copied(day, hour):
    """Whether the copy runs."""
    return 1 <= hour < (9 if day == LONG_DAY else 3)


class Clock:
    now_ns = START

    def __call__(self):
        return self.now_ns


def write_two_weeks(folder, days=14):
    clock, rng = Clock(), np.random.default_rng(5)
    writer = HistoryWriter(folder, now_ns=clock, settle=False)
    exporter = Exporter(ROUTER, 1, 2, interfaces={1: "desks", 2: "line"})
    total = 0
    for day in range(days):
        parts, readings = [], []
        for step in range(DAY_NS // STEP_NS):
            hour, begin = step // 4, START + day * DAY_NS + step * STEP_NS
            desks = empty_flows(4)
            desks["src_lo"] = 0xCB007116
            desks["dst_lo"] = 0xC6336490 + np.arange(4)
            desks["src_port"], desks["dst_port"] = 443, rng.integers(40_000, 60_000, 4)
            desks["octets"] = rng.integers(900_000, 1_100_000, 4) if 6 <= hour < 20 else rng.integers(9_000, 11_000, 4)
            desks["ingress"], desks["egress"] = 2, 1
            rows = [desks]
            out = 0
            if copied(day, hour):
                copy = empty_flows(1)
                copy["src_lo"], copy["dst_lo"], copy["src_port"], copy["dst_port"] = COPIER, ARCHIVE, 51_000, 873
                copy["octets"], copy["ingress"], copy["egress"] = int(LINE_BPS * 0.95 / 8 * STEP_NS / S), 1, 2
                out = int(copy["octets"][0])
                rows.append(copy)
            for part in rows:
                part["transport"], part["packets"], part["protocol"] = 6, part["octets"] // 1000 + 1, 2
                part["first_ns"], part["last_ns"] = begin, begin + STEP_NS - 1
                part["arrived_ns"] = part["last_ns"]
            parts += rows
            total += out
            reading = unknown_counters(1)
            reading["interface"], reading["time_ns"], reading["speed_bps"] = 2, begin + STEP_NS - 1, LINE_BPS
            reading["out_octets"], reading["in_octets"] = total, 0
            readings.append(reading)
        rows = np.concatenate(parts)
        exporter.flow_records += rows.size
        for hour in range(24):
            clock.now_ns = START + day * DAY_NS + (hour + 1) * HOUR_NS - 1
            own = (rows["arrived_ns"] // HOUR_NS) == (START + day * DAY_NS) // HOUR_NS + hour
            some = np.concatenate(
                [r for r in readings if (int(r["time_ns"][0]) // HOUR_NS) == (START + day * DAY_NS) // HOUR_NS + hour]
            )
            writer.append(FlowRecords(rows[own], [exporter], counters=Counters(some, [ROUTER], {(0, 2): "line"})))
        clock.now_ns += 600 * S
        writer.tidy()
    writer.close()
    return folder
