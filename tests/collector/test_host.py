"""What this host's kernel tells, read as it tells it."""

import os
import time
from pathlib import Path

import pytest

from yaffle.collector.host_reader import HostReader
from yaffle.records.counter_table import UNKNOWN
from yaffle.records.host_measures import BY_VERSION, IPV4, IPV6, OF_CPU, OF_HOST


def of_kernel(name, table, key):
    """The plain way to a counter of net/snmp and net/netstat."""
    lines = [line.split() for line in Path("/proc", name).read_text().splitlines() if line.startswith(f"{table}:")]
    return float(lines[1][lines[0].index(key)])


def told(table):
    return {(row["object"], row["measure"]): row["value"] for row in table.to_pylist()}


def test_what_the_kernel_counts_stands_between_two_of_its_own_readings():
    reader = HostReader("pier-office")
    pairs = [
        (IPV4, measure) for measure in (m for ms in BY_VERSION.values() for m in ms) if measure.source != "net/snmp6"
    ] + [("", measure) for measure in OF_HOST if measure.source in ("net/snmp", "net/netstat")]

    def plainly():
        return [of_kernel(m.source, *m.kernel.split(".")) for _, m in pairs]

    before, found, after = plainly(), told(reader.readings()), plainly()
    for (kind, measure), low, high in zip(pairs, before, after, strict=True):
        if measure.kernel != "Tcp.CurrEstab":
            assert low <= found[kind, measure.name] <= high, measure.name


def test_processors_memory_and_uptime():
    reader = HostReader("pier-office")
    found = told(reader.readings())
    cpus = {kind for kind, name in found if name == "cpu user"}
    assert len(cpus) == os.cpu_count()
    assert all(found[cpu, "interrupts"] > 0 and found[cpu, "softnet packets"] >= 0 for cpu in cpus)
    assert 0 < found["", "memory available"] <= found["", "memory total"]
    up = float(Path("/proc/uptime").read_text().split()[0])
    assert up - 5 < found["", "uptime"] <= up


def test_every_name_is_one_thing():
    names = [(m.name, version) for version, ms in BY_VERSION.items() for m in ms]
    names += [(m.name, "") for m in (*OF_HOST, *OF_CPU)]
    assert len(set(names)) == len(names)
    assert {name for name, version in names if version == IPV6} <= {name for name, version in names if version == IPV4}
    units = {}
    for measure in (*(m for ms in BY_VERSION.values() for m in ms), *OF_HOST, *OF_CPU):
        assert units.setdefault(measure.name, measure.unit) == measure.unit


def test_interfaces_are_counted_as_the_kernel_does():
    reader = HostReader("pier-office")

    def plainly():
        folder = Path("/sys/class/net/lo/statistics")
        return int((folder / "rx_bytes").read_text()), int((folder / "tx_packets").read_text())

    before, counters, after = plainly(), reader.counters(), plainly()
    (number,) = (i for (_, i), name in counters.names.items() if name == "lo")
    row = counters.rows[counters.rows["interface"] == number][0]
    assert before[0] <= row["in_octets"] <= after[0]
    assert before[1] <= row["out_unicast"] <= after[1]
    assert row["in_broadcast"] == UNKNOWN


def test_a_kernel_that_tells_less(tmp_path):
    (tmp_path / "net").mkdir()
    (tmp_path / "uptime").write_text("5.25 1.0\n")
    reader = HostReader("small", tmp_path, tmp_path)
    assert told(reader.readings()) == {("", "uptime"): 5.25}
    assert reader.counters().rows.size == 0
    assert "net/snmp" in reader.lacking and "pressure/cpu" in reader.lacking


@pytest.mark.parametrize("text", ["", "\n", "cpu", "Tcp: A B\n", "Tcp: A B\nTcp: 1\n", "\0\1", "x" * 10_000])
def test_files_that_make_no_sense(tmp_path, text):
    (tmp_path / "net").mkdir()
    for name in ("net/snmp", "net/netstat", "net/snmp6", "softirqs", "interrupts", "meminfo"):
        (tmp_path / name).write_text(text)
    HostReader("odd", tmp_path, tmp_path).readings()


def test_it_takes_next_to_nothing_of_a_processor():
    """A reading every ten seconds at under one percent of one processor: under 100 ms each, with much room."""
    reader = HostReader("pier-office")
    reader.readings()
    began = time.process_time()
    for _ in range(10):
        reader.readings(), reader.counters()
    assert (time.process_time() - began) / 10 < 0.1


_WIRELESS = """Inter-| sta-|   Quality        |   Discarded packets               | Missed | WE
 face | tus | link level noise |  nwid  crypt   frag  retry   misc | beacon | 22
 wlan0: 0000   54.  -56.  -256        0      0      0      7    0        3
 wlan1: 0000   odd
"""


def test_a_radio_link_where_there_is_one(tmp_path):
    (tmp_path / "net").mkdir()
    (tmp_path / "net/wireless").write_text(_WIRELESS)
    found = told(HostReader("pier-office", tmp_path, tmp_path).readings())
    assert found == {
        ("wlan0", "radio link quality"): 54,
        ("wlan0", "radio signal"): -56,
        ("wlan0", "radio noise"): -256,
        ("wlan0", "radio discarded retries"): 7,
        ("wlan0", "radio missed beacons"): 3,
    }
