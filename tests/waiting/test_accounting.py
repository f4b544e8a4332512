"""A ring is accounted for while it is written: each exchange once, whoever was killed, however often it was looked."""

import random
import shutil

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pytest

from tests.hops.test_traces import DATA
from tests.waiting.rings import Blocks, as_pcapng
from yaffle.analysis import analyse
from yaffle.capture.ring_folder import files_of
from yaffle.demo.pier_air import make_pier_air
from yaffle.errors import YaffleError
from yaffle.history.wait_rows import MINUTE_NS, SCHEMA
from yaffle.hops.hop_rows import PASSED
from yaffle.radio.air_rows import POINT
from yaffle.session.evidence import Evidence
from yaffle.waiting.accounting import Accounting
from yaffle.waiting.held_files import FOLDER
from yaffle.waiting.minutes import AIR, MOVED, QUESTION, minutes_of, questions_of, sums_of
from yaffle.waiting.stretches import TABLES, schema_of, stretch_key, stretches_of


class Kept:
    """What a history would hold."""

    def __init__(self):
        self.tables = {"waits": [], "questions": [], **{name: [] for name in TABLES}}

    def tell(self, name, table):
        self.tables[name].append(table)

    def settle(self):
        self.settled = sum(map(len, self.tables.values()))

    def latest_ns(self):
        rows = self.table("waits")["time_ns"].to_pylist()
        return max(rows) + MINUTE_NS if rows else 0

    def table(self, name):
        schema = {"waits": SCHEMA, "questions": QUESTION}.get(name) or schema_of(name)
        return pa.concat_tables([schema.empty_table(), *self.tables[name]])

    def told(self, run):
        return {"questions": self.table("questions")} | {
            name: (rows := self.table(name)).filter(pa.compute.equal(rows["run"], run)) for name in ("waits", *TABLES)
        }


def asked(table):
    return [tuple(row[k] for k in ("time_ns", "protocol", "client", "name")) for row in table.to_pylist()]


@pytest.mark.parametrize("killed", [0.0, 0.3])
def test_what_was_told_is_what_one_analysis_says(morning, tmp_path, killed):
    capture = next(path for path in morning if "saltmarsh" in path.name)
    ring, kept, dice = tmp_path / "ring", Kept(), random.Random(5)
    ring.mkdir()
    at = [Accounting(ring, "eth", kept)]

    def between():
        if dice.random() < killed:
            at[0] = Accounting(ring, "eth", kept)
        if dice.random() < 0.7:
            at[0].look()

    Blocks(capture).write(ring, 8, between)
    at[0].look(last=True)
    evidence = Evidence(analyse(files_of(ring)))
    found, reference = sums_of(kept.table("waits")), minutes_of(evidence)
    assert all(found[key].minus(reference.get(key)).is_nothing for key in found.keys() | reference.keys())
    questions = asked(kept.table("questions"))
    assert sorted(questions) == sorted(questions_of(evidence, evidence.last_ns + 1)) and len(questions) > 100
    assert evidence.analysis.capture.points == [files_of(ring)[0].name]


