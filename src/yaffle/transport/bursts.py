"""How full the line was for how short a time: peaks of 1, 10 and 100 ms, and the milliseconds at a given rate."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s, Uint32s
from yaffle.capture.packets import MARK_BROADCAST, MARK_MULTICAST, Columns, Heads
from yaffle.kernels import kernel

SPANS_NS = (1_000_000, 10_000_000, 100_000_000)
_SLOT_NS = 1_000_000
_MOST_SLOTS = 50_000_000  # About 14 hours of milliseconds; longer periods are looked at in coarser slots.


@dataclass(frozen=True)
class Bursts:
    """Peaks in bit/s over each of SPANS_NS, when the highest millisecond was, and bytes by cast."""

    peak_bps: tuple[float, float, float]
    peak_at_ns: int
    slot_ns: int
    slots: Int64s  # bytes in each slot from first_ns on
    first_ns: int
    octets: dict[str, int]  # unicast, multicast, broadcast

    def full_ms_per_s(self, line_bps: float) -> Float64s:
        """For each second, in how many of its slots the line was at or over the rate, in ms."""
        full = self.slots * 8e9 / self.slot_ns >= line_bps
        a_second = max(1, 1_000_000_000 // self.slot_ns)
        padded = np.zeros(-(-full.size // a_second) * a_second, bool)
        padded[: full.size] = full
        return np.asarray(padded.reshape(-1, a_second).sum(axis=1) * (self.slot_ns / 1e6))


@kernel
def _fill(
    time_ns: Int64s,
    wire_bytes: Uint32s,
    head: Heads,
    mask: Bools,
    first_ns: int,
    slot_ns: int,
    slots: Int64s,
    casts: Int64s,
) -> None:
    for i in range(time_ns.size):
        if mask[i]:
            k = (time_ns[i] - first_ns) // slot_ns
            if 0 <= k < slots.size:
                slots[k] += wire_bytes[i]
                marks = head[i].marks
                casts[2 if marks & MARK_BROADCAST else 1 if marks & MARK_MULTICAST else 0] += wire_bytes[i]


def bursts(packets: Columns, mask: Bools, first_ns: int, last_ns: int) -> Bursts:
    """Bursts of the packets in the mask, from first_ns to last_ns.

    Raises: ValueError if the mask has another length.
    """
    if mask.shape != packets.time_ns.shape:
        raise ValueError(f"mask has shape {mask.shape}, expected {packets.time_ns.shape}")
    span = max(1, last_ns - first_ns + 1)
    slot_ns = max(_SLOT_NS, -(-span // _MOST_SLOTS))
    slots, casts = np.zeros(-(-span // slot_ns), np.int64), np.zeros(3, np.int64)
    _fill(packets.time_ns, packets.wire_bytes, packets.head, mask, first_ns, slot_ns, slots, casts)
    sums = np.concatenate([[0], np.cumsum(slots)])
    peaks = []
    for span_ns in SPANS_NS:
        width = max(1, min(slots.size, span_ns // slot_ns))
        peaks.append(float((sums[width:] - sums[:-width]).max() * 8e9 / (width * slot_ns)))
    at = first_ns + int(np.argmax(slots)) * slot_ns
    return Bursts(
        (peaks[0], peaks[1], peaks[2]),
        at,
        slot_ns,
        slots,
        first_ns,
        dict(zip(("unicast", "multicast", "broadcast"), casts.tolist(), strict=True)),
    )
