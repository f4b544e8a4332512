"""A history on disk: written, merged, summed, given up, killed, and read again."""

import json
import os
import signal
import subprocess
import sys
import textwrap
import time

import numpy as np
import pytest

from tests.history.test_sums import some_flows
from yaffle.history import layout
from yaffle.history.layout import DAY_NS, HOUR_NS, LEVELS, HistoryError, counting
from yaffle.history.parts import read_part, write_part
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.flow_table import MEASURED, Exporter, FlowRecords

S = 10**9
START = 1_790_000_000 * S // DAY_NS * DAY_NS
WHO = [Exporter(f"192.0.2.{k}", 0, 2, interfaces={1: "uplink"}, flow_records=10) for k in range(3)]


class Clock:
    def __init__(self, now_ns):
        self.now_ns = now_ns

    def __call__(self):
        return self.now_ns


def told(seed, at_ns, count=300):
    rows = some_flows(seed, count)
    rows["last_ns"] = at_ns - S
    rows["first_ns"] = at_ns - 20 * S
    rows["arrived_ns"] = at_ns
    counters = Counters(unknown_counters(2), ["192.0.2.9"], {(0, 4): "north"})
    counters.rows["time_ns"], counters.rows["interface"], counters.rows["in_octets"] = at_ns, 4, [seed, seed + 5]
    return FlowRecords(rows, list(WHO), {3: {"32473/7": "word"}}, counters)


@pytest.fixture
def clock():
    return Clock(START)


def filled(folder, clock, hours=26, each=4):
    writer = HistoryWriter(folder, now_ns=clock, settle=False)
    total = 0
    for k in range(hours * each):
        clock.now_ns = START + (k + 1) * HOUR_NS // each - S
        found = told(k, clock.now_ns)
        writer.append(found)
        total += int(found.rows["octets"].sum())
    return writer, total


def test_what_is_written_is_read_again_with_its_exporters(tmp_path, clock):
    writer, total = filled(tmp_path, clock, 2)
    history = History(tmp_path)
    found = history.rows(START, START + DAY_NS)
    assert (found.words, found.records.rows["octets"].sum()) == ("single records", total)
    assert [e.address for e in history.exporters] == [e.address for e in WHO]
    assert history.exporters[0].interfaces == {1: "uplink"}
    assert list(found.records.own.values()) == [{"32473/7": "word"}] * 8
    assert history.first_ns == START
    assert 0 <= history.last_ns - (START + 2 * HOUR_NS - S) < 10  # The number of the last file.
    readings = history.readings(START, START + DAY_NS)
    assert (readings.rows.size, readings.name(0, 4)) == (16, "north")
    writer.close()


def test_hours_are_merged_and_summed_and_every_level_tells_the_same(tmp_path, clock):
    writer, total = filled(tmp_path, clock)
    clock.now_ns = START + 2 * DAY_NS + HOUR_NS
    writer.tidy()
    assert all(len(counting(folder)) == 1 for _, folder in layout.folders(tmp_path / "records"))
    history = History(tmp_path)
    for level in LEVELS:
        found = history.rows(START - HOUR_NS, START + 2 * DAY_NS, level)
        assert found.records.rows["octets"].sum() == total
        assert found.words == level.words
        assert found.records.rows["records"].sum() == 26 * 4 * 300
    starts, octets = history.series(START - HOUR_NS, START + 2 * DAY_NS, LEVELS[3])
    assert octets.sum() == total
    assert (np.diff(starts) == HOUR_NS).all()
    top = history.top("host", START - HOUR_NS, START + 2 * DAY_NS)
    assert top["octets"].to_pylist() == sorted(top["octets"].to_pylist(), reverse=True)
    assert abs(sum(top["octets"].to_pylist()) - total) < 1 + total * 1e-9
    assert history.flows_of(0, 5, START, START + HOUR_NS).records.rows.size > 10
    writer.close()


def test_a_file_that_the_disk_lost_is_told_and_ends_nothing(tmp_path, clock):
    writer, _ = filled(tmp_path, clock, 2)
    spoilt = counting(layout.folders(tmp_path / "records")[0][1])[0]
    spoilt.write_bytes(spoilt.read_bytes()[:-9])
    clock.now_ns = START + 3 * HOUR_NS
    writer.tidy()
    assert writer.trouble.startswith("tidying failed")
    writer.append(told(5, clock.now_ns))
    assert not writer.trouble
    writer.close()


