"""Reads what this host's kernel counts: all at one moment, as readings and as counters of interfaces."""

import os
import socket
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import numpy as np
import pyarrow as pa

from yaffle.collector.readings import Reading, readings_table
from yaffle.records.counter_table import COUNTER, UNKNOWN, Counters
from yaffle.records.host_measures import BY_VERSION, OF_CPU, OF_HOST, RADIO, cpu_time

_TICKS = os.sysconf("SC_CLK_TCK")
_PRESSURE_S = 1e-6
_KIB = 1024
# Columns of net/dev.
_IN = {"in_octets": 0, "in_packets": 1, "in_errors": 2, "in_discards": 3, "in_multicast": 7}
_OUT = {"out_octets": 8, "out_packets": 9, "out_errors": 10, "out_discards": 11}
_SPEED_UNKNOWN = 0


class HostReader:
    """One host. proc, sys: where its kernel shows itself."""

    def __init__(self, device: str, proc: Path = Path("/proc"), sys: Path = Path("/sys")) -> None:
        self.device, self._proc, self._sys = device, proc, sys
        self._lacking: set[str] = set()

    @property
    def lacking(self) -> list[str]:
        """Files that this kernel does not have: what stands in them is not told."""
        return sorted(self._lacking)

    # --- numbers ---
    def readings(self, time_ns: int | None = None) -> pa.Table:
        """All numbers now, as rows of the table `readings`."""
        return readings_table(self.device, list(self._all()), time_ns if time_ns is not None else time.time_ns())

    def _all(self) -> Iterator[Reading]:
        named = {"net/snmp": self._pairs("net/snmp"), "net/netstat": self._pairs("net/netstat")}
        named["net/snmp6"] = self._columns("net/snmp6")
        named["meminfo"] = {name: value * _KIB for name, value in self._columns("meminfo").items()}
        uptime = self._text("uptime").split()
        named["uptime"] = {"": float(uptime[0])} if uptime else {}
        for kind in ("cpu", "memory", "io"):
            named[f"pressure/{kind}"] = self._pressure(f"pressure/{kind}")
        for version, measures in BY_VERSION.items():
            for measure in measures:
                if (value := named[measure.source].get(measure.kernel)) is not None:
                    yield Reading(version, measure, value)
        for measure in OF_HOST:
            if (value := named[measure.source].get(measure.kernel)) is not None:
                yield Reading("", measure, value)
        per_cpu = self._per_cpu()
        for measure in OF_CPU:
            for cpu, value in per_cpu.get((measure.source, measure.kernel), {}).items():
                yield Reading(cpu, measure, value)
        yield from self._radio()

    def _radio(self) -> Iterator[Reading]:
        """Wireless interfaces, where there are some: most hosts have none, which is no lack."""
        path = self._proc / "net/wireless"
        lines = path.read_text().splitlines()[2:] if path.exists() else []
        for line in lines:
            name, _, rest = line.partition(":")
            columns = rest.split()
            for measure in RADIO:
                place = int(measure.kernel) - 1
                with suppress(ValueError, IndexError):  # A driver that does not know writes something else.
                    yield Reading(name.strip(), measure, float(columns[place].rstrip(".")))

    def _text(self, name: str) -> str:
        try:
            return (self._proc / name).read_text()
        except OSError:
            self._lacking.add(name)
            return ""

    def _pairs(self, name: str) -> dict[str, float]:
        """Lines of names, each followed by a line of their values (net/snmp)."""
        lines = self._text(name).splitlines()
        found = {}
        for names, values in zip(lines[::2], lines[1::2], strict=False):
            table, *keys = names.split()
            for key, value in zip(keys, values.split()[1:], strict=False):
                if value.isdigit():  # What has no limit is told as -1.
                    found[f"{table.removesuffix(':')}.{key}"] = float(value)
        return found

    def _columns(self, name: str) -> dict[str, float]:
        """Lines of a name and a value."""
        parts = (line.split() for line in self._text(name).splitlines())
        return {part[0].removesuffix(":"): float(part[1]) for part in parts if len(part) > 1 and part[1].isdigit()}

    def _pressure(self, name: str) -> dict[str, float]:
        """Seconds in which tasks waited."""
        found = {}
        for line in self._text(name).splitlines():
            kind, *rest = line.split()
            told = dict(part.split("=", 1) for part in rest)
            if "total" in told:
                found[kind] = float(told["total"]) * _PRESSURE_S
        return found

    def _per_cpu(self) -> dict[tuple[str, str], dict[str, float]]:
        """By source and name, the value of each processor."""
        found: dict[tuple[str, str], dict[str, float]] = {}
        for line in self._text("stat").splitlines():
            name, *times = line.split()
            if name.startswith("cpu") and name != "cpu":
                for measure in OF_CPU:
                    if measure.source == "stat":
                        value = float(times[cpu_time(measure.kernel)]) / _TICKS
                        found.setdefault(("stat", measure.kernel), {})[name] = value
        self._interrupts(found)
        online = [name.lower() for name in self._text("softirqs").partition("\n")[0].split()]
        for place, line in enumerate(self._text("net/softnet_stat").splitlines()):
            values = line.split()
            number = int(values[12], 16) if len(values) > 12 else place  # The processor, of kernels that tell it.
            cpu = f"cpu{number}" if len(values) > 12 or place >= len(online) else online[place]
            for column in ("0", "1", "2"):
                found.setdefault(("net/softnet_stat", column), {})[cpu] = float(int(values[int(column)], 16))
        return found

    def _interrupts(self, found: dict[tuple[str, str], dict[str, float]]) -> None:
        for source in ("interrupts", "softirqs"):
            header, *lines = self._text(source).splitlines() or [""]
            cpus = [name.lower() for name in header.split()]
            sums = dict.fromkeys(cpus, 0.0)
            for line in lines:
                name, *values = line.split()
                counts = [float(value) for value in values[: len(cpus)] if value.isdigit()]
                if len(counts) < len(cpus):  # ERR and MIS: of all processors together.
                    continue
                if source == "softirqs":
                    found["softirqs", name.removesuffix(":")] = dict(zip(cpus, counts, strict=True))
                for cpu, value in zip(cpus, counts, strict=True):
                    sums[cpu] += value
            if cpus:
                found[source, ""] = sums

    def interrupts(self) -> dict[str, float]:
        """Interrupts, and soft interrupts that work on packets, of all processors since the start of the host."""
        found: dict[tuple[str, str], dict[str, float]] = {}
        self._interrupts(found)
        names = {"interrupts": ("interrupts", ""), "soft_interrupts": ("softirqs", "NET_RX")}
        return {name: sum(found.get(key, {}).values()) for name, key in names.items()}

    # --- interfaces ---
    def counters(self, time_ns: int | None = None) -> Counters:
        """What the interfaces counted until now."""
        moment = time_ns if time_ns is not None else time.time_ns()
        found = Counters(devices=[self.device])
        rows = []
        for line in self._text("net/dev").splitlines()[2:]:
            name, _, rest = line.rpartition(":")
            name, values = name.strip(), [int(value) for value in rest.split()]
            try:
                number = socket.if_nametoindex(name)
            except OSError:  # It went away meanwhile.
                continue
            found.names[0, number] = name
            rows.append(self._row(number, name, values, moment))
        found.rows = np.concatenate([np.zeros(0, COUNTER), *rows])
        return found

    def _row(self, number: int, name: str, values: list[int], time_ns: int) -> np.ndarray:
        row = np.zeros(1, COUNTER)
        for column in COUNTER.names or ():
            if COUNTER[column] == np.uint64:
                row[column] = UNKNOWN
        row["interface"], row["time_ns"], row["speed_bps"] = number, time_ns, self._speed_bps(name)
        told = {key: values[place] for key, place in (_IN | _OUT).items()}
        for key in ("in_octets", "out_octets", "in_errors", "out_errors", "in_discards", "out_discards"):
            row[key] = told[key]
        row["in_multicast"] = told["in_multicast"]
        row["in_unicast"] = max(0, told["in_packets"] - told["in_multicast"])  # Broadcasts are among these.
        row["out_unicast"] = told["out_packets"]  # The kernel does not tell casts of what it sends.
        return row

    def _speed_bps(self, name: str) -> int:
        """Of an interface that has one; 0 unknown."""
        with suppress(OSError, ValueError):
            return max(_SPEED_UNKNOWN, int((self._sys / "class/net" / name / "speed").read_text())) * 1_000_000
        return _SPEED_UNKNOWN
