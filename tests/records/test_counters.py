"""Counters of interfaces: what they rose by across wraps and resets, and tables of them."""

import itertools

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest

from yaffle.errors import YaffleError
from yaffle.records.counter_file import read_counters
from yaffle.records.counter_table import UNKNOWN, rises, unknown_counters

S = 10**9


def readings(*told, speed=10**9, every_s=60):
    rows = unknown_counters(len(told))
    rows["in_octets"], rows["speed_bps"], rows["interface"] = np.array(told, np.uint64), speed, 3
    rows["time_ns"] = np.arange(len(told)) * every_s * S
    return rows


def plain_rises(rows):
    """One after the other, with whole numbers."""
    found = []
    for a, b in itertools.pairwise(rows):
        one, two = int(a["in_octets"]), int(b["in_octets"])
        most = int(b["speed_bps"]) * int(b["time_ns"] - a["time_ns"]) / S * 1.25 / 8
        if two < one:
            two += 1 << 32 if 1 << 31 <= one < 1 << 32 else 1 << 64
            if two - one > most:
                continue
        found.append(two - one)
    return found


def test_rises_across_wraps_and_resets():
    rows = readings(100, 700, (1 << 32) - 50, 150, 2**20, 30, 90)
    found, resets = rises(rows)
    assert found["in_octets"].tolist() == [600, (1 << 32) - 750, 200, 2**20 - 150, 60]
    assert resets == 1
    wide, resets = rises(readings((1 << 64) - 100, 200))
    assert (wide["in_octets"].tolist(), resets) == ([300], 0)
    assert (found["out_octets"] == -1).all()  # Nobody told those.


@pytest.mark.parametrize("seed", range(8))
def test_rises_are_those_of_the_plain_way(seed):
    rng = np.random.default_rng(seed)
    told = np.cumsum(rng.integers(0, 1 << 31, 60)).astype(np.uint64)
    told[30:] -= told[30] if seed % 3 == 0 else np.uint64(0)
    told = told % np.uint64(1 << 32) if seed % 2 else told
    rows = readings(*told.tolist())
    assert rises(rows)[0]["in_octets"].tolist() == plain_rises(rows)


def test_interfaces_are_kept_apart_and_sorted_by_time():
    one, two = readings(0, 10, 30), readings(5, 6, 9)
    two["device"] = 1
    both = np.concatenate([two[::-1], one])
    found, _ = rises(both)
    assert found["in_octets"].tolist() == [10, 20, 1, 3]


def test_tables_of_counters_are_read(tmp_path):
    path = tmp_path / "c.csv"
    path.write_text(
        "device,interface,name,time,in_octets,out_octets,speed_bps\nsw1,7,uplink,2026-11-17T08:00:00Z,10,20,1000\nsw1,7,uplink,2026-11-17T08:01:00Z,30,,1000\n"
    )
    found = read_counters(path)
    assert (found.devices, found.name(0, 7), found.name(0, 9)) == (["sw1"], "uplink", "interface 9")
    assert found.rows["in_octets"].tolist() == [10, 30]
    assert found.rows["out_octets"][1] == UNKNOWN
    assert int(np.diff(found.rows["time_ns"])[0]) == 60 * S
    table = pa.table({"device": ["a", "b"], "interface": [1, 1], "time": [S, 2 * S], "in_errors": [0, 1]})
    pyarrow.parquet.write_table(table, tmp_path / "c.parquet")
    assert read_counters(tmp_path / "c.parquet").rows["in_errors"].tolist() == [0, 1]


def test_other_tables_are_refused_with_what_they_lack(tmp_path):
    (tmp_path / "a.csv").write_text("x,y\n1,2\n")
    with pytest.raises(YaffleError, match="lacks the columns device, interface, time"):
        read_counters(tmp_path / "a.csv")
    (tmp_path / "b.parquet").write_bytes(b"PAR1 nothing")
    with pytest.raises(YaffleError, match="cannot be read"):
        read_counters(tmp_path / "b.parquet")
    (tmp_path / "c.csv").write_text("device,interface,time\nsw1,x,yesterday\n")
    with pytest.raises(YaffleError, match="does not hold"):
        read_counters(tmp_path / "c.csv")