def test_sums_of_a_minute_may_be_left_out(tmp_path, clock):
    HistoryWriter(tmp_path, {"1min": 0}, now_ns=clock, settle=False).close()
    writer, total = filled(tmp_path, clock)
    clock.now_ns = START + 2 * DAY_NS + HOUR_NS
    writer.tidy()
    history = History(tmp_path)
    assert not layout.folders(tmp_path / "1min")
    for level in LEVELS:
        found = history.rows(START - HOUR_NS, START + 2 * DAY_NS, level)
        assert found.records.rows["octets"].sum() == total
        assert found.words == (level if level is not LEVELS[1] else LEVELS[0]).words
    clock.now_ns = START + 35 * DAY_NS  # Single records go.
    writer.tidy()
    assert History(tmp_path).rows(START, START + 2 * DAY_NS, LEVELS[1]).words == "sums of 15 min"
    writer.close()


def test_old_records_go_and_their_sums_stay(tmp_path, clock):
    writer, total = filled(tmp_path, clock)
    clock.now_ns = START + 2 * DAY_NS + HOUR_NS
    writer.tidy()
    clock.now_ns = START + 95 * DAY_NS
    writer.tidy()
    history = History(tmp_path)
    found = history.rows(START, START + 2 * DAY_NS)
    assert (found.words, found.width_ns) == ("sums of 15 min", 900 * S)
    assert found.records.rows["octets"].sum() == total
    assert not layout.folders(tmp_path / "1min")
    writer.close()


def test_more_for_a_closed_hour_is_summed_anew(tmp_path, clock):
    writer, total = filled(tmp_path, clock, 1)
    clock.now_ns = START + HOUR_NS + 600 * S
    writer.tidy()
    late = told(77, START + HOUR_NS - 5 * S)
    writer.append(late)
    writer.tidy()
    found = History(tmp_path).rows(START - HOUR_NS, START + DAY_NS, LEVELS[1])
    assert found.words == "sums of 1 min"
    assert found.records.rows["octets"].sum() == total + late.rows["octets"].sum()
    writer.close()


def test_merged_files_that_nobody_removed_do_not_count_twice(tmp_path, clock, monkeypatch):
    writer, total = filled(tmp_path, clock, 1)
    clock.now_ns = START + 2 * HOUR_NS
    kept = {}
    (folder,) = [path for _, path in layout.folders(tmp_path / "records")]
    for path in folder.iterdir():
        kept[path] = path.read_bytes()
    writer.tidy()
    for path, data in kept.items():  # As if it had been killed before they were taken away.
        path.write_bytes(data)
    assert len(list(folder.iterdir())) == 5
    assert History(tmp_path).rows(START, START + DAY_NS, LEVELS[0]).records.rows["octets"].sum() == total
    writer.close()
    again = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    again.tidy()
    assert len(list(folder.iterdir())) == 1
    again.close()


def test_a_full_disk_stops_writing_with_a_word_and_goes_on_when_there_is_room(tmp_path, clock):
    room = [1 << 40]
    writer = HistoryWriter(tmp_path, free=lambda _: room[0], now_ns=clock, settle=False)
    clock.now_ns = START + 60 * S
    writer.append(told(1, clock.now_ns))
    room[0] = 1000
    writer.append(told(2, clock.now_ns))
    assert "the disk is full" in writer.trouble
    assert "300 records wait" in writer.trouble
    writer.tidy()
    for k in range(3):
        writer.append(told(3 + k, clock.now_ns, 900_000))
    assert writer.given_up > 0
    room[0] = 1 << 40
    writer.append(told(9, clock.now_ns))
    assert writer.trouble == ""
    assert History(tmp_path).rows(START, START + HOUR_NS, LEVELS[0]).records.rows.size == 300 + 2 * 900_000 + 300
    writer.close()


