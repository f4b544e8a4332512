"""A collector that watches: what trips is told once, answered, and judged; nothing is told twice after a kill."""

import csv
import json
import os
import signal
import socket
import subprocess
import sys
import time

from tests.collector.test_collector import collecting, configured, until
from tests.ports import free_port
from tests.watching.receivers import hooks, syslog_server
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.session.table_export import write_rows


def stands(history, state):
    try:
        return any(one["state"] == state for one in status_of(history)["watches"])
    except YaffleError:
        return False


def events(history, tmp_path):
    out = tmp_path / "events.csv"
    try:
        write_rows(history, "events", out)
    except YaffleError:
        return []
    with out.open() as file:
        return list(csv.DictReader(file))


def states(history, tmp_path, state):
    return [one for one in events(history, tmp_path) if one["state"] == state]


def watched(port, hook, syslog, command=""):
    return (
        f'[[probe]]\nname = "desk"\nkind = "connect"\ntarget = "127.0.0.1:{port}"\nevery = "1s"\ntimeout = "500ms"\n'
        '[[watch]]\nname = "desk is there"\nmeasure = "loss"\nof = "target"\nover = "2s"\nabove = 50\nfor = "1s"\n'
        'clear = "1s"\nseverity = "critical"\nnotify = ["hook", "log"]\n' + ('respond = "open"\n' if command else "")
        + f'[[notify]]\nname = "hook"\nkind = "webhook"\nurl = "{hook}"\nsecret_file = "secret"\n'
        f'[[notify]]\nname = "log"\nkind = "syslog"\nurl = "udp://127.0.0.1:{syslog}"\n' + command
    )  # fmt: skip


def test_a_service_that_goes_and_comes_is_told_once_each(tmp_path):
    (tmp_path / "secret").write_text("harbour")
    port, history = free_port(), tmp_path / "history"
    with hooks() as hook, syslog_server() as (log, lines):
        path = configured(tmp_path, watched(port, hook.url, log))
        with collecting(path):
            until(lambda: stands(history, "raised"), "raised")
            until(lambda: hook.told, "a notice")
            with socket.create_server(("127.0.0.1", port)) as listening:
                until(lambda: stands(history, "fine"), "fine")
                until(lambda: len(hook.told) >= 2, "over")
                until(lambda: len(states(history, tmp_path, "notice")) >= 4, "fates")
                assert listening
    told = hook.told
    assert [one["state"] for one in told] == ["raised", "cleared"]
    assert all(one["watch"] == "desk is there" and str(port) in one["subject"] for one in told)
    assert told[0]["value"] == 100 and told[0]["limit"] == 50 and "limit: above 50 %" in told[0]["words"]
    assert "X-Yaffle-Signature" in hook.headers[0] or "X-Yaffle-signature" in hook.headers[0]
    assert len(lines) == 2 and b"desk is there" in lines[0] and b'state="raised"' in lines[0]
    found = events(history, tmp_path)
    assert [one["state"] for one in found if one["state"] in ("raised", "cleared")] == ["raised", "cleared"]
    assert all("harbour" not in json.dumps(one) for one in found)
    assert "harbour" not in (tmp_path / "log").read_text()
    for file in history.rglob("*"):  # Status, book, events, and whatever else is written.
        assert not file.is_file() or b"harbour" not in file.read_bytes(), file
    report = subprocess.run([sys.executable, "-m", "yaffle", "report", str(history), "--period", "all", "--out",
                             str(tmp_path / "r.html")], capture_output=True, text=True, check=False)  # fmt: skip
    assert report.returncode == 0 and "harbour" not in (tmp_path / "r.html").read_text() + report.stderr


def test_an_answer_runs_once_and_its_effect_is_told(tmp_path):
    (tmp_path / "secret").write_text("harbour")
    port, history, seen = free_port(), tmp_path / "history", tmp_path / "seen"
    script = tmp_path / "open.py"
    script.write_text(
        f"import sys, subprocess\nopen({str(seen)!r}, 'a').write(sys.stdin.read() + '\\n')\n"
        f"subprocess.Popen([sys.executable, '-c', 'import socket, time; s = socket.create_server((\"127.0.0.1\","
        f" {port})); time.sleep(25)'], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,"
        " stderr=subprocess.DEVNULL, start_new_session=True)\nprint('opened')\n"
    )
    command = f'[[response]]\nname = "open"\ncommand = ["{sys.executable}", "{script}"]\nsettle = "3s"\n'
    with hooks() as hook, syslog_server() as (log, _):
        path = configured(tmp_path, watched(port, hook.url, log, command))
        with collecting(path):
            until(lambda: states(history, tmp_path, "effect"), "an effect")
    (event,) = [json.loads(line) for line in seen.read_text().splitlines()]
    assert event["watch"] == "desk is there" and str(port) in event["subject"] and event["state"] == "raised"
    (response,) = states(history, tmp_path, "response")
    assert response["words"] == "open: opened"
    (effect,) = states(history, tmp_path, "effect")
    assert "helped: 100 % to 0 %, sure" in effect["words"], effect
    assert effect["about"] == event["id"]


def test_a_kill_at_any_moment_tells_nothing_twice_and_loses_nothing(tmp_path):
    (tmp_path / "secret").write_text("harbour")
    port, history = free_port(), tmp_path / "history"
    with hooks() as hook, syslog_server() as (log, _):
        hook.up = False
        path = configured(tmp_path, watched(port, hook.url, log))
        for pause in (3.4, 4.1, 4.6, 5.2):
            with (tmp_path / "log").open("ab") as out:
                process = subprocess.Popen([sys.executable, "-m", "yaffle", "collect", str(path)], stderr=out,
                                           env=dict(os.environ))  # fmt: skip
            time.sleep(pause)
            process.send_signal(signal.SIGKILL)
            process.wait()
        hook.up = True
        with collecting(path):
            until(lambda: hook.told, "a notice")
            time.sleep(3)
    assert [one["state"] for one in hook.told] == ["raised"]
    found = [one for one in events(history, tmp_path) if one["state"] in ("raised", "cleared")]
    assert [one["state"] for one in found] == ["raised"] and found[0]["id"] == hook.told[0]["id"]
    assert len({one["id"] for one in events(history, tmp_path)}) == len(events(history, tmp_path))


def test_what_trips_is_looked_into(tmp_path):
    (tmp_path / "secret").write_text("harbour")
    port, history = free_port(), tmp_path / "history"
    with hooks() as hook, syslog_server() as (log, _):
        text = watched(port, hook.url, log).replace('severity = "critical"', 'severity = "critical"\nkeep = true')
        with collecting(configured(tmp_path, text)):
            until(lambda: states(history, tmp_path, "response"), "what was found out")
        (raised,) = states(history, tmp_path, "raised")
    found = states(history, tmp_path, "response")
    assert any(one["words"].startswith("127.0.0.1: RTT ") and "route 127.0.0.1" in one["words"] for one in found)
    assert {one["about"] for one in found} == {raised["id"]}


def test_addresses_are_found_in_what_subjects_name():
    from yaffle.collector.evidence import hosts_of

    assert hosts_of("198.51.100.7:443") == ["198.51.100.7"]
    assert hosts_of("198.51.100.7 to 203.0.113.9, 198.51.100.7") == ["198.51.100.7", "203.0.113.9"]
    assert hosts_of("2001:db8::7 at switch") == ["2001:db8::7"]
    assert hosts_of("line 1 of web (TCP 443)") == [] and hosts_of("") == []
    assert len(hosts_of(" ".join(f"192.0.2.{k}" for k in range(9)))) == 3
