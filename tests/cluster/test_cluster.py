"""An analysis on real worker processes gives the document of one on this machine, or says in a line why not."""

import json
import signal
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
from benchmarks.captures import write_interleaved

from tests.cluster.object_store import object_store
from tests.cluster.processes import cluster, stop
from yaffle.analysis import analyse
from yaffle.case import stored
from yaffle.case.folder import missing_source, open_case
from yaffle.case.stored import case_here, save_case_at
from yaffle.cluster import crew
from yaffle.cluster.crew import workforce_of
from yaffle.errors import Cancelled, YaffleError
from yaffle.file_store import Store
from yaffle.given_evidence import given
from yaffle.memory_plan import Plan
from yaffle.progress import go_on
from yaffle.report.document import document
from yaffle.room import SpilledRoom

DATA = Path(__file__).parents[1] / "data"
SMALL = sorted(path for path in DATA.rglob("*.pcap*.gz"))


def told(analysis):
    return json.loads(json.dumps(document(analysis, include=("flows", "lost_packets")), default=str))


@pytest.fixture(scope="module")
def workers(tmp_path_factory):
    with cluster(tmp_path_factory.mktemp("cluster"), 2) as made:
        yield made


@pytest.fixture
def small_parts(monkeypatch):
    monkeypatch.setattr(crew, "_LEAST_PART", 300)
    monkeypatch.setattr(crew, "_MOST_PART", 2_000)


@pytest.fixture
def few_parts(monkeypatch):
    monkeypatch.setattr(crew, "_LEAST_PART", 20_000)


def on(made, store, files, progress=go_on, plan=None):
    with workforce_of(made.address, str(store)) as work:
        analysis = analyse(work.fetch(files), progress, plan, work)
        work.as_given(analysis.capture)
        return analysis


@pytest.mark.parametrize("source", SMALL[::3], ids=lambda path: path.stem)
def test_one_capture_on_two_workers(source, workers, small_parts, tmp_path):
    assert told(on(workers, tmp_path / "store", [source])) == told(analyse([source]))


def test_a_morning_on_two_workers(morning, analysed_morning, workers, small_parts, tmp_path):
    assert told(on(workers, tmp_path / "store", morning)) == told(analysed_morning)
    assert not list((tmp_path / "store").iterdir())  # What was exchanged is taken away.


def test_each_file_in_ranges(morning, analysed_morning, workers, small_parts, tmp_path, monkeypatch):
    monkeypatch.setattr(crew, "_LEAST_RANGE", 100_000)
    assert told(on(workers, tmp_path / "store", morning)) == told(analysed_morning)
    alone = max(morning, key=lambda path: path.stat().st_size)
    plan = Plan(SpilledRoom(tmp_path))
    assert told(on(workers, tmp_path / "store", [alone], plan=plan)) == told(analyse([alone]))


def test_ranges_that_do_not_fit_are_read_as_a_whole(morning, workers, small_parts, tmp_path, monkeypatch):
    monkeypatch.setattr(crew, "_LEAST_RANGE", 100_000)
    cut = crew.cuts_of
    monkeypatch.setattr(crew, "cuts_of", lambda path, most: [cut(path, most)[0] + 4])
    assert told(on(workers, tmp_path / "store", morning[:1])) == told(analyse(morning[:1]))


def test_more_than_memory_holds_on_two_workers(morning, analysed_morning, workers, small_parts, tmp_path):
    plan = Plan(SpilledRoom(tmp_path))
    assert told(on(workers, tmp_path / "store", morning, plan=plan)) == told(analysed_morning)


def test_a_worker_that_is_killed_is_not_missed(morning, analysed_morning, small_parts, tmp_path):
    with cluster(tmp_path / "cluster", 2) as made:
        begun = threading.Event()

        def progress(_share, words):
            if "accounting" in words and not begun.is_set():
                begun.set()
                stop(made.workers[0], signal.SIGKILL)
            return True

        assert told(on(made, tmp_path / "store", morning, progress)) == told(analysed_morning)
        assert begun.is_set()


def test_workers_without_memory_are_said_to_be(tmp_path):
    large = write_interleaved(tmp_path / "large.pcap", 1_500_000, 2_000, 130)
    with cluster(tmp_path / "cluster", 0) as made:
        made.add_worker("320MB")
        with pytest.raises(YaffleError, match="for want of memory") as failed:
            on(made, tmp_path / "store", [large])
        assert "\n" not in str(failed.value)


def test_it_can_be_stopped(morning, workers, tmp_path):
    began = time.monotonic()
    with pytest.raises(Cancelled):
        on(workers, tmp_path / "store", morning * 5, lambda _share, words: "cluster" not in words)
    assert time.monotonic() - began < 60
    assert not list((tmp_path / "store").iterdir())


def test_a_file_that_is_no_capture_is_named(morning, workers, tmp_path):
    wrong = tmp_path / "wrong.pcap"
    wrong.write_text("no capture at all")
    with pytest.raises(YaffleError, match=r"wrong\.pcap.*no capture begins like this"):
        on(workers, tmp_path / "store", [*morning, wrong])


