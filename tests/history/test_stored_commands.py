"""A history in a store by commands and in the window: written, exported, reported, opened."""

import csv
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from tests.cluster.object_store import server, store  # noqa: F401  (the fixtures)
from tests.history.test_reception import FIELDS, RECORD, a_set, ipfix, sent_udp, template
from tests.history.two_weeks import write_two_weeks
from yaffle.collector.asking import ask_collector
from yaffle.collector.collect import words_of
from yaffle.collector.configuration import read_configuration
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.copying import HERE_DAYS, Copying, days_here, folder_here
from yaffle.history.layout import USUAL_DAYS
from yaffle.history.mirror import mirrored
from yaffle.history.shipping import Shipper
from yaffle.history.store import History
from yaffle.programs import case as programs

URL = "s3://ferries/kept"


def yaffle(*arguments):
    return subprocess.run(
        [sys.executable, "-m", "yaffle", *arguments], capture_output=True, text=True, check=False, timeout=240
    )


def test_two_listen_into_one_history_which_is_exported(store, tmp_path, monkeypatch):  # noqa: F811
    url, packets = f"{URL}-listened", 0
    for k in range(2):
        monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / f"machine-{k}"))
        command = [sys.executable, "-m", "yaffle", "listen", "--history", url, "--udp", "0"]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        said = process.stdout.readline()
        assert f"keeping in {url}" in said
        sent_udp(int(said.split("UDP ")[1].split(";")[0]), ipfix([template(300, FIELDS), a_set(300, RECORD * 5)]))
        time.sleep(0.3)
        process.send_signal(signal.SIGTERM)
        assert "5 flow records" in process.communicate(timeout=60)[0]
        packets += 15
    assert History(mirrored(url)).rows(0, 1 << 62).records.rows["packets"].sum() == packets
    done = yaffle("export", url, "--table", f"records={tmp_path}/out.csv")
    assert done.returncode == 0, done.stderr
    with (tmp_path / "out.csv").open() as file:
        assert sum(int(row["packets"]) for row in csv.DictReader(file)) == packets


def test_a_collector_puts_what_this_host_counts_into_a_store(store, tmp_path):  # noqa: F811
    url = f"{URL}-collected"
    path = tmp_path / "collector.toml"
    path.write_text(f'history = "{url}"\n[host]\nevery = "1s"\nname = "pier-office"\n')
    with (tmp_path / "log").open("w") as log:
        process = subprocess.Popen([sys.executable, "-m", "yaffle", "collect", str(path)], stderr=log)
    here, until = folder_here(url) / "readings", time.monotonic() + 60
    while not list(here.glob("*/*.parquet")) and time.monotonic() < until:
        time.sleep(0.1)
    time.sleep(2)
    process.send_signal(signal.SIGTERM)
    assert process.wait(60) == 0, (tmp_path / "log").read_text()
    history = History(mirrored(url))
    assert {device for device, _, _ in history.reading_names()} == {"pier-office"}
    assert history.told_by() == History(folder_here(url)).told_by()
    assert history.days == USUAL_DAYS


def test_a_cluster_without_anything_to_ask_is_refused(tmp_path):
    capture = next((Path(__file__).parents[1] / "data").rglob("*.pcap.gz"))
    for words, arguments in (
        ("goes with --table", ("export", str(capture), "--exchanges", str(tmp_path / "out.csv"))),
        ("there is none in it", ("report", str(capture), "--out", str(tmp_path / "out.html"))),
    ):
        done = yaffle(*arguments, "--cluster", "tcp://127.0.0.1:9")
        assert done.returncode == 2 and words in done.stderr


def test_how_collectors_are_doing_is_told_where_they_run(store, tmp_path):  # noqa: F811
    write_two_weeks(tmp_path / "own", days=1)
    Shipper(tmp_path / "own", f"{URL}-status", USUAL_DAYS).ship([])
    told = status_of(mirrored(f"{URL}-status"))
    assert told["tasks"] == [] and "told where they run" in told["trouble"]
    with pytest.raises(YaffleError, match="no collector is running"):
        ask_collector(mirrored(f"{URL}-status"), "any")


def test_what_is_no_history_is_said_in_a_line(store):  # noqa: F811
    done = yaffle("export", "s3://ferries/nothing", "--table", "records=out.csv")
    assert done.returncode == 2
    assert "captures are analyzed there first" in done.stderr
    assert "Traceback" not in done.stderr


def test_a_report_of_it(store, tmp_path):  # noqa: F811
    write_two_weeks(tmp_path / "own", days=8)
    Shipper(tmp_path / "own", f"{URL}-weeks", USUAL_DAYS).ship([])
    out = tmp_path / "week.html"
    done = yaffle("report", f"{URL}-weeks", "--period", "last week", "--out", str(out))
    assert done.returncode == 0, done.stderr
    assert "203.0.113.9" in out.read_text()
    opened = programs.open(f"{URL}-weeks").opened
    assert opened.analysis.history.address == f"{URL}-weeks"
    assert opened.analysis.exporters[0].address == "203.0.113.9"


def test_a_configuration_with_a_store(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    path = tmp_path / "collector.toml"
    path.write_text(f'history = "{URL}"\n[listen]\nudp = [2055]\n')
    told = read_configuration(path)
    assert told.store == URL and told.history == str(folder_here(URL))
    first, second, *_ = words_of(path)
    assert first.startswith(f"keeps in {URL}: records 30 days")
    assert f"{HERE_DAYS} days at most" in second
    path.write_text(f'history = "kept"\nstore = "{URL}"\n')
    told = read_configuration(path)
    assert told.store == URL and told.history == str(tmp_path / "kept")
    path.write_text(f'history = "{URL}"\nstore = "{URL}"\n')
    with pytest.raises(YaffleError, match="one store"):
        read_configuration(path)


def test_on_the_machine_rows_are_kept_for_five_weeks_and_sums_for_as_long_as_said():
    days = days_here({**USUAL_DAYS, "records": 400, "waits": 400})
    assert days["records"] == days["waits"] == HERE_DAYS
    assert days["1day"] == USUAL_DAYS["1day"] and days["counters"] == HERE_DAYS


def test_a_store_that_fails_is_told_of_until_it_answers():
    class Failing:
        answers, asked = threading.Event(), 0

        def ship(self, _changed):
            self.asked += 1
            if not self.answers.is_set():
                raise YaffleError("the store failed")

    shipper, until = Failing(), time.monotonic() + 20
    copying = Copying(shipper, list, every_s=0.01)
    copying.start()
    while not copying.trouble and time.monotonic() < until:
        time.sleep(0.005)
    assert "stays here: the store failed" in copying.trouble
    shipper.answers.set()
    while copying.trouble and time.monotonic() < until:
        time.sleep(0.005)
    copying.end()
    copying.ship_last([])
    assert not copying.trouble and shipper.asked >= 3
