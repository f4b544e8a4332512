"""A collector as a process of its own: begun, reloaded, killed, asked how it is."""

import asyncio
import json
import os
import signal
import socket
import subprocess
import sys
import time
from contextlib import contextmanager
from pathlib import Path

import pyarrow.parquet as pq
import pytest

from tests.history.test_reception import FIELDS, RECORD, sent_udp
from tests.ports import free_port
from tests.records.messages import a_set, ipfix, template
from yaffle.collector.status import status_of
from yaffle.collector.supervisor import RUNNING, WAITING, State, Supervisor
from yaffle.errors import YaffleError
from yaffle.history.layout import counting, folders
from yaffle.history.store import History
from yaffle.session.table_export import write_rows

_PATIENCE_S = 60


def until(condition, what="nothing"):
    end = time.monotonic() + _PATIENCE_S
    while time.monotonic() < end:
        if found := condition():
            return found
        time.sleep(0.05)
    raise AssertionError(what)


@contextmanager
def collecting(path, **environment):
    with (path.parent / "log").open("ab") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "yaffle", "collect", str(path)], stderr=log, env={**os.environ, **environment}
        )
    try:
        yield process
    finally:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
            assert process.wait(_PATIENCE_S) == 0


def configured(tmp_path, text):
    path = tmp_path / "collector.toml"
    part = tmp_path / "collector.part"
    part.write_text(f'history = "history"\n{text}')
    part.replace(path)
    return path


def rows_of(history, table="readings"):
    return sum(pq.read_metadata(file).num_rows for _, folder in folders(history / table) for file in counting(folder))


def test_from_begin_to_end(tmp_path):
    port, history = free_port(), tmp_path / "history"
    path = configured(tmp_path, f'[listen]\nudp = [{port}]\n[host]\nevery = "1s"\nname = "pier-office"\n')
    with collecting(path) as process:
        until(lambda: (history / "collector.json").exists() and rows_of(history) > 0, "no readings")
        until(lambda: [task["state"] for task in status_of(history)["tasks"]] == [RUNNING] * 4, "not running")
        states = {task["task"]: task for task in status_of(history)["tasks"]}
        assert set(states) == {"listen", "host", "addresses", "sockets"}
        assert states["host"]["address"] == "pier-office"
        told = ipfix([template(300, FIELDS), a_set(300, RECORD * 3)], seconds=int(time.time()))
        until(lambda: sent_udp(port, told) or rows_of(history, "records") >= 3, "no records")
        # What changed is taken over, the rest goes on.
        configured(tmp_path, f"[listen]\nudp = [{port}]\n[keep]\nreadings = 7\n")
        until(lambda: [task["task"] for task in status_of(history)["tasks"]] == ["listen"], "not reloaded")
        assert status_of(history)["tasks"][0]["since_ns"] == states["listen"]["since_ns"]
        assert json.loads((history / "history.json").read_text())["days"]["readings"] == 7
        # A mistake changes nothing, and is told.
        configured(tmp_path, "[lisen]\n")
        until(lambda: "lisen: this key is not known" in status_of(history)["trouble"], "no trouble told")
        assert [task["task"] for task in status_of(history)["tasks"]] == ["listen"]
        configured(tmp_path, '[host]\nevery = "1s"\n')
        process.send_signal(signal.SIGHUP)
        until(
            lambda: {task["task"] for task in status_of(history)["tasks"]} == {"host", "addresses", "sockets"},
            "not reloaded",
        )
    assert status_of(history)["tasks"] == []
    found = History(history)
    assert found.counters.devices[0] == "pier-office"
    assert "lo" in found.counters.names.values()


def test_killed_it_loses_a_second_at_most_and_begins_again(tmp_path):
    history = tmp_path / "history"
    path = configured(tmp_path, '[host]\nevery = "1s"\n')
    kept = 0
    for pause_s in (0.0, 0.4, 1.1):
        with collecting(path) as process:
            until(lambda kept=kept: rows_of(history) > kept, "no readings")
            time.sleep(pause_s)
            before = rows_of(history)
            process.kill()
            process.wait()
            kept = rows_of(history)
            assert kept >= before
            assert {task["state"] for task in status_of(history)["tasks"]} == {"stopped"}
            assert "no collector is running" in status_of(history)["trouble"]
    assert write_rows(history, "readings", tmp_path / "readings.parquet") == kept
    assert write_rows(history, "counters", tmp_path / "counters.csv") > 0
    header, first = (tmp_path / "counters.csv").read_text().splitlines()[:2]
    assert header.startswith('"time_ns","device","interface","name","speed_bps","in_octets"')
    assert ",," in first  # What a kernel does not tell is empty.


