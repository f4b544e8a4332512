"""Who had which address from when to when: told again over restarts, gaps and clocks that were set."""

import json
import shutil
import subprocess

import pyarrow as pa
import pytest

from yaffle.collector.held_addresses import held_now, routes_now
from yaffle.collector.intervals import GAP_NS, HeldIntervals
from yaffle.history.layout import ADDRESSES, REFRESH_NS, TABLE
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.session.table_export import write_rows

S = 10**9
START = 1_790_000_000 * S
ROUTER, DESK = ("eth0", "192.0.2.1", "02:00:00:00:00:01"), ("eth0", "192.0.2.9", "02:00:00:00:00:09")
OTHER = ("eth0", "192.0.2.9", "02:00:00:00:00:77")


def intervals(*tables):
    """The plain way: of rows of one thing that began at one moment, the last end."""
    found = {}
    for row in pa.concat_tables(tables).to_pylist():
        key = (row["interface"], row["address"], row["hardware"], row["from_ns"])
        found[key] = max(found.get(key, 0), row["to_ns"])
    return {(*key, to_ns) for key, to_ns in found.items()}


def test_an_address_that_changes_hands():
    held = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    told = [held.seen({ROUTER, DESK}, START)]
    told += [held.seen({ROUTER, DESK if k < 40 else OTHER}, START + k * 10 * S) for k in range(1, 80)]
    told.append(held.last())
    assert intervals(*told) == {
        (*ROUTER, START, START + 790 * S),
        (*DESK, START, START + 390 * S),
        (*OTHER, START + 400 * S, START + 790 * S),
    }
    assert sum(table.num_rows for table in told) <= 12  # Little is written.


def test_neighbours_that_are_forgotten_for_a_while_are_the_same():
    held = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    told = [held.seen({DESK}, START), held.seen(set(), START + GAP_NS // 2), held.seen({DESK}, START + GAP_NS)]
    told += [held.seen(set(), START + 3 * GAP_NS), held.seen({DESK}, START + 4 * GAP_NS), held.last()]
    assert intervals(*told) == {
        (*DESK, START, START + GAP_NS),
        (*DESK, START + 4 * GAP_NS, START + 4 * GAP_NS),
    }


def test_it_goes_on_over_a_restart(tmp_path):
    writer = HistoryWriter(tmp_path, settle=False)
    held = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    writer.append_rows(ADDRESSES, held.seen({DESK}, START))
    held.seen({DESK}, START + 60 * S)
    writer.append_rows(ADDRESSES, held.last())
    again = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    again.go_on(History(tmp_path).intervals(ADDRESSES), START + 90 * S)
    again.seen({DESK}, START + 100 * S)
    writer.append_rows(ADDRESSES, again.last())
    late = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    late.go_on(History(tmp_path).intervals(ADDRESSES), START + 2 * GAP_NS)
    writer.append_rows(ADDRESSES, late.seen({DESK}, START + 2 * GAP_NS))
    other = HeldIntervals(TABLE[ADDRESSES], "ferry")
    other.go_on(History(tmp_path).intervals(ADDRESSES), START + 2 * GAP_NS)
    assert other.last().num_rows == 0
    writer.close()
    found = History(tmp_path).intervals(ADDRESSES)
    assert [(row["from_ns"], row["to_ns"]) for row in found.to_pylist()] == [
        (START, START + 100 * S),
        (START + 2 * GAP_NS, START + 2 * GAP_NS),
    ]
    assert History(tmp_path).intervals(ADDRESSES, START + 200 * S, START + 300 * S).num_rows == 0
    assert write_rows(tmp_path, ADDRESSES, tmp_path / "a.csv") == 2
    header = (tmp_path / "a.csv").read_text().splitlines()[0]
    assert header == '"device","interface","address","hardware","from_ns","to_ns"'


def test_a_clock_that_is_set_back_begins_anew():
    held = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    told = [held.seen({DESK}, START), held.seen({DESK}, START - 3600 * S)]
    assert intervals(*told) == {(*DESK, START, START), (*DESK, START - 3600 * S, START - 3600 * S)}


def test_it_is_written_now_and_then_that_something_is_still_there():
    held = HeldIntervals(TABLE[ADDRESSES], "pier-office")
    held.seen({DESK}, START)
    assert held.seen({DESK}, START + REFRESH_NS - 1).num_rows == 0
    assert held.seen({DESK}, START + REFRESH_NS).num_rows == 1


def test_a_history_without_any(tmp_path):
    HistoryWriter(tmp_path, settle=False).close()
    assert History(tmp_path).intervals(ADDRESSES).column_names == [*TABLE[ADDRESSES].same, "to_ns"]


def told_by_ip(*what):
    return json.loads(subprocess.run(["ip", "-j", *what], capture_output=True, check=True).stdout or "[]")


def as_ip_says():
    expected = {
        (link["ifname"], address["local"], link["address"])
        for link in told_by_ip("addr")
        for address in link.get("addr_info", [])
        if "local" in address and link.get("address", "").strip("0:")
    }
    for one in told_by_ip("neigh"):
        good = not {"FAILED", "INCOMPLETE", "NONE"} & set(one.get("state", []))
        if good and one.get("lladdr", "").strip("0:"):
            expected.add((one["dev"], one["dst"], one["lladdr"]))
    return expected


@pytest.mark.skipif(shutil.which("ip") is None, reason="no program here tells the kernel's tables")
def test_it_is_what_the_kernel_says():
    for _ in range(20):  # Neighbors come and go: both must have looked at the same moment.
        before, found, after = as_ip_says(), held_now(), as_ip_says()
        if before == after:
            assert found == before
            return
    pytest.skip("the kernel's tables do not stand still")


@pytest.mark.skipif(shutil.which("ip") is None, reason="no program here tells the kernel's tables")
def test_routes_are_those_of_the_kernel():
    expected = set()
    for version, default in (("-4", "0.0.0.0/0"), ("-6", "::/0")):
        for one in told_by_ip(version, "route"):
            where = default if one["dst"] == "default" else one["dst"]
            expected.add((where if "/" in where else f"{where}/{32 if version == '-4' else 128}", one.get("dev", "")))
    found = {(line.split()[0], line.split(" at ")[-1].split()[0]) for line in routes_now().splitlines()}
    assert found == expected
