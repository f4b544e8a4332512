import json
import subprocess
import sys

import pytest

from tests.frames import ACK, PSH, Talk


def yaffle(*arguments):
    return subprocess.run(
        [sys.executable, "-m", "yaffle", *map(str, arguments)], capture_output=True, text=True, check=False
    )


@pytest.fixture
def capture(tmp_path):
    talk = Talk().open()
    talk.send(0, 100, 200, ACK | PSH)
    talk.send(1, 110)
    talk.send(1, 1500, 900, ACK | PSH)
    talk.send(0, 1500.1)
    return talk.close(1600).write(tmp_path / "a.pcap")


def test_the_answer_names_the_server_and_the_document_has_its_keys(capture, tmp_path):
    run = yaffle("analyse", capture, "--json", tmp_path / "out.json", "--report", tmp_path / "out.html")
    assert run.returncode == 0, run.stderr
    assert "server processing takes" in run.stdout
    content = json.loads((tmp_path / "out.json").read_text())
    assert (content["format"], content["version"]) == ("yaffle-analysis", 1)
    assert set(content) == {
        "format",
        "version",
        "sources",
        "connections",
        "exchanges",
        "answers",
        "lookups",
        "media",
        "programmes",
        "calls",
        "segments",
        "translations",
        "answered_between",
        "flow_changes",
        "clocks",
        "dependencies",
        "exporters",
        "flow_paths",
        "findings",
        "cleared",
        "conversations",
        "line",
        "hops",
        "radio",
        "cyclic",
    }
    connection = content["connections"][0]
    assert (connection["client"], connection["server"], connection["opening"], connection["closing"]) == (
        "198.51.100.10:40000",
        "203.0.113.20:80",
        "complete",
        "orderly",
    )
    assert sum(c["ms"] for c in connection["charges"]) == pytest.approx(connection["wait_ms"], abs=1e-6)
    exchange = content["exchanges"][0]
    assert exchange["server_ms"] == pytest.approx(1390, abs=1)
    assert exchange["wait_ms"] == pytest.approx(
        sum(exchange[f"{p}_ms"] for p in ("client", "network", "server", "unexplained"))
    )
    page = (tmp_path / "out.html").read_text()
    assert "Whose delay" in page and "<svg" in page and "http://" not in page.replace("http://www.w3.org", "")


def test_the_document_goes_to_standard_output(capture):
    run = yaffle("analyse", capture, "--json", "-")
    assert json.loads(run.stdout)["connections"][0]["verdict"]["party"] == "server"


@pytest.mark.parametrize("content", [None, b"", b"garbage that is no capture"])
def test_bad_input_gets_one_line_and_exit_code_2(tmp_path, content):
    path = tmp_path / "x.pcap"
    if content is not None:
        path.write_bytes(content)
    run = yaffle("analyse", path)
    assert run.returncode == 2
    assert run.stderr.count("\n") == 1
    assert "Traceback" not in run.stderr


@pytest.mark.parametrize(("rule", "words"), [("voice=gold", "is no marking"), ("EF", "is not APPLICATION=MARKING")])
def test_a_rule_that_is_none_is_said(capture, rule, words):
    run = yaffle("analyse", capture, "--expect", rule)
    assert run.returncode == 2
    assert words in run.stderr


def test_a_marking_that_is_expected_and_not_there_is_a_finding(capture, tmp_path):
    run = yaffle(
        "analyse", capture, "--expect", "web=AF31", "--json", tmp_path / "out.json", "--report", tmp_path / "out.html"
    )
    assert run.returncode == 0, run.stderr
    found = [f for f in json.loads((tmp_path / "out.json").read_text())["findings"] if f["cause"] == "marking"]
    assert {f["party"] for f in found} == {"client", "server"}
    assert "instead of AF31" in found[0]["sentence"]
    assert "instead of AF31" in (tmp_path / "out.html").read_text()
