"""Values of measures by member are what their definitions say of the rows, counted the slow way."""

import numpy as np
import pytest

from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.records.catalogue import CATALOGUE, entry_of
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.flow_table import IPFIX, Exporter, FlowRecords, empty_flows
from yaffle.watching.member_values import GROUPS, Question, values
from yaffle.watching.windows import WhereError, Windows, checked

S = 10**9
NOW = 1_795_860_000 * S


def flow(rows, dice):
    own = empty_flows(rows)
    own["transport"] = 6
    own["src_lo"] = 0xC0000200 + dice.integers(1, 4, rows)
    own["dst_lo"] = 0xC6336400 + dice.integers(1, 3, rows)
    own["src_port"], own["dst_port"] = dice.integers(40_000, 60_000, rows), dice.choice([443, 5432], rows)
    own["first_ns"] = NOW + dice.integers(-90, 60, rows) * S
    own["last_ns"] = own["first_ns"] + dice.integers(0, 50, rows) * S
    own["octets"], own["packets"] = dice.integers(100, 10**6, rows), dice.integers(1, 1000, rows)
    own["egress"] = dice.integers(1, 3, rows)
    own["retransmissions"], own["busy_ns"] = dice.integers(0, 9, rows), 10**8
    own["round_trip_ns"] = dice.integers(10**6, 10**8, rows)
    own["arrived_ns"] = own["last_ns"]
    return own


@pytest.fixture
def history(tmp_path):
    dice = np.random.default_rng(3)
    now = [NOW]
    writer = HistoryWriter(tmp_path / "history", now_ns=lambda: now[0], settle=False)
    rows = flow(400, dice)
    exporter = Exporter("192.0.2.1", 1, IPFIX, interfaces={1: "up", 2: "down"})
    counters = Counters(devices=["192.0.2.1"], names={(0, 1): "up", (0, 2): "down"})
    own = unknown_counters(16)
    for k in range(16):
        own[k]["interface"], own[k]["time_ns"] = 1 + k % 2, NOW + (k // 2) * 10 * S - 20 * S
        own[k]["speed_bps"], own[k]["in_octets"], own[k]["out_octets"] = 10**6, 1000 * (k // 2) ** 2, 500 * k
    counters.rows = own
    writer.append(FlowRecords(rows, [exporter], counters=counters))
    tests = [
        {"kind": "connect", "target": f"198.51.100.{k % 2}:80", "at_ns": NOW + k * S, "ok": k % 3 > 0, "why": "",
         "round_trip_ms": float(k) if k % 3 else None}
        for k in range(60)
    ]  # fmt: skip
    writer.append_rows("probes", rows_of("desk", tests))
    writer.close()
    return History(tmp_path / "history"), rows


def asked(history, measure, of="", where="", first=NOW, width=60 * S, count=1):
    found = values(Windows(history), Question(entry_of(measure, of), of, where), first, width, count)
    return {subject: own.tolist() for subject, own in found.of.items()}


def share(row, low, high):
    span = row["last_ns"] - row["first_ns"] + 1
    return max(0, min(row["last_ns"] + 1, high) - max(row["first_ns"], low)) / span


def test_volume_is_spread_over_the_span_of_each_record(history):
    history, rows = history
    for width, count in ((60 * S, 1), (10 * S, 6)):
        found = asked(history, "volume", "exporter", width=width, count=count)["192.0.2.1"]
        for k in range(count):
            low, high = NOW + k * width, NOW + (k + 1) * width
            slow = sum(8e9 * int(row["octets"]) * share(row, low, high) / width for row in rows)
            assert found[k] == pytest.approx(slow, rel=1e-9)
    by_application = asked(history, "volume", "application")
    assert set(by_application) == {"web (TCP 443)", "database (TCP 5432)"}
    https = sum(8e9 * int(r["octets"]) * share(r, NOW, NOW + 60 * S) / (60 * S) for r in rows if r["dst_port"] == 443)
    assert by_application["web (TCP 443)"][0] == pytest.approx(https)
    where = asked(history, "volume", "exporter", "dst_port = 443 AND exporter = '192.0.2.1' -- only these")
    assert where["192.0.2.1"][0] == pytest.approx(https)


def test_what_kernels_measured_is_weighted_as_defined(history):
    history, rows = history
    own = [r for r in rows if NOW < r["last_ns"] <= NOW + 60 * S]
    slow = sum(int(r["round_trip_ns"]) * int(r["packets"]) for r in own) / sum(int(r["packets"]) for r in own) / 1e6
    assert asked(history, "round_trip")["all"][0] == pytest.approx(slow)
    again = 100 * sum(int(r["retransmissions"]) for r in own) / sum(int(r["packets"]) for r in own)
    assert asked(history, "retransmissions")["all"][0] == pytest.approx(again)
    pairs = asked(history, "records", "pair")
    assert sum(one[0] for one in pairs.values()) == len(own) and "192.0.2.1 to 198.51.100.1" in pairs


def test_counters_rise_from_reading_to_reading(history):
    history, _ = history
    found = asked(history, "utilization", "interface", first=NOW, width=40 * S)
    # Steps that end within 40 s: readings 3 to 6 of each; the fuller direction, of 1 Mbit/s.
    inward = max((1000 * (k**2 - (k - 1) ** 2)) * 8 / 10 / 1e6 * 100 for k in (3, 4, 5, 6))
    assert found["192.0.2.1 up"][0] == pytest.approx(inward)
    device = asked(history, "out_octets", "device", first=NOW, width=40 * S)
    assert device["192.0.2.1"][0] > 0


def test_tests_on_purpose(history):
    history, _ = history
    found = asked(history, "loss", "target", first=NOW - 1, width=60 * S)
    assert found == {"198.51.100.0:80": [pytest.approx(100 / 3)], "198.51.100.1:80": [pytest.approx(100 / 3)]}
    trips = asked(history, "round_trip", "target", first=NOW - 1, width=60 * S)
    assert set(trips) == set(found) and all(0 < own[0] < 60 for own in trips.values())
    assert asked(history, "test_failures", "test", "ok OR NOT ok", first=NOW - 1)["desk"][0] == pytest.approx(100 / 3)


def test_silence_is_nothing_of_a_count_and_unknown_of_the_rest(history):
    history, _ = history
    quiet = asked(history, "volume", "application", first=NOW + 3600 * S)
    assert quiet == {}
    assert asked(history, "round_trip", "target", first=NOW + 3600 * S) == {}


@pytest.mark.parametrize(
    "where", ["drop table told", "nonsense = 1", "(SELECT 1 FROM read_csv('/etc/passwd'))", "1) OR (1"]
)
def test_a_condition_speaks_of_its_rows_only(where):
    with pytest.raises(WhereError):
        checked("records", where)


def test_every_measure_can_be_asked_by_every_group(history):
    history, _ = history
    windows = Windows(history)
    for entry in CATALOGUE.values():
        for of in GROUPS[entry.table]:
            values(windows, Question(entry, of), NOW, 60 * S, 2)
