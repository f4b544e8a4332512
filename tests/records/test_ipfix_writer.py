"""What is written as an IPFIX file is read again the same."""

import numpy as np

from yaffle.analysis import analyse
from yaffle.records.flow_table import Exporter, empty_flows
from yaffle.records.ipfix_writer import write_ipfix

S = 10**9
NOW = 1_790_000_000 * S


def some(count=2000, seed=1):
    rng = np.random.default_rng(seed)
    rows = empty_flows(count)
    rows["exporter"] = rng.integers(0, 2, count)
    rows["ipv6"] = rng.random(count) < 0.3
    for side in ("src", "dst"):
        rows[f"{side}_lo"] = rng.integers(1, 1 << 32, count)
        rows[f"{side}_hi"] = np.where(rows["ipv6"], 0x20010DB800000000, 0)
    for name, most in (
        ("src_port", 65536),
        ("dst_port", 65536),
        ("dscp", 64),
        ("flags", 64),
        ("ingress", 1000),
        ("egress", 1000),
        ("octets", 1 << 40),
        ("packets", 1 << 30),
    ):
        rows[name] = rng.integers(0, most, count)
    rows["transport"] = rng.choice([6, 17], count)
    rows["first_ns"] = NOW - rng.integers(1, 60_000, count) * 10**6
    rows["last_ns"] = rows["first_ns"] + rng.integers(0, 1000, count) * 10**6
    rows["arrived_ns"] = NOW + np.sort(rng.integers(0, 100, count)) * S
    rows["application"] = 7
    return rows


def test_a_file_of_messages_is_read_again(tmp_path):
    rows, exporters = some(), [Exporter("192.0.2.1", 5, 2, interfaces={3: "uplink"}), Exporter("192.0.2.2", 5, 1)]
    assert write_ipfix(tmp_path / "a.ipfix", rows, exporters) == rows.size
    again = analyse([tmp_path / "a.ipfix"]).flows
    assert [(e.domain, e.lost_records, e.undecoded) for e in again.exporters] == [(1, 0, 0), (2, 0, 0)]
    assert again.exporters[0].interfaces == {3: "uplink"}
    names = (
        "src_hi",
        "src_lo",
        "dst_hi",
        "dst_lo",
        "src_port",
        "dst_port",
        "transport",
        "dscp",
        "flags",
        "ingress",
        "egress",
        "first_ns",
        "last_ns",
        "octets",
        "packets",
        "application",
    )
    for number in (0, 1):
        sides = [table[table["exporter"] == number] for table in (rows, again.rows)]
        one, two = (sorted(zip(*(side[name].tolist() for name in names), strict=True)) for side in sides)
        assert one == two


def test_it_stops_when_told_and_leaves_nothing(tmp_path):
    assert write_ipfix(tmp_path / "a.ipfix", some(), [Exporter("a", 0, 2)] * 2, lambda _share: False) == 0
    assert list(tmp_path.iterdir()) == []
