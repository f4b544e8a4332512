"""Tables beside flow records: kept, merged, given up and written out by the same means."""

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet as pq
import pytest

from tests.history.test_history import START, WHO, Clock, S, told
from yaffle.collector.readings import SCHEMA
from yaffle.errors import YaffleError
from yaffle.history.layout import DAY_NS, HOUR_NS, READINGS, counting, folders
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.session.table_export import write_rows


@pytest.fixture
def clock():
    return Clock(START)


def readings(*times_ns):
    count = len(times_ns)
    columns = [
        list(times_ns),
        ["h"] * count,
        [""] * count,
        ["tcp timeouts"] * count,
        [1.0] * count,
        ["timeouts"] * count,
    ]
    return pa.table([pa.array(v, f.type) for v, f in zip(columns, SCHEMA, strict=True)], schema=SCHEMA)


def rows(folder):
    return [
        time
        for _, hour in folders(folder / READINGS)
        for file in counting(hour)
        for time in pq.read_table(file)["time_ns"].to_pylist()
    ]


def test_hours_are_merged_and_old_ones_given_up(tmp_path, clock):
    writer = HistoryWriter(tmp_path, {READINGS: 3}, now_ns=clock, settle=False)
    times = [START + k * HOUR_NS // 4 for k in range(40)]
    for time in times:
        clock.now_ns = time + S
        writer.append_rows(READINGS, readings(time))
    assert rows(tmp_path) == times
    writer.tidy()
    assert [len(list(hour.glob("*.parquet"))) for _, hour in folders(tmp_path / READINGS)] == [1] * 9 + [4]
    assert rows(tmp_path) == times
    clock.now_ns = START + 3 * DAY_NS + 5 * HOUR_NS + S
    writer.tidy()
    assert rows(tmp_path) == [time for time in times if time >= START + 5 * HOUR_NS]
    writer.close()


def test_rows_of_several_hours_and_of_a_clock_that_jumps(tmp_path, clock):
    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    clock.now_ns = START + 10 * S
    writer.append_rows(READINGS, readings(START, START + 2 * HOUR_NS, START + 1))
    clock.now_ns = START - DAY_NS
    writer.append_rows(READINGS, readings(START - DAY_NS))
    assert sorted(rows(tmp_path)) == [START - DAY_NS, START, START + 1, START + 2 * HOUR_NS]
    writer.close()
    found = History(tmp_path)
    assert found.first_ns <= START - DAY_NS
    assert found.last_ns >= START


def test_a_full_disk_waits_and_goes_on(tmp_path, clock):
    space = [1 << 40]
    writer = HistoryWriter(tmp_path, free=lambda _: space[0], now_ns=clock, settle=False)
    writer.append_rows(READINGS, readings(START))
    space[0] = 1000
    writer.append_rows(READINGS, readings(START + S))
    assert "the disk is full" in writer.trouble
    assert rows(tmp_path) == [START]
    space[0] = 1 << 40
    writer.append_rows(READINGS, readings(START + 2 * S))
    assert writer.trouble == ""
    assert rows(tmp_path) == [START, START + S, START + 2 * S]
    writer.close()


def test_a_period_is_written_out(tmp_path, clock):
    writer = HistoryWriter(tmp_path / "history", now_ns=clock, settle=False)
    writer.append_rows(READINGS, readings(*(START + k * HOUR_NS for k in range(5))))
    writer.close()
    out = tmp_path / "out.csv"
    assert write_rows(tmp_path / "history", READINGS, out, START + HOUR_NS, START + 3 * HOUR_NS) == 3
    assert pa.csv.read_csv(out)["time_ns"].to_pylist() == [START + k * HOUR_NS for k in (1, 2, 3)]
    with pytest.raises(YaffleError, match="nothing of that period"):
        write_rows(tmp_path / "history", READINGS, tmp_path / "none.csv", 0, 1)
    with pytest.raises(YaffleError, match=r"\.csv or \.parquet"):
        write_rows(tmp_path / "history", READINGS, tmp_path / "out.txt")
    with pytest.raises(YaffleError, match="cannot be written"):
        write_rows(tmp_path / "history", READINGS, tmp_path / "nowhere" / "out.csv")
    assert [path.name for path in sorted(tmp_path.iterdir())] == ["history", "out.csv"]


def test_flow_records_are_written_out_with_who_told_them(tmp_path, clock):
    writer = HistoryWriter(tmp_path / "history", now_ns=clock, settle=False)
    for hour in range(3):
        clock.now_ns = START + hour * HOUR_NS + 600 * S
        writer.append(told(hour, clock.now_ns, 50))
    writer.close()
    out = tmp_path / "out.parquet"
    assert write_rows(tmp_path / "history", "records", out) == 150
    table = pq.read_table(out)
    assert {text.split(",")[0] for text in table["exporter"].to_pylist()} <= {e.address for e in WHO}
    middle = START + HOUR_NS
    assert write_rows(tmp_path / "history", "records", out, middle, middle + 700 * S) == 50