def test_one_writer_a_history(tmp_path):
    path = configured(tmp_path, '[host]\nevery = "1s"\n')
    with collecting(path):
        until(lambda: (tmp_path / "history" / "collector.json").exists())
        second = subprocess.run(
            [sys.executable, "-m", "yaffle", "collect", str(path)], capture_output=True, text=True, check=False
        )
    assert second.returncode == 2
    assert "somebody else is writing this history" in second.stderr


def test_the_service_manager_is_told(tmp_path):
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as own:
        own.bind(str(tmp_path / "notify"))
        own.settimeout(_PATIENCE_S)
        with collecting(configured(tmp_path, '[host]\nevery = "1s"\n'), NOTIFY_SOCKET=str(tmp_path / "notify")):
            assert own.recv(100) == b"READY=1"
        assert own.recv(100) == b"STOPPING=1"


def test_the_command_line(tmp_path):
    def run(*arguments):
        return subprocess.run(
            [sys.executable, "-m", "yaffle", *map(str, arguments)], capture_output=True, text=True, check=False
        )

    path = configured(tmp_path, '[host]\nevery = "1"\n')
    wrong = run("collect", path, "--check")
    assert wrong.returncode == 2
    assert f"{path}:3: host.every: found '1'" in wrong.stderr
    configured(tmp_path, '[host]\nevery = "1s"\nname = "pier-office"\n')
    assert "as pier-office" in run("collect", path, "--check").stdout
    assert not (tmp_path / "history").exists()
    with collecting(path):
        until(lambda: (tmp_path / "history").exists() and rows_of(tmp_path / "history") > 0)
        until(lambda: "host pier-office: running since" in run("status", tmp_path / "history").stdout, "not running")
        told = json.loads(run("status", tmp_path / "history", "--json", "-").stdout)
        assert (told["format"], told["version"]) == ("yaffle-status", 1)
    made = run("export", tmp_path / "history", "--table", f"readings={tmp_path / 'r.csv'}")
    assert "rows" in made.stdout, made.stderr
    assert (tmp_path / "r.csv").read_text().startswith('"time_ns","device","object","measure","value","unit"')
    assert run("export", tmp_path / "history", "--table", f"nothing={tmp_path / 'n.csv'}").returncode == 2
    assert run("status", tmp_path).returncode == 2


def test_a_task_that_fails_is_begun_again_and_takes_no_other_down():
    async def failing(_state):
        raise YaffleError("nobody\nthere")

    async def going(_state):
        await asyncio.sleep(1000)

    async def run():
        supervisor = Supervisor(first_pause_s=0.01)
        bad, good = State("bad"), State("good")
        supervisor.begin("bad", bad, failing)
        supervisor.begin("good", good, going)
        await asyncio.sleep(0.2)
        seen = bad.state, bad.why, good.state
        await supervisor.end_all()
        return seen

    state, why, other = asyncio.run(run())
    assert (state, other) == (WAITING, RUNNING)
    assert why.startswith("nobody there; begun again in")


def test_what_is_no_history(tmp_path):
    with pytest.raises(YaffleError, match="no history"):
        status_of(tmp_path)
    (tmp_path / "history.json").write_text("{}")
    (tmp_path / "collector.json").write_text("{")
    with pytest.raises(YaffleError, match="cannot be read"):
        status_of(Path(tmp_path))


def test_the_unit_of_the_service_manager_ships_with_it():
    told = subprocess.run(
        [sys.executable, "-m", "yaffle", "collect", "--unit"], capture_output=True, text=True, check=True
    ).stdout
    assert "ExecStart=yaffle collect /etc/yaffle/%i.toml" in told
    assert "Type=notify" in told and "ProtectSystem=strict" in told
