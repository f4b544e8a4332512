"""Questions about a history, answered by workers: the same as without them."""

import time

import numpy as np
import pyarrow.csv
import pytest

from tests.cluster.object_store import fetch_to, object_store
from tests.cluster.processes import cluster
from tests.history.test_history import HOUR_NS, START, Clock, S, filled
from tests.history.test_wait_sums import minute
from yaffle.cluster import questions
from yaffle.cluster.questions import Questions
from yaffle.errors import Cancelled, YaffleError
from yaffle.history.layout import DAY_NS, LEVELS, RECORDS, WAIT_LEVELS, WAITS
from yaffle.history.mirror import mirrored
from yaffle.history.shipping import Shipper
from yaffle.history.store import SIDES, History
from yaffle.history.wait_sums import Grouping
from yaffle.history.writer import HistoryWriter
from yaffle.session.table_export import write_rows

URL = "s3://ferries/kept"
SPAN = (START, START + 3 * DAY_NS)


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    clock = Clock(START)
    writer, _ = filled(tmp_path_factory.mktemp("kept") / "own", clock)
    waits = np.random.default_rng(3).lognormal(16, 1, (30, 40)).astype(np.int64)
    for hour in range(0, 30, 3):
        for client in range(3):
            minute(writer, START + hour * HOUR_NS, waits[hour + client % 2], f"192.0.2.{client}")
    minute(writer, START, waits[4], "192.0.2.9")
    minute(writer, START, waits[4], "192.0.2.9", sign=-1)  # It was told wrong.
    clock.now_ns = START + 2 * DAY_NS
    writer.tidy()
    writer.close()
    return writer.folder


@pytest.fixture(scope="module")
def stored(folder, tmp_path_factory):
    """The history in a store, half of it told by another collector."""
    with object_store("ferries") as server, pytest.MonkeyPatch.context() as patch:
        fetch_to(tmp_path_factory.mktemp("cache"), patch)
        other = HistoryWriter(tmp_path_factory.mktemp("other") / "own", now_ns=Clock(START + HOUR_NS), settle=False)
        minute(other, START, np.arange(1, 30) * 10**6, "192.0.2.1")
        other.close()
        for own in (folder, other.folder):
            Shipper(own, URL, other.days, now_ns=Clock(START + 2 * DAY_NS)).ship([])
        yield mirrored(URL), server


@pytest.fixture(scope="module")
def spilled(tmp_path_factory):
    """Where workers put what they fetch."""
    return tmp_path_factory.mktemp("spilled")


@pytest.fixture(scope="module")
def workers(stored, spilled, tmp_path_factory):
    with cluster(tmp_path_factory.mktemp("workers"), 0) as made:
        for _ in range(2):
            made.add_worker(TMPDIR=str(spilled))
        yield made


@pytest.fixture(autouse=True)
def small_tasks(monkeypatch):
    monkeypatch.setattr(questions, "_LEAST_ROWS", 0)
    monkeypatch.setattr(questions, "_TASK_ROWS", 2_000)


def flows(history):
    for by in SIDES:
        for level in (LEVELS[0], LEVELS[1]):
            yield history.top(by, SPAN[0] + 7 * S, SPAN[1], level=level).to_pylist()
        yield [part.tolist() for part in history.series(*SPAN, LEVELS[2])]


def waits(history):
    keys = {"application": "application", "hour": f"time_ns // {HOUR_NS}"}
    for level in WAIT_LEVELS:
        yield history.waits.asked(Grouping(keys), *SPAN, level).to_pylist()
        yield history.waits.asked(Grouping({"client": "client"}, "port = 443"), *SPAN, level).to_pylist()
        yield history.waits.asked(Grouping({"all": "1"}), *SPAN, level).to_pylist()


def rounded(found):
    """Sums of numbers with fractions do not come out the same to the last digit in every order."""
    return [
        [{k: round(v, 3) if isinstance(v, float) else v for k, v in sorted(row.items())} for row in answer]
        if answer and isinstance(answer[0], dict)
        else answer
        for answer in found
    ]


def in_order(answers):
    """Rows of the same size stand in any order."""
    return [sorted(map(str, one)) for one in rounded(answers)]


@pytest.mark.parametrize("of", ["folder", "store"])
def test_it_is_the_same(of, folder, stored, workers, tmp_path):
    root = folder if of == "folder" else stored[0]
    here = History(root)
    with Questions(workers.address, str(tmp_path / "exchange"), root) as crew:
        there = History(root, crew)
        assert in_order(flows(there)) == in_order(flows(here))
        assert rounded(waits(there)) == rounded(waits(here))
        assert crew.done  # They were asked.
    assert not list((tmp_path / "exchange").glob("*"))


@pytest.mark.parametrize("name", [RECORDS, WAITS, "waits_1day", "counters"])
def test_tables_are_read_by_workers(name, stored, workers, tmp_path):
    here, there = tmp_path / "here.csv", tmp_path / "there.csv"
    with Questions(workers.address, str(tmp_path / "exchange"), stored[0]) as crew:
        count = write_rows(stored[0], name, there, *SPAN, crew.parts)
    assert write_rows(stored[0], name, here, *SPAN) == count > 0
    one, other = (pyarrow.csv.read_csv(path) for path in (here, there))
    keys = [(column, "ascending") for column in one.column_names]
    assert one.sort_by(keys).equals(other.sort_by(keys))


def test_little_is_asked_here(folder, workers, tmp_path, monkeypatch):
    monkeypatch.setattr(questions, "_LEAST_ROWS", 1 << 40)
    with Questions(workers.address, str(tmp_path / "exchange"), folder) as crew:
        assert len(list(flows(History(folder, crew)))) > 0
        assert not crew.done


def test_a_table_without_rows_is_said_to_be_empty(stored, workers, tmp_path):
    with (
        Questions(workers.address, str(tmp_path / "exchange"), stored[0]) as crew,
        pytest.raises(YaffleError, match="holds nothing of that period"),
    ):
        write_rows(stored[0], RECORDS, tmp_path / "out.csv", 0, 5, crew.parts)


def test_it_can_be_stopped(stored, workers, spilled, tmp_path):
    with (
        Questions(workers.address, str(tmp_path / "exchange"), stored[0], lambda *_: False) as crew,
        pytest.raises(Cancelled),
    ):
        list(flows(History(stored[0], crew)))
    until = time.monotonic() + 30  # A task that was begun goes on, and takes away what it fetched.
    while list(spilled.glob("yaffle-*")) and time.monotonic() < until:
        time.sleep(0.1)
    assert not list(spilled.glob("yaffle-*"))


def test_a_question_that_makes_no_sense_is_said(stored, workers, tmp_path):
    with (
        Questions(workers.address, str(tmp_path / "exchange"), stored[0]) as crew,
        pytest.raises(YaffleError, match="nonsense"),
    ):
        History(stored[0], crew).waits.asked(Grouping({"x": "nonsense(client)"}), *SPAN, WAIT_LEVELS[0])


def test_a_store_that_is_gone_is_said_in_a_line(stored, workers, tmp_path):
    history, server = stored
    with Questions(workers.address, str(tmp_path / "exchange"), history) as crew:
        server.down = True
        try:
            with pytest.raises(YaffleError, match="the store failed"):
                list(flows(History(history, crew)))
        finally:
            server.down = False