def test_a_store_that_workers_do_not_see(morning, workers, tmp_path, monkeypatch):
    seen = Store.write
    monkeypatch.setattr(Store, "write", lambda self, name, make: seen(Store(str(tmp_path / "elsewhere")), name, make))
    with pytest.raises(YaffleError, match="does not see"):
        on(workers, tmp_path / "store", morning)


def test_workers_of_another_version(morning, workers, tmp_path, monkeypatch):
    monkeypatch.setattr(crew, "key", lambda: "another")
    with pytest.raises(YaffleError, match="another version"):
        on(workers, tmp_path / "store", morning)


def test_nobody_there(morning, tmp_path, monkeypatch):
    monkeypatch.setattr(crew, "_WAIT_S", 1.0)
    with pytest.raises(YaffleError, match="no scheduler with workers"):
        on(type("Nobody", (), {"address": "tcp://127.0.0.1:9"}), tmp_path / "store", morning)
    with pytest.raises(YaffleError, match="no scheduler with workers"):
        on(type("Nonsense", (), {"address": "nonsense://x"}), tmp_path / "store", morning)


# Captures, what is exchanged and the case lie in an object store.


@pytest.fixture(scope="module")
def held(morning, tmp_path_factory):
    with (
        object_store("ferries") as store,
        cluster(tmp_path_factory.mktemp("cluster"), 0) as made,
    ):
        urls = []
        for path in morning:
            name = f"captures/{path.name}"
            Store("s3://ferries").write(name, lambda to, path=path: to.write_bytes(path.read_bytes()))
            urls.append(f"s3://ferries/{name}")
        made.add_worker(**store.environment)
        made.add_worker(**store.environment)
        yield store, made, urls


def lie_as(analysis, other):
    """Says that the files of an analysis lie where those of another one do."""
    sources = analysis.capture.sources
    sources[:] = [replace(one, path=own.path) for one, own in zip(sources, other.capture.sources, strict=True)]


def test_it_is_the_same_and_opens_from_there(held, analysed_morning, few_parts, tmp_path, monkeypatch):
    _, made, urls = held
    analysis = on(made, "s3://ferries/exchange", urls)
    assert [source.path for source in analysis.capture.sources] == urls
    lie_as(analysis, analysed_morning)
    assert told(analysis) == told(analysed_morning)
    assert not Store("s3://ferries")._files.exists("s3://ferries/exchange")
    monkeypatch.setattr(stored.platformdirs, "user_cache_dir", lambda _name: str(tmp_path))
    save_case_at("s3://ferries/morning.yaffle", analysis)
    folder = case_here("s3://ferries/morning.yaffle")
    again, _ = open_case(folder)
    assert told(again) == told(analysed_morning)
    (folder / "memory.json").write_text('{"noted": true}')
    assert case_here("s3://ferries/morning.yaffle") == folder  # What was noted here stays.
    assert "noted" in (folder / "memory.json").read_text()
    save_case_at("s3://ferries/morning.yaffle", analysis)  # Another one under its name: the former columns go.
    assert case_here("s3://ferries/morning.yaffle") == folder
    assert len([one for one in folder.iterdir() if one.is_dir()]) == 1
    assert "noted" in (folder / "memory.json").read_text()
    assert "lies in a store" in missing_source(replace(again.capture.sources[0], path=urls[0]))


def test_a_store_that_fails_now_and_then(held, analysed_morning, few_parts):
    store, made, urls = held
    store.fails_every = 7
    try:
        analysis = on(made, "s3://ferries/exchange", urls)
    finally:
        store.fails_every = 0
    assert store.failed > 3
    lie_as(analysis, analysed_morning)
    assert told(analysis) == told(analysed_morning)


def test_a_store_that_is_gone_is_said_in_a_line(held, monkeypatch):
    store, made, urls = held
    monkeypatch.setattr("yaffle.file_store._PAUSE_S", 0.01)
    store.down = True
    try:
        with pytest.raises(YaffleError, match="the store failed") as failed:
            on(made, "s3://ferries/exchange", urls)
    finally:
        store.down = False
    assert "\n" not in str(failed.value)


def test_what_is_not_there(held):
    with pytest.raises(YaffleError, match="not there"):
        case_here("s3://ferries/nothing.yaffle")
    with pytest.raises(YaffleError, match="captures are analyzed there first"):
        given("s3://ferries/captures/a.pcap")
    with pytest.raises(YaffleError, match="ends in"):
        save_case_at("s3://ferries/nothing", None)


def test_captures_of_a_store_without_a_cluster(held, analysed_morning, tmp_path, monkeypatch):
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    _, _, urls = held
    with workforce_of("", "") as work:
        analysis = analyse(work.fetch(urls), workforce=work)
        work.as_given(analysis.capture)
    assert [source.path for source in analysis.capture.sources] == urls
    assert not list(tmp_path.iterdir())


def test_an_address_that_nothing_speaks():
    with pytest.raises(YaffleError, match="cannot be reached"):
        Store("nonsense://somewhere")
