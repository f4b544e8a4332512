"""Tests of the configuration run on their schedule, and others' are answered."""

import socket
import time
from itertools import combinations, pairwise

import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.ports import free_port
from yaffle.collector.configuration import read_configuration
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.layout import counting, folders
from yaffle.history.parts import read_part
from yaffle.probing.respond import Responder
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
        ('[[mesh]]\nname = "m"\nkind = "sweep"\nbetween = ["here", "a"]\n', "between others one of"),
        ('[[mesh]]\nname = "m"\nkind = "delay"\nbetween = ["a", "b"]\n', "only with a key"),
        ('[[mesh]]\nname = "m"\nkind = "delay"\nbetween = ["here", "a"]\nhub = "b"\n', "hub: one of"),
    ],
)
def test_mistakes_are_told(tmp_path, text, words):
    with pytest.raises(YaffleError, match=words):
        read_configuration(configured(tmp_path, text))


def test_all_pairs_of_twenty_responders_are_tested_from_one_configuration(tmp_path):
    key = tmp_path / "key"
    key.write_text("harbour")
    sites = [Responder(f"127.0.9.{k + 1}", 0, key=b"harbour") for k in range(20)]
    for one in sites:
        one.start()
    names = [f"{one.bind}:{one.port}" for one in sites]
    path = configured(
        tmp_path,
        f'[[mesh]]\nname = "sites"\nkind = "delay"\npackets = 3\ninterval = "10ms"\nbetween = {names}\n'
        'every = "1h"\nkey_file = "key"\n'
        f'[[mesh]]\nname = "star"\nkind = "connect"\nhub = "here"\nbetween = ["here", "{names[0]}"]\nevery = "1h"\n',
    )
    history = tmp_path / "history"
    with collecting(path):
        until(lambda: len(rows(history)) >= 191, "too few")
    for one in sites:
        one.stop()
    found = rows(history)
    pairs = {(row["source"], row["target"]) for row in found if row["name"].startswith("sites: ")}
    assert pairs == set(combinations(names, 2)) and all(row["ok"] for row in found), found
    (star,) = [row for row in found if row["name"].startswith("star: ")]
    assert star["target"] == names[0] and star["source"] is None