def test_a_second_run_goes_on_with_the_same_numbers(tmp_path, clock):
    writer, _ = filled(tmp_path, clock, 1)
    with pytest.raises(HistoryError, match="somebody else"):
        HistoryWriter(tmp_path)
    writer.close()
    again = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    other = told(5, clock.now_ns)
    other.exporters = [Exporter("198.51.100.9", 1, 1, flow_records=300), *WHO[1:]]
    again.append(other)
    history = History(tmp_path)
    assert [e.address for e in history.exporters] == ["192.0.2.0", "192.0.2.1", "192.0.2.2", "198.51.100.9"]
    assert history.exporters[1].flow_records == 20
    again.close()


def test_other_folders_are_refused_and_broken_ones_say_so(tmp_path, clock):
    with pytest.raises(HistoryError, match="is no history"):
        History(tmp_path)
    writer, _ = filled(tmp_path, clock, 1)
    writer.close()
    (folder,) = [path for _, path in layout.folders(tmp_path / "records")]
    next(iter(folder.iterdir())).write_bytes(b"PAR1 and nothing more")
    with pytest.raises(HistoryError, match="cannot be read"):
        History(tmp_path).rows(START, START + DAY_NS)
    (tmp_path / layout.EXPORTERS).write_text("{")
    with pytest.raises(HistoryError, match="cannot be read"):
        History(tmp_path)
    (tmp_path / layout.MANIFEST).write_text('{"format": "yaffle-history", "version": 9, "days": {}}')
    with pytest.raises(HistoryError, match="another version"):
        History(tmp_path)


