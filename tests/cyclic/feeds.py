"""Streams with a period, generated with their truth: drift of the sender's clock, jitter, losses, copies, bursts."""

from dataclasses import dataclass, field
from struct import pack

import numpy as np

from tests.frames import ether, udp

S0, MS, S = 1_795_000_000 * 10**9, 10**6, 10**9
DEVICE, CONTROLLER = b"\x02\0\0\0\0\x0a", b"\x02\0\0\0\0\x0b"


@dataclass
class Feed:
    """What was sent and what came of it. lost, doubled, left_out: cycles; held: (first cycle, cycles) that came all at
    once, after the last of them.
    """

    period_ns: int = 4 * MS
    cycles: int = 2000
    drift_ppm: float = 0.0
    jitter_ns: float = 20_000
    lost: set[int] = field(default_factory=set)
    doubled: set[int] = field(default_factory=set)
    left_out: set[int] = field(default_factory=set)
    held: list[tuple[int, int]] = field(default_factory=list)
    seed: int = 1

    def due(self, cycle):
        """When a cycle's packet is sent."""
        return S0 + round(cycle * self.period_ns * (1 + self.drift_ppm * 1e-6 * cycle / self.cycles))

    def arrivals(self):
        """(time, cycle) in order of arrival."""
        draw = np.random.default_rng(self.seed)
        found = []
        for cycle in range(self.cycles):
            if cycle in self.lost or cycle in self.left_out:
                continue
            came = self.due(cycle) + abs(draw.normal(0, self.jitter_ns))
            for first, count in self.held:
                if first <= cycle < first + count:
                    came = self.due(first + count) - 1000 * (first + count - cycle)
            found.append((int(came), cycle))
            if cycle in self.doubled:
                found.append((int(came) + 3000, cycle))
        return sorted(found)


def real_time(feed, identifier=0x8001, counter=True, sender=DEVICE):
    """As frames of EtherType 0x8892 with the counter at their end."""
    ticks = feed.period_ns // 31_250
    return [
        (at, _frame(sender, CONTROLLER, pack("!H", identifier) + b"\x05" * 40
                    + (pack("!HBB", cycle * ticks & 0xFFFF, 0x35, 0) if counter else b"\0\0\0\0")))
        for at, cycle in feed.arrivals()
    ]  # fmt: skip


def _frame(sender, receiver, body):
    return receiver + sender + b"\x88\x92" + body


def sensor(feed, counter=False, src="192.0.2.30", dst="239.1.1.7", port=5501):
    """As datagrams; with a counter that rises by one with each that is sent."""
    sent = {cycle: k for k, cycle in enumerate(c for c in range(feed.cycles) if c not in feed.left_out)}
    draw = np.random.default_rng(feed.seed + 7)
    found = []
    for at, cycle in feed.arrivals():
        noise = draw.integers(0, 256, 16, np.uint8).tobytes()
        head = b"\x01\x02\x03\x04" + (pack("<H", sent[cycle] & 0xFFFF) if counter else noise[:2])
        found.append((at, ether(udp(src, 40_000, dst, port, head + noise))))
    return found
