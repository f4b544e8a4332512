"""Classes of service on a segment: load, loss and delay by differentiated services code point (RFC 2474), as packets
enter it.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Float64s
from yaffle.capture.captured import Capture
from yaffle.capture.registry import marking
from yaffle.path.segments import Way

BIN_NS = 10_000_000  # Loads are counted so finely: what a queue sees.
MOST_BINS = 300_000  # 50 min of them; of a longer period the intervals are longer.
_PEAK_NS = 1_000_000_000


@dataclass(frozen=True)
class ClassLoad:
    """One class on one direction of a segment. Delays in ns, nan where nothing arrived."""

    dscp: int
    packets: int
    octets: int
    mean_bps: float
    peak_bps: float  # the most of any second
    lost: int
    least_ns: float
    median_ns: float
    p95_ns: float
    bits: Float64s  # in each interval of `ClassLoads.bin_ns`

    @property
    def name(self) -> str:
        """The code point's name."""
        return marking(self.dscp)

    @property
    def share_lost(self) -> float:
        """Part of its packets that was lost."""
        return self.lost / self.packets if self.packets else 0.0


@dataclass(frozen=True)
class ClassLoads:
    """All classes of one direction in a period, those with most bytes first."""

    classes: list[ClassLoad]
    first_ns: int
    bin_ns: int

    @property
    def whole(self) -> Float64s:
        """Bits of all classes in each interval."""
        return np.sum([one.bits for one in self.classes], axis=0) if self.classes else np.zeros(1)


def class_loads(capture: Capture, way: Way, first_ns: int, last_ns: int) -> ClassLoads:
    """What entered one direction of a segment in a period, by class. Sizes are those of whole packets on the wire."""
    packets = capture.packets
    times = packets.time_ns[way.sent]
    own = (times >= first_ns) & (times <= last_ns)
    span = max(1, last_ns - first_ns)
    bin_ns = max(BIN_NS, -(-span // MOST_BINS))
    bins = span // bin_ns + 1
    came = way.arrived >= 0
    delay = np.full(way.sent.size, np.nan)
    delay[came] = way.delay_ns
    rows, delay, came = way.sent[own], delay[own], came[own]
    code = packets.tos[rows].astype(np.int64) >> 2
    place = (packets.time_ns[rows] - first_ns) // bin_ns
    size = packets.wire_bytes[rows].astype(np.float64)
    second = max(1, _PEAK_NS // bin_ns)
    found = []
    for dscp in np.unique(code).tolist():
        mine = code == dscp
        bits = np.asarray(np.bincount(place[mine], size[mine] * 8, bins), np.float64)
        delays = np.sort(delay[mine & came])
        least, median, p95 = (
            float(delays[min(delays.size - 1, int(delays.size * q))]) if delays.size else float("nan")
            for q in (0.0, 0.5, 0.95)
        )
        seconds = np.add.reduceat(bits, np.arange(0, bins, second))
        peak = float(seconds.max()) / min(1.0, max(second, 1) * bin_ns / 1e9)
        octets = int(size[mine].sum())
        found.append(
            ClassLoad(
                dscp,
                int(mine.sum()),
                octets,
                octets * 8e9 / span,
                peak,
                int((mine & ~came).sum()),
                least,
                median,
                p95,
                bits,
            )
        )
    return ClassLoads(sorted(found, key=lambda one: -one.octets), first_ns, bin_ns)