@pytest.mark.parametrize("after_s", [0.3, 0.7, 1.2])
def test_killed_at_any_moment_everything_is_readable(tmp_path, after_s):
    work = textwrap.dedent(f"""
        import sys
        sys.path.insert(0, {os.getcwd()!r})
        from pathlib import Path
        from tests.history.test_history import Clock, told, START, HOUR_NS
        from yaffle.history.writer import HistoryWriter
        clock = Clock(START)
        writer = HistoryWriter(Path({str(tmp_path)!r}), now_ns=clock, settle=False)
        print("go", flush=True)
        for k in range(100_000):
            clock.now_ns = START + (k + 1) * HOUR_NS // 7
            writer.append(told(k % 50, clock.now_ns - 1))
            print(k, flush=True)
            if k % 5 == 4:
                writer.tidy()
        """)
    process = subprocess.Popen([sys.executable, "-c", work], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline() == "go\n"
    time.sleep(after_s)
    process.send_signal(signal.SIGKILL)
    told_to_be_done = [int(line) for line in process.communicate()[0].split()]
    history = History(tmp_path)
    for level in LEVELS:
        found = history.rows(0, 1 << 62, level)
        assert found.records.rows["records"].sum() in (300 * (len(told_to_be_done) + k) for k in (0, 1))
    HistoryWriter(tmp_path).close()


def test_an_open_hour_is_summed_in_blocks_so_that_it_can_be_shown_whole(tmp_path, clock, monkeypatch):
    from yaffle.history import writer as module

    monkeypatch.setattr(module, "_BLOCK_ROWS", 900)
    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    total = 0
    for k in range(11):
        clock.now_ns = START + (k + 1) * 120 * S
        found = told(k, clock.now_ns)
        writer.append(found)
        total += int(found.rows["octets"].sum())
    (folder,) = [path for _, path in layout.folders(tmp_path / "1min")]
    assert len(counting(folder)) == 3  # Three blocks of three flushes; two flushes since.
    history = History(tmp_path)
    for level in LEVELS:
        found = history.rows(START, START + HOUR_NS, level)
        assert found.records.rows["octets"].sum() == total
        assert found.records.rows["records"].sum() == 11 * 300
    clock.now_ns = START + 2 * HOUR_NS
    writer.tidy()
    assert [path.name for path in folder.iterdir()] == [layout.SUMS]
    assert History(tmp_path).rows(START, START + HOUR_NS, LEVELS[1]).records.rows["octets"].sum() == total
    assert len(counting(tmp_path / "records" / folder.name)) == 1
    writer.close()


def test_what_was_written_before_a_failure_is_not_written_again(tmp_path, clock, monkeypatch):
    from yaffle.history import writer as module

    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    clock.now_ns = START + 60 * S
    real, failing = module.write_part, [True]

    def write(path, table, settle):
        if failing[0] and "counters" in path.parts:
            raise OSError(28, "No space left on device")
        real(path, table, settle)

    monkeypatch.setattr(module, "write_part", write)
    writer.append(told(1, clock.now_ns))
    assert "No space left" in writer.trouble
    writer.append(told(2, clock.now_ns))
    failing[0] = False
    writer.append(told(3, clock.now_ns))
    assert writer.trouble == ""
    history = History(tmp_path)
    assert history.rows(START, START + HOUR_NS, LEVELS[0]).records.rows.size == 900
    assert history.readings(START, START + HOUR_NS).rows.size == 6
    writer.close()


def test_a_folder_from_elsewhere_that_makes_no_sense_is_told(tmp_path, clock):
    writer, _ = filled(tmp_path, clock, 1)
    writer.close()
    about = tmp_path / layout.EXPORTERS
    whole = json.loads(about.read_text())
    about.write_text(json.dumps({**whole, "exporters": whole["exporters"][:1]}))
    with pytest.raises(HistoryError, match="not told of"):
        History(tmp_path).rows(START, START + DAY_NS)
    about.write_text(json.dumps({**whole, "devices": []}))
    with pytest.raises(HistoryError, match="not told of"):
        History(tmp_path).readings(START, START + DAY_NS)
    about.write_text(json.dumps({**whole, "exporters": [{**e, "protocol": 99} for e in whole["exporters"]]}))
    with pytest.raises(HistoryError, match="cannot be read"):
        History(tmp_path)


def test_of_very_many_readings_one_an_interval_is_taken(tmp_path, clock, monkeypatch):
    from yaffle.history import store

    writer, _ = filled(tmp_path, clock, 2, each=30)
    writer.close()
    history = History(tmp_path)
    every = history.readings(START, START + 2 * HOUR_NS)
    assert (every.rows.size, every.width_ns) == (120, 0)
    monkeypatch.setattr(store, "MOST_READINGS", 30)
    fewer = history.readings(START, START + 2 * HOUR_NS)
    assert (fewer.width_ns, fewer.rows.size) == (300 * S, 24)
    assert fewer.rows["time_ns"].max() == every.rows["time_ns"].max()


def test_a_reader_knows_an_exporter_that_comes_while_it_stands_still(tmp_path, clock):
    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    first = told(1, START + 60 * S)
    first.rows["exporter"], first.exporters[:] = 0, WHO[:1]
    clock.now_ns = START + 61 * S
    writer.append(first)
    reader = History(tmp_path)
    assert {e.address for e in reader.rows(START, START + HOUR_NS).records.exporters} == {WHO[0].address}
    for k in (1, 2):  # One after the other begins to send; nobody refreshes the reader.
        later = told(1 + k, START + (k + 1) * 60 * S)
        later.rows["exporter"], later.exporters[:] = 0, [WHO[k]]
        clock.now_ns = START + (k + 1) * 60 * S + S
        writer.append(later)
        found = reader.rows(START, START + HOUR_NS).records
        heard = {found.exporters[number].address for number in np.unique(found.rows["exporter"]).tolist()}
        assert heard == {e.address for e in WHO[: k + 1]}


def test_records_of_former_versions_know_nothing_of_what_kernels_measured(tmp_path, clock):
    """Files without these columns are read, merged and summed beside those that have them."""
    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    writer.append(told(1, START + 60 * S, 40))
    (former,) = (path for _, folder in layout.folders(tmp_path / "records") for path in counting(folder))
    write_part(former, read_part(former).drop_columns(list(MEASURED)), settle=False)
    known = told(2, START + 90 * S, 40)
    known.rows["retransmissions"] = known.rows["busy_ns"] = 2
    writer.append(known)
    for _ in range(2):
        rows = History(tmp_path).rows(START, START + HOUR_NS, LEVELS[0]).records.rows
        assert sorted(rows["retransmissions"].tolist()) == [-1] * 40 + [2] * 40
        assert (rows["timeouts"] == -1).all()
        clock.now_ns += 3 * HOUR_NS
        writer.tidy()
    sums = History(tmp_path).rows(START, START + HOUR_NS, LEVELS[1]).records.rows
    assert sums["retransmissions"][sums["retransmissions"] >= 0].sum() == 80
    writer.close()
