"""Reports of per-hop telemetry that a real collector receives: rows of the history, queues, ways that change."""

import json
import random
import socket
import time

import numpy as np
import pyarrow.parquet as pq
import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.hops.frames import datagram, inner, report
from tests.ports import free_port
from yaffle.collector.configuration import read_configuration
from yaffle.errors import YaffleError
from yaffle.history.layout import counting, folders
from yaffle.history.store import History
from yaffle.hops.report_scan import QUEUED, TRACKED
from yaffle.records.catalogue import entry_of
from yaffle.session import kept_stretches
from yaffle.watching.member_values import Question, values
from yaffle.watching.windows import Windows

H1, H2, US = "198.51.100.16", "203.0.113.23", 1000


def told(history):
    files = [file for _, folder in folders(history / "hops") for file in counting(folder)]
    return [row for file in files for row in pq.read_table(file).to_pylist()]


def about(ip_id, ttl, sport=1000):
    return inner(H1, sport, H2, 443, ip_id, ttl, b"x" * 200)


def sent(port, bodies):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        for body in bodies:
            own.sendto(body, ("127.0.0.1", port))


def postcards(count, nodes, flags=TRACKED, delay_ns=500, queue=0, first=0, sport=1000):
    """Of `count` packets that went by some nodes."""
    found = []
    for k in range(count):
        now = time.time_ns()
        for place, node in enumerate(nodes):
            one = report(flags, 1, 2, now, now + delay_ns, queue, about(first + k, 64 - place, sport))
            found.append(datagram(node, (first + k) % (1 << 22), [one]))
    return found


def test_reports_become_rows_and_another_way_is_told(tmp_path):
    port = free_port()
    path = configured(tmp_path, f"[listen]\nudp = []\ntelemetry = [{port}]\n")
    history = tmp_path / "history"
    with collecting(path):
        until(lambda: _open(port), "the port")
        sent(port, postcards(50, (7, 8)))
        sent(port, postcards(20, (7,), QUEUED, 15_000_000, 90_000, 100, 2000))
        until(lambda: any(row["node"] == 8 for row in told(history)), "rows")
        sent(port, postcards(50, (7, 9), first=1000))
        sent(port, [random.Random(1).randbytes(k % 90) for k in range(500)])
        sent(port, [datagram(node, 1, []) for node in range(2000)])
    rows = told(history)
    passed = [row for row in rows if row["what"] == "passed"]
    assert sum(row["packets"] for row in passed if row["node"] == 8) == 50
    assert sum(row["packets"] for row in passed if row["node"] == 9) == 50
    assert {row["delay_median_us"] for row in passed if row["node"] in (8, 9)} == {0.5}
    (stood,) = [row for row in rows if row["what"] == "queue stood"]
    assert (stood["node"], stood["egress"], stood["queue_max_bytes"], stood["delay_max_us"]) == (7, 2, 90_000, 15_000)
    assert json.loads(stood["culprits"])[0]["src_port"] == 2000
    moved = [row for row in rows if row["what"] == "other way" and json.loads(row["flow"])["src_port"] == 1000]
    assert [(json.loads(row["way_before"]), json.loads(row["way_after"])) for row in moved] == [([7, 8], [7, 9])]
    _as_measures(history, rows)


def _as_measures(folder, rows):
    """What a watch and a station ask of the same rows."""
    history = History(folder)
    first, last = min(row["to_ns"] for row in rows) - 1, max(row["to_ns"] for row in rows)
    edges = np.array([first, (first + last) // 2, last])

    def watched(name, by, where=""):
        found = values(Windows(history), Question(entry_of(name, by), by, where), first, last - first)
        return {subject: own[0] for subject, own in found.of.items()}

    assert watched("hop_delay", "queue")["node 7 egress 2"] == 15_000
    assert watched("queue_depth", "node") == {"node 7": 90_000, "node 8": 0, "node 9": 0}
    assert watched("hop_packets", "node", "egress = 2")["node 8"] == 50
    assert watched("hop_drops", "node")["node 7"] == 0
    entry = entry_of("hop_packets", "node")
    assert kept_stretches.groups(history, entry, "node", first, last)[0] == "node 7"
    assert np.nansum(kept_stretches.over_time(history, entry, "node", "node 9", edges)) == 50
    assert kept_stretches.names(history, entry) == ["node 7 egress 2", "node 8 egress 2", "node 9 egress 2"]


def _open(port):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        try:
            own.bind(("127.0.0.1", port))
        except OSError:
            return True
    return False


def test_a_port_is_for_one_thing_only(tmp_path):
    for text, words in (
        ("[listen]\nudp = [4739]\ntelemetry = [4739]\n", "cannot be both"),
        ("[listen]\nudp = []\n", "at least one port"),
        ("[listen]\ntelemetry = [0]\n", "from 1 on"),
    ):
        with pytest.raises(YaffleError, match=words):
            read_configuration(configured(tmp_path, text))
