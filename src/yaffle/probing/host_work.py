"""What networking costs a host: interrupts, and soft interrupts for what was received (proc(5), /proc/stat)."""

import time
from dataclasses import dataclass
from pathlib import Path

HOST_WORK = ("interrupts_per_s", "receive_softirqs_per_s")
_STAT = Path("/proc/stat")
_NET_RX = 3  # place among softirqs, as the kernel numbers them (include/linux/interrupt.h)


@dataclass(frozen=True)
class HostWork:
    """Counts of the whole host since it was started, at a moment."""

    at_s: float  # monotonic
    interrupts: int
    receive_softirqs: int  # NET_RX, of all processors


def host_work() -> HostWork | None:
    """The counts now; None where the kernel tells none."""
    try:
        lines = {
            name: rest.split() for name, _, rest in (line.partition(" ") for line in _STAT.read_text().split("\n"))
        }
        return HostWork(time.monotonic(), int(lines["intr"][0]), int(lines["softirq"][1 + _NET_RX]))
    except (OSError, KeyError, IndexError, ValueError):
        return None


def per_second(before: HostWork | None, after: HostWork | None) -> dict[str, float]:
    """What a host did a second between two moments; nothing where a count is missing or began anew."""
    if before is None or after is None or after.at_s <= before.at_s or after.interrupts < before.interrupts:
        return {}
    span = after.at_s - before.at_s
    return {
        "interrupts_per_s": (after.interrupts - before.interrupts) / span,
        "receive_softirqs_per_s": (after.receive_softirqs - before.receive_softirqs) / span,
    }