@pytest.mark.parametrize("killed", [0.0, 0.3])
def test_runs_that_follow_each_other_count_everything_once(morning, tmp_path, killed):
    capture = next(path for path in morning if "saltmarsh" in path.name)
    ring, kept, dice = tmp_path / "ring", Kept(), random.Random(6)
    ring.mkdir()
    at = [Accounting(ring, "eth", kept, 500)]

    def between():
        files = files_of(ring)
        if len(files) > 5:  # The ring is small: what was accounted for goes.
            at[0].look()
            files[0].unlink()
        if dice.random() < killed:
            at[0] = Accounting(ring, "eth", kept, 500)
        at[0].look()

    Blocks(capture).write(ring, 12, between)
    at[0].look(last=True)
    whole = Evidence(analyse([capture]))
    table = kept.table("waits")
    assert len(set(table["run"].to_pylist())) >= 3 and not at[0].trouble
    assert sum(table["exchanges"].to_pylist()) == whole.waits.end_ns.size
    minutes = {}
    for row in table.to_pylist():
        minutes[row["time_ns"]] = minutes.get(row["time_ns"], 0) + row["exchanges"]
    when, many = np.unique(whole.waits.end_ns // MINUTE_NS * MINUTE_NS, return_counts=True)
    assert {k: n for k, n in minutes.items() if n} == dict(zip(when.tolist(), many.tolist(), strict=True))
    told = sum(sum(table[name].to_pylist()) for name in table.column_names if name.endswith("_processing_ns"))
    assert told == pytest.approx(int(whole.waits.by_column[5].sum()), rel=0.01)
    questions = asked(kept.table("questions"))
    assert len(questions) == len(set(questions)) == len(questions_of(whole, whole.last_ns + 1))


def test_files_that_went_before_they_were_accounted_for_are_said(morning, tmp_path):
    capture = next(path for path in morning if "saltmarsh" in path.name)
    ring, kept = tmp_path / "ring", Kept()
    ring.mkdir()
    first = Accounting(ring, "eth", kept, 500)
    Blocks(capture).write(ring, 6, lambda: None)
    first.look()
    last = files_of(ring)[-1]
    for path in files_of(ring)[:-1]:
        path.unlink()
    whole = Accounting(ring, "eth", kept, 500)
    whole.look(last=True)
    assert not whole.trouble  # They had been accounted for, and the last one is held.
    last.rename(ring / "99999999.pcapng")
    (ring / FOLDER / last.name).unlink()
    again = Accounting(ring, "eth", kept, 500)
    again.look(last=True)
    assert "overwritten" in again.trouble


def test_without_its_state_nothing_is_counted_twice(morning, tmp_path):
    capture = next(path for path in morning if "saltmarsh" in path.name)
    ring, kept = tmp_path / "ring", Kept()
    ring.mkdir()
    Blocks(capture).write(ring, 4, lambda: None)
    Accounting(ring, "eth", kept).look(last=True)
    told = sum(kept.table("waits")["exchanges"].to_pylist())
    assert told > 1000
    shutil.rmtree(ring / FOLDER)
    Accounting(ring, "eth", kept).look(last=True)
    assert sum(kept.table("waits")["exchanges"].to_pylist()) == told


def test_a_run_turns_only_when_what_it_told_is_kept(morning, tmp_path):
    capture = next(path for path in morning if "saltmarsh" in path.name)
    ring, kept = tmp_path / "ring", Kept()
    ring.mkdir()
    Blocks(capture).write(ring, 4, lambda: None)
    kept.settle = lambda: (_ for _ in ()).throw(YaffleError("the history is gone"))
    before = Accounting(ring, "eth", kept, 500)
    with pytest.raises(YaffleError, match="gone"):
        before.look()
    run = before.files.state().run
    del kept.settle
    kept.tables["waits"].clear()  # What was told never came to the disk.
    again = Accounting(ring, "eth", kept, 500)
    assert again.files.state().run == run
    again.look(last=True)
    whole = Evidence(analyse([capture]))
    assert sum(kept.table("waits")["exchanges"].to_pylist()) == whole.waits.end_ns.size


@pytest.mark.parametrize("killed", [0.0, 0.3])
def test_what_happens_on_the_air_is_told_once(tmp_path, killed):
    capture = make_pier_air(tmp_path / "air.pcapng")
    ring, kept, dice = tmp_path / "ring", Kept(), random.Random(9)
    ring.mkdir()
    at = [Accounting(ring, "pier", kept)]

    def between():
        if dice.random() < killed:
            at[0] = Accounting(ring, "pier", kept)
        at[0].look()

    Blocks(capture).write(ring, 6, between)
    at[0].look(last=True)
    rows = [row for row in kept.table("questions").to_pylist() if row["protocol"] == AIR]
    whole = analyse([capture])
    stations = whole.radio.stations
    moves = [(one.address, roam.time_ns) for one in stations for roam in one.course.roams]
    told = [(row["client"], row["time_ns"]) for row in rows if row["outcome"] == MOVED]
    assert len(moves) >= 5 and len(told) == len(set(told))
    last_ns = max(time_ns for _, time_ns in moves)
    assert set(told) >= {one for one in moves if one[1] < last_ns - 10 * 10**9} and set(told) <= set(moves)
    assert any(row["failed"] and "keys" in row["kind"] for row in rows)
    for table, names in (
        ("radio", ("frames", "data_from", "retries_to", "air_ns", "moves")),
        ("cyclic", ("packets", "missed")),
    ):
        told, expected = kept.table(table).to_pylist(), stretches_of(whole, 0)[table]
        keys = [stretch_key(table, row) for row in told]
        assert len(keys) == len(set(keys)) and set(keys) == {stretch_key(table, row) for row in expected}
        for name in names:
            assert sum(row[name] for row in told) == sum(row[name] for row in expected) > 0
    heard = [row for row in kept.table("radio").to_pylist() if row["what"] == POINT]
    assert sum(row["frames"] for row in heard) <= whole.radio.heard.size and {row["network"] for row in heard} == {
        "pier"
    }


def test_what_nodes_wrote_is_told_by_the_minute_once(tmp_path):
    capture = as_pcapng(DATA / "silent.pcap.gz", tmp_path / "silent.pcapng")
    ring, kept = tmp_path / "ring", Kept()
    ring.mkdir()
    at = [Accounting(ring, "r3", kept)]

    def between():
        at[0] = Accounting(ring, "r3", kept)
        at[0].look()

    Blocks(capture).write(ring, 4, between)
    at[0].look(last=True)
    told, whole = kept.table("hops").to_pylist(), stretches_of(analyse([capture]), 0)["hops"]
    passed = [[row["packets"] for row in rows if row["what"] == PASSED] for rows in (told, whole)]
    assert sum(passed[0]) == sum(passed[1]) > 0 and {row["capture"] for row in told} == {"r3"}
