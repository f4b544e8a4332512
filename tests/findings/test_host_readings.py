"""Numbers of hosts over a period: totals as rises, resets left out, what is as it is as it was."""

import numpy as np
import pyarrow as pa
import pytest

from yaffle.collector.readings import SCHEMA
from yaffle.findings.host_readings import INTERVALS, host_readings
from yaffle.history.layout import READINGS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter

HOUR = 1_790_000_000 // 3600 * 3600 * 10**9
S = 10**9


def rows(*told):
    columns = list(zip(*told, strict=True))
    return pa.table(
        [pa.array(values, field.type) for values, field in zip(columns, SCHEMA, strict=True)], schema=SCHEMA
    )


@pytest.fixture
def history(tmp_path):
    writer = HistoryWriter(tmp_path, settle=False)
    yield writer, lambda: History(tmp_path)
    writer.close()


def test_totals_are_rises_and_the_rest_is_as_it_was(history):
    writer, opened = history
    told = []
    for k, (total, memory) in enumerate([(100, 7e9), (160, 6e9), (160, 5e9), (20, 8e9), (50, 8e9)]):
        at = HOUR + 10 * k * S
        told += [
            (at, "pier-office", "", "tcp retrans segments", total, "segments"),
            (at, "pier-office", "", "memory available", memory, "bytes"),
            (at, "pier-office", "cpu0", "something of a device", k, "V"),
        ]
    writer.append_rows(READINGS, rows(*told))
    found = {one.measure: one for one in host_readings(opened(), HOUR, HOUR + 3600 * S)}
    retrans, memory = found["tcp retrans segments"], found["memory available"]
    assert (retrans.rises, retrans.resets, retrans.unit) == (True, 1, "segments/s")
    assert retrans.values.tolist() == [6.0, 0.0, 3.0]  # The host was started again between the third and the fourth.
    assert retrans.times_ns.tolist() == [HOUR + 5 * S, HOUR + 15 * S, HOUR + 35 * S]
    assert (memory.rises, memory.values.tolist()) == (False, [7e9, 6e9, 5e9, 8e9, 8e9])
    assert (memory.peak, memory.last, memory.words) == (8e9, 8e9, "memory that programs can have")
    assert found["something of a device"].words == ""


def test_the_reading_before_a_period_begins_its_first_rise(history):
    writer, opened = history
    told = [(HOUR + 60 * k * S, "h", "", "tcp timeouts", 10.0 * k, "timeouts") for k in range(120)]
    writer.append_rows(READINGS, rows(*told))
    (found,) = host_readings(opened(), HOUR + 3600 * S, HOUR + 3700 * S)
    assert np.allclose(found.values, 10 / 60)
    assert found.times_ns[0] == HOUR + (3600 + 30) * S


def test_of_long_periods_each_interval_counts_once(history):
    writer, opened = history
    told = [(HOUR + k * S, "h", "", "tcp timeouts", float(k), "timeouts") for k in range(3000)]
    writer.append_rows(READINGS, rows(*told))
    (found,) = host_readings(opened(), HOUR, HOUR + 3000 * S)
    assert INTERVALS - 2 <= found.values.size <= INTERVALS + 1
    assert np.allclose(found.values, 1.0)


def test_nothing_there(history):
    _, opened = history
    assert host_readings(None, 0, 1) == []
    assert host_readings(opened(), HOUR, HOUR + S) == []


def test_time_of_a_processor_is_a_share(history):
    writer, opened = history
    told = [(HOUR + 10 * k * S, "h", "cpu1", "cpu user", 2.5 * k, "s") for k in range(4)]
    writer.append_rows(READINGS, rows(*told))
    (found,) = host_readings(opened(), HOUR, HOUR + 60 * S)
    assert (found.unit, found.values.tolist()) == ("%", [25.0] * 3)


def test_what_happens_within_an_interval_is_neither_lost_nor_made_up(history):
    """A peak of one reading, and a host that was started again and had counted further than before."""
    writer, opened = history
    totals = [10.0 * k for k in range(1000)] + [10_000.0] + [20.0 * k for k in range(999)]
    told = [(HOUR + k * S, "h", "", "tcp timeouts", total, "timeouts") for k, total in enumerate(totals)]
    told += [(HOUR + k * S, "h", "", "tcp established", 500.0 if k == 77 else 3.0, "connections") for k in range(2000)]
    writer.append_rows(READINGS, rows(*told))
    now, rising = host_readings(opened(), HOUR, HOUR + 3599 * S)
    assert (now.peak, now.last) == (500.0, 3.0)
    assert now.mean == pytest.approx(3 + 497 / 2000, rel=0.05)
    assert rising.resets == 1
    assert rising.values.min() >= 10.0 - 1e-6  # The step back is in none of them.
    assert rising.values.max() <= 20.0 + 1e-6
    assert rising.peak == 20.0
