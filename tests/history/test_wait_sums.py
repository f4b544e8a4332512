"""Histograms of waits, and sums of minutes by hours and days."""

import contextlib

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given
from hypothesis import strategies as st

from yaffle.history.layout import DAY_NS, WAIT_LEVELS, WAITS
from yaffle.history.store import History
from yaffle.history.wait_rows import ACCURACY, BIN_COUNTS, BINS, MINUTE_NS, bins_of, quantile, rows_of
from yaffle.history.wait_sums import Grouping, wait_files
from yaffle.history.writer import HistoryWriter

BY_APPLICATION = Grouping({"application": "application"}, "application <> ''")


@given(st.lists(st.integers(1, 10**13), min_size=1, max_size=200), st.sampled_from([0.01, 0.5, 0.9, 0.95, 0.99, 1.0]))
def test_a_quantile_is_within_its_error_of_the_wait_that_has_the_rank(waits, share):
    bins, counts = np.unique(bins_of(np.array(waits)), return_counts=True)
    true = sorted(waits)[max(1, int(np.ceil(share * len(waits) - 1e-9))) - 1]
    assert abs(quantile(bins, counts, share) - true) <= ACCURACY * true + 1


def test_no_waits_have_no_quantile():
    assert quantile(np.empty(0, np.int64), np.empty(0, np.int64), 0.5) == -1
    assert bins_of(np.array([0, 1])).tolist() == [0, 0]


def minute(writer, time_ns, waits, client="192.0.2.9", sign=1):
    bins, counts = np.unique(bins_of(waits), return_counts=True)
    writer.append_rows(
        WAITS,
        rows_of(
            {
                "time_ns": [time_ns], "capture": ["eth"], "application": ["tickets"], "server": ["203.0.113.1"],
                "port": [443], "site": ["pier"], "client": [client], "clients": [1], "exchanges": [sign * len(waits)],
                "server_processing_ns": [sign * int(waits.sum())], BINS: [bins], BIN_COUNTS: [sign * counts],
            }
        ),
    )  # fmt: skip


def test_hours_and_days_are_sums_of_the_minutes_and_outlive_them(tmp_path):
    now, rng = [1_700_000_000 * 10**9], np.random.default_rng(1)
    start = now[0] // DAY_NS * DAY_NS
    writer = HistoryWriter(tmp_path / "h", now_ns=lambda: now[0], settle=False)
    every = []
    for k in range(0, 2 * 1440, 60):
        now[0] = start + k * MINUTE_NS
        waits = rng.lognormal(16, 1, 50).astype(np.int64)
        minute(writer, now[0], waits, f"192.0.2.{k % 7}")
        every.append(waits)
    now[0] = start + 3 * DAY_NS
    writer.tidy()
    kept = History(tmp_path / "h").waits
    assert kept.span == (start, start + 2 * DAY_NS)
    assert kept.level_for(0, DAY_NS).name == WAITS and kept.level_for(0, 3650 * DAY_NS).name == "waits_1day"
    waits = np.sort(np.concatenate(every))
    for level in WAIT_LEVELS:
        row = kept.asked(BY_APPLICATION, start, start + 2 * DAY_NS, level).to_pylist()[0]
        assert row["exchanges"] == waits.size and row["server_processing_ns"] == waits.sum()
        assert abs(quantile(np.array(row[BINS]), np.array(row[BIN_COUNTS]), 0.95) / waits[2279] - 1) <= ACCURACY
        assert 1 <= row["clients"] <= 7
    for level in WAIT_LEVELS[1:]:
        for path in wait_files(tmp_path / "h", level):
            rows = pq.read_table(path, partitioning=None).to_pylist()
            assert len({row["time_ns"] for row in rows}) == len(rows) == DAY_NS // level.width_ns
            assert all(sum(row[BIN_COUNTS]) == row["exchanges"] for row in rows)
    # A correction of a closed day makes its sums anew.
    minute(writer, start + MINUTE_NS, np.array([10**9]))
    writer.tidy()
    for level in WAIT_LEVELS:
        assert kept.asked(BY_APPLICATION, level=level).to_pylist()[0]["exchanges"] == waits.size + 1
    # What is too old goes, its hours and days stay.
    now[0] = start + 95 * DAY_NS
    writer.tidy()
    assert wait_files(tmp_path / "h", WAIT_LEVELS[0]) == wait_files(tmp_path / "h", WAIT_LEVELS[1]) != []
    writer.close()
    assert kept.asked(BY_APPLICATION).to_pylist()[0]["exchanges"] == waits.size + 1


def test_sums_of_several_rows_a_group_are_made_anew(tmp_path):
    now = [1_700_000_000 * 10**9]
    start = now[0] // DAY_NS * DAY_NS
    with contextlib.closing(HistoryWriter(tmp_path / "h", now_ns=lambda: now[0], settle=False)) as writer:
        minute(writer, start, np.array([10**9, 10**8]))
        now[0] = start + 2 * DAY_NS
        writer.tidy()
    paths = [path for level in WAIT_LEVELS[1:] for path in wait_files(tmp_path / "h", level)]
    good = [pq.read_table(path, partitioning=None) for path in paths]
    for path, table in zip(paths, good, strict=True):
        pq.write_table(pa.concat_tables([table, table]), path)
    paths[1].write_bytes(paths[1].read_bytes()[:-9])  # What cannot be read is made anew, too.
    with contextlib.closing(HistoryWriter(tmp_path / "h", now_ns=lambda: now[0], settle=False)) as writer:
        writer.tidy()
    assert [pq.read_table(path, partitioning=None) for path in paths] == good


def test_an_empty_history_has_no_waits(tmp_path):
    HistoryWriter(tmp_path / "h").close()
    kept = History(tmp_path / "h").waits
    assert kept.span is None and kept.asked(BY_APPLICATION).num_rows == 0
