"""Hosts that are themselves what is slow, by what they count."""

from types import SimpleNamespace

import pytest

from tests.findings.test_host_readings import rows
from yaffle.findings.strained_hosts import strained_hosts
from yaffle.history.layout import READINGS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.inventory.places import Places

HOUR = 1_790_000_000 // 3600 * 3600 * 10**9
S = 10**9
STEP_S = 60


def found(tmp_path, told):
    writer = HistoryWriter(tmp_path / "history", settle=False)
    writer.append_rows(READINGS, rows(*told))
    writer.close()
    return strained_hosts(SimpleNamespace(history=History(tmp_path / "history"), places=Places({})))


def cores(busy_of, cores=4, minutes=60, device="pier-office", kind="cpu user"):
    """Seconds of idleness and of work, by core; busy_of: share of a core in a minute."""
    told, idle, work = [], [0.0] * cores, [0.0] * cores
    for minute in range(minutes):
        for core in range(cores):
            busy = busy_of(core, minute)
            idle[core] += (1 - busy) * STEP_S
            work[core] += busy * STEP_S
            at = HOUR + minute * STEP_S * S
            told.append((at, device, f"cpu{core}", "cpu idle", idle[core], "s"))
            told.append((at, device, f"cpu{core}", kind, work[core], "s"))
    return told


def test_one_busy_core_of_several_is_told_with_what_it_did(tmp_path):
    (one,) = found(tmp_path, cores(lambda core, minute: 0.99 if core == 2 and minute >= 20 else 0.1))
    assert (one.cause, one.subject, one.grounds["object"]) == ("CPU core saturated", "pier-office", "cpu2")
    assert "one core of 4 (cpu2)" in one.sentence and "user time" in one.sentence
    assert one.grounds["others"] == pytest.approx(0.1, abs=0.01)
    assert "One process cannot use more than one core" in one.next_step
    ((first, last),) = one.grounds["stretches"]
    assert (first, last) == (HOUR + 20 * 60 * S, HOUR + 60 * 60 * S)


def test_packets_on_one_core_are_another_matter(tmp_path):
    (one,) = found(tmp_path, cores(lambda core, minute: 0.99 if core == 0 else 0.1, kind="cpu softirq"))
    assert "soft interrupts" in one.sentence and "over the cores" in one.next_step


def test_all_cores_busy_is_the_processor(tmp_path):
    (one,) = found(tmp_path, cores(lambda core, minute: 0.97))
    assert one.cause == "CPU saturated" and "others" not in one.sentence


def test_a_device_that_tells_its_load(tmp_path):
    told = [
        (HOUR + k * 60 * S, "192.0.2.9", f"processor {n}", "processor load", 98.0 if n == 1 else 4.0, "%")
        for k in range(60) for n in (1, 2)
    ]  # fmt: skip
    (one,) = found(tmp_path, told)
    assert one.cause == "CPU core saturated" and "no flow records of it in that time" in one.sentence


def test_short_work_and_resting_hosts_are_no_finding(tmp_path):
    assert not found(tmp_path, cores(lambda core, minute: 0.99 if minute in (30, 31) else 0.2))


@pytest.mark.parametrize(
    ("measure", "unit", "cause", "party"),
    [
        ("softnet drops", "packets", "softnet drops", "server"),
        ("tcp listen overflows", "connections", "listen overflows", "server"),
        ("udp receive buffer errors", "datagrams", "UDP buffer drops", "server"),
        ("fcs errors", "frames", "FCS errors", "network"),
        ("late collisions", "frames", "late collisions", "network"),
    ],
)
def test_what_should_not_be_counted_at_all(tmp_path, measure, unit, cause, party):
    told = [(HOUR + k * 60 * S, "crane", "port 7", measure, 5.0 + 40 * max(0, k - 30), unit) for k in range(60)]
    (one,) = found(tmp_path, told)
    assert (one.cause, one.party, one.subject) == (cause, party, "crane")
    assert one.grounds["count"] == 40 * 29 and "1,160" in one.sentence
    assert one.first_ns == HOUR + 30 * 60 * S


def test_a_total_that_stands_still_is_fine(tmp_path):
    told = [(HOUR + k * 60 * S, "crane", "cpu0", "softnet drops", 500.0, "packets") for k in range(60)]
    assert not found(tmp_path, told)
    assert not strained_hosts(SimpleNamespace(history=None))
