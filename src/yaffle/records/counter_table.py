"""Counters of interfaces as columns, whoever told them, and what they rose by from one reading to the next.

Meanings are those of the interfaces' MIB (RFC 2863): octets, packets by cast, errors, discards, speed.
"""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s, Structs, Uint64s

UNKNOWN = np.uint64(0xFFFFFFFFFFFFFFFF)
COUNTS = (
    "in_octets", "out_octets", "in_unicast", "out_unicast", "in_multicast", "out_multicast", "in_broadcast",
    "out_broadcast",
    "in_errors", "out_errors", "in_discards", "out_discards",
)  # fmt: skip
COUNTER = np.dtype(
    [
        ("device", np.int32),
        ("interface", np.int64),
        ("time_ns", np.int64),
        ("speed_bps", np.int64),
        *((name, np.uint64) for name in COUNTS),
    ]
)
RISE = np.dtype(
    [
        ("device", np.int32),
        ("interface", np.int64),
        ("first_ns", np.int64),
        ("last_ns", np.int64),
        ("speed_bps", np.int64),
        *((n, np.int64) for n in COUNTS),
    ]
)
_SLACK = 1.25  # A line may be read late: so much more than its speed allows is still believed.
_PACKETS_PER_BIT = 1 / 512  # No packet is shorter than 64 bytes.


@dataclass
class Counters:
    """Readings, and the devices and interfaces they are of."""

    rows: Structs = field(default_factory=lambda: np.zeros(0, COUNTER))
    devices: list[str] = field(default_factory=list)
    names: dict[tuple[int, int], str] = field(default_factory=dict)  # by device and interface
    width_ns: int = 0  # where only the last reading of each such interval is here; 0: all of them

    def device(self, name: str) -> int:
        """Number of a device, made where it is new."""
        if name not in self.devices:
            self.devices.append(name)
        return self.devices.index(name)

    def name(self, device: int, interface: int) -> str:
        """What an interface is called."""
        return self.names.get((device, interface)) or f"interface {interface}"

    def add(self, other: "Counters") -> None:
        """Takes in the readings of others."""
        place = np.array([self.device(name) for name in other.devices], np.int32)
        rows = other.rows.copy()
        if rows.size:
            rows["device"] = place[rows["device"]]
        self.rows = np.concatenate([self.rows, rows])
        self.width_ns = max(self.width_ns, other.width_ns)
        self.names.update({(int(place[device]), interface): text for (device, interface), text in other.names.items()})


def unknown_counters(count: int) -> Structs:
    """Rows in which nothing is known."""
    rows = np.zeros(count, COUNTER)
    for name in COUNTS:
        rows[name] = UNKNOWN
    return rows


def rises(rows: Structs) -> tuple[Structs, int]:
    """What each interface's counters rose by between two readings (RISE, by interface and time), and how many steps
    were resets.

    A counter that fell has wrapped at 32 or 64 bits if that takes no more than its line can carry in the time; else the
    device began anew, and the step is left out; so it is where a counter of 32 bits fell from its lower half. -1: not
    known.
    """
    rows = rows[np.lexsort((rows["time_ns"], rows["interface"], rows["device"]))]
    if rows.size < 2:
        return np.zeros(0, RISE), 0
    a, b = rows[:-1], rows[1:]
    own = (a["device"] == b["device"]) & (a["interface"] == b["interface"]) & (b["time_ns"] > a["time_ns"])
    a, b = a[own], b[own]
    found = np.zeros(a.size, RISE)
    for name in ("device", "interface", "speed_bps"):
        found[name] = b[name]
    found["first_ns"], found["last_ns"] = a["time_ns"], b["time_ns"]
    bits = np.where(b["speed_bps"] > 0, b["speed_bps"], 10**12) * ((b["time_ns"] - a["time_ns"]) / 1e9) * _SLACK
    reset = np.zeros(a.size, bool)
    for name in COUNTS:
        most = bits / 8 if name.endswith("octets") else bits * _PACKETS_PER_BIT
        found[name], fell = _rise(a[name], b[name], most)
        reset |= fell
    return found[~reset], int(reset.sum())


def _rise(before: Uint64s, after: Uint64s, most: Float64s) -> tuple[Int64s, Bools]:
    """Rise of one counter (-1 unknown), and where it can only have begun anew."""
    known = (before != UNKNOWN) & (after != UNKNOWN)
    fell = known & (after < before)
    step = (after - before).astype(np.float64)  # of 64 bits: wraps by itself
    narrow = fell & (before < np.uint64(1 << 32)) & (before >= np.uint64(1 << 31))
    step[narrow] = ((after[narrow] + np.uint64(1 << 32)) - before[narrow]).astype(np.float64)
    began_anew = fell & (step > most)
    step[began_anew | ~known] = -1
    return np.minimum(step, 2.0**62).astype(np.int64), began_anew
