"""Hours and days of tests on purpose: what they keep is what the single results say."""

import numpy as np
import pytest

from yaffle.history.layout import DAY_NS, HOUR_NS, PROBE_LEVELS, PROBES, folders
from yaffle.history.probe_rows import rows_of
from yaffle.history.probe_sums import probe_files, summed
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.quantiles import median, p95
from yaffle.session import probe_courses as courses
from yaffle.session.table_export import write_rows

DAY = 1_773_100_800 * 10**9 // DAY_NS * DAY_NS
HOURS, DAYS = PROBE_LEVELS[1:]


def results(day, seed):
    """A day of a test every five minutes: round trips, some failures, an opinion score now and then."""
    rng = np.random.default_rng(seed)
    for k in range(288):
        ok = bool(rng.random() > 0.05)
        trip = float(rng.lognormal(3, 0.5)) if ok else None
        yield {
            "kind": "voice", "target": "192.0.2.9", "at_ns": day + k * 300 * 10**9 + int(rng.integers(10**9)),
            "ok": ok, "why": "" if ok else f"unanswered {k}", "round_trip_ms": trip, "direction": "there",
            "mos": float(rng.uniform(3, 4.4)) if ok and k % 2 else None, "loss_percent": 0.0 if ok else 100.0,
        }  # fmt: skip


@pytest.fixture
def kept(tmp_path):
    """Three days and the beginning of a fourth; who writes can say that it is later."""
    clock = [DAY]
    writer = HistoryWriter(tmp_path / "h", now_ns=lambda: clock[0], settle=False)
    told = {}
    for day in range(4):
        clock[0] = DAY + day * DAY_NS + HOUR_NS
        told[day] = [one for one in results(DAY + day * DAY_NS, day) if day < 3 or one["at_ns"] < clock[0]]
        writer.append_rows(PROBES, rows_of("pier", told[day]))
        writer.tidy()
    yield writer, clock, told
    writer.close()


def test_hours_and_days_hold_what_results_say(kept):
    writer, _, told = kept
    root = writer.folder
    assert [start for start, _ in folders(root / HOURS.name)] == [DAY + k * DAY_NS for k in range(3)]
    for level in (HOURS, DAYS):
        table = summed(probe_files(root, level), level.width_ns).to_pylist()
        every = [one for day in told.values() for one in day]
        assert sum(row["sent"] for row in table) == len(every)
        assert sum(row["well"] for row in table) == sum(one["ok"] for one in every)
        for row in table:
            own = [one for one in every if row["time_ns"] <= one["at_ns"] < row["time_ns"] + level.width_ns]
            trips = [one["round_trip_ms"] for one in own if one["ok"]]
            assert (row["sent"], row["trips"]) == (len(own), len(trips))
            assert row["trip_ns_min"] / 1e6 == pytest.approx(min(trips))
            assert row["trip_ns_max"] / 1e6 == pytest.approx(max(trips))
            assert row["trips_ns"] / 1e6 == pytest.approx(sum(trips)) and sum(row["trip_counts"]) == len(trips)
            assert row["lost_percent_sum"] == pytest.approx(100 * (len(own) - len(trips)))
            scores = [one["mos"] for one in own if one["mos"] is not None]
            assert row["mos_results"] == len(scores) and row["mos_sum"] == pytest.approx(sum(scores))
            assert row["last_why"] == ([one["why"] for one in own if one["why"]] or [""])[-1]


def test_what_comes_late_is_summed_too(kept):
    writer, _, told = kept
    late = {**told[0][0], "at_ns": DAY + 5}
    writer.append_rows(PROBES, rows_of("pier", [late]))
    writer.tidy()
    table = summed(probe_files(writer.folder, DAYS, DAY, DAY + DAY_NS), DAY_NS)
    assert table["sent"].to_pylist() == [289]


def test_courses_of_what_is_long_ago_are_told_by_hours(kept, monkeypatch):
    writer, clock, told = kept
    history = History(writer.folder)
    single = courses.probe_courses(history, DAY, DAY + 3 * DAY_NS - 1)[0]
    assert single.width_ns == 0 and single.sent == 3 * 288
    monkeypatch.setattr(courses, "_MOST_ROWS", 100)  # As if there were more than is told one by one.
    hourly = courses.probe_courses(history, DAY, DAY + 3 * DAY_NS - 1)[0]
    monkeypatch.undo()
    assert hourly.width_ns == HOUR_NS and hourly.times_ns.size == 72
    clock[0] = DAY + (PROBE_LEVELS[0].days + 2) * DAY_NS  # The results of the first day are given up by then.
    writer.tidy()
    old = courses.probe_courses(History(writer.folder), DAY, DAY + 3 * DAY_NS - 1)[0]
    trips = np.array([one["round_trip_ms"] for day in range(3) for one in told[day] if one["ok"]])
    for one in (hourly, old):
        assert one.sent == single.sent and one.failed_share == pytest.approx(single.failed_share)
        assert one.median_ms == pytest.approx(median(trips), rel=0.02)
        assert one.p95_ms == pytest.approx(p95(trips), rel=0.02)
        assert one.lost_percent.mean() == pytest.approx(single.lost_percent.mean())


def test_hours_are_exported(kept, tmp_path):
    writer, _, _ = kept
    assert write_rows(writer.folder, "probes_1h", tmp_path / "hours.parquet") == 72
    assert write_rows(writer.folder, "probes_1day", tmp_path / "days.csv") == 3


def test_files_of_a_former_version_lack_columns(tmp_path):
    import pyarrow.parquet as pq

    whole = rows_of("pier", list(results(DAY, 1)))
    path = tmp_path / "old.parquet"
    pq.write_table(whole.drop_columns(["source", "bps", "loss_percent", "elements"]), path)
    table = summed([path], DAY_NS)
    assert table["sent"].to_pylist() == [288] and table["source"].to_pylist() == [""]
    assert table["bps_results"].to_pylist() == [0] and table["lost_percent_results"].to_pylist() == [288]
