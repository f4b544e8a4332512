"""Tests of the configuration run on their schedule, and others' are answered."""

import socket
import time
from itertools import pairwise

import pytest

from tests.collector.test_collector import collecting, configured, free_port, until
from yaffle.collector.configuration import read_configuration
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.layout import counting, folders
from yaffle.history.parts import read_part
from yaffle.session.table_export import write_rows


def rows(history):
    found = [
        row
        for _, folder in folders(history / "probes")
        for path in counting(folder)
        for row in read_part(path).to_pylist()
    ]
    return sorted(found, key=lambda row: row["at_ns"])


def test_results_are_kept_and_troubles_are_told(tmp_path):
    port, closed = free_port(), free_port()
    with socket.create_server(("127.0.0.1", 0)) as listening:
        there = listening.getsockname()[1]
        path = configured(
            tmp_path,
            f"[responder]\nport = {port}\n"
            f'[[probe]]\nname = "desk"\nkind = "connect"\ntarget = "127.0.0.1:{there}"\nevery = "1s"\ntimeout ='
            ' "500ms"\n'
            f'[[probe]]\nkind = "connect"\ntarget = "127.0.0.1:{closed}"\nevery = "1s"\ntimeout = "500ms"\n'
            f'[[probe]]\nkind = "delay"\ntarget = "127.0.0.1:{port}"\nevery = "1s"\npackets = 5\ninterval = "10ms"\n',
        )
        history = tmp_path / "history"
        with collecting(path):
            until(lambda: len(rows(history)) >= 9, "too few")
            told = {one["address"]: one for one in status_of(history)["tasks"]}
    found = rows(history)
    desk = [row for row in found if row["name"] == "desk"]
    assert len(desk) >= 2 and all(row["ok"] and row["round_trip_ms"] < 100 for row in desk)
    pauses = [(b["at_ns"] - a["at_ns"]) / 1e9 for a, b in pairwise(desk)]
    assert all(abs(pause - round(pause)) < 0.3 for pause in pauses)
    delay = [row for row in found if row["kind"] == "delay" and row["ok"]]
    assert delay and delay[-1]["packets"] == 5 and '"min"' in delay[-1]["there_ms"]
    assert "refused" in told[f"connect 127.0.0.1:{closed}"]["why"] and told["desk"]["why"] == ""
    assert told[f"127.0.0.1 port {port}"]["state"] == "running"
    assert write_rows(history, "probes", tmp_path / "out.csv") == len(found)
    assert time.time_ns() > found[-1]["at_ns"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[[probe]]\nkind = "guess"\ntarget = "x"\n', "one of reach"),
        ('[[probe]]\nkind = "voice"\ntarget = "x"\ncodec = "tin"\n', "one of g711"),
        ('[[probe]]\nkind = "storm"\ntarget = "eth0"\n', "one of reach"),
        ('[[probe]]\nkind = "reach"\ntarget = "x"\n[[probe]]\nkind = "reach"\ntarget = "x"\n', "twice"),
        ('[[probe]]\nkind = "reach"\n', "missing"),
    ],
)
def test_mistakes_are_told(tmp_path, text, words):
    with pytest.raises(YaffleError, match=words):
        read_configuration(configured(tmp_path, text))
