"""The simulated network: a clock with events, links with delay, rate, queue and loss, and taps that record packets."""

import heapq
import random
from collections.abc import Callable
from typing import Any, Protocol

MS = 1_000_000
S = 1_000_000_000


class Packet:
    """What travels. `size` counts the bytes on the wire; `fields` is the protocol's own."""

    __slots__ = ("fields", "hop", "ip_id", "route", "size", "tos", "ttl")

    def __init__(self, route: "list[Hop]", size: int, ip_id: int, fields: Any, tos: int = 0) -> None:
        self.route, self.size, self.ip_id, self.fields, self.tos = route, size, ip_id, fields, tos
        self.hop, self.ttl = 0, 64


class Hop(Protocol):
    """A stage on the way of a packet."""

    def enter(self, packet: Packet) -> None:
        """Takes the packet, and passes it to the next stage at its time."""


class World:
    """The clock and what is to happen."""

    def __init__(self, seed: int) -> None:
        self.now = 0
        self.random = random.Random(seed)
        self._events: list[tuple[int, int, Callable[..., object], tuple[Any, ...]]] = []
        self._number = 0

    def at(self, time_ns: int, action: Callable[..., object], *arguments: Any) -> None:
        """Calls the action at a time."""
        self._number += 1
        heapq.heappush(self._events, (time_ns, self._number, action, arguments))

    def run(self, until_ns: int) -> None:
        """Lets time pass."""
        events = self._events
        while events and events[0][0] <= until_ns:
            self.now, _, action, arguments = heapq.heappop(events)
            action(*arguments)

    def forward(self, packet: Packet) -> None:
        """Gives the packet to the next stage of its route."""
        hop = packet.route[packet.hop]
        packet.hop += 1
        hop.enter(packet)


class Link:
    """One direction of a line: a queue of limited size, a rate, a delay, and a chance of loss that may change in
    time.
    """

    def __init__(
        self,
        world: World,
        delay_ns: int,
        rate_bps: int = 0,
        queue_bytes: int = 1 << 30,
        loss: Callable[[int], float] | None = None,
        jitter_ns: int = 0,
        remark: int | None = None,
    ) -> None:
        self._world, self.delay_ns, self._rate, self._queue = world, delay_ns, rate_bps, queue_bytes
        self._loss, self._jitter, self._remark = loss, jitter_ns, remark
        self._free_at = 0
        self._arrives_after = 0
        self.dropped: list[tuple[int, Packet]] = []

    def enter(self, packet: Packet) -> None:
        """Queues, serializes, loses or delays the packet."""
        world = self._world
        leave = world.now
        if self._rate:
            start = max(world.now, self._free_at)
            if (start - world.now) * self._rate // (8 * S) > self._queue:
                self.dropped.append((world.now, packet))
                return
            leave = start + packet.size * 8 * S // self._rate
            self._free_at = leave
        if self._loss and world.random.random() < self._loss(world.now):
            self.dropped.append((world.now, packet))
            return
        packet.ttl -= 1
        if self._remark is not None:
            packet.tos = self._remark
        arrive = leave + self.delay_ns
        if self._jitter:
            arrive += int(world.random.expovariate(1 / self._jitter))
        self._arrives_after = max(self._arrives_after + 1, arrive)  # A line does not reorder.
        world.at(self._arrives_after, world.forward, packet)


class Tap:
    """An observation point: records what passes, by its own clock."""

    def __init__(self, world: World, name: str, offset_ns: int = 0) -> None:
        self._world, self.name, self.offset_ns = world, name, offset_ns
        self.seen: list[tuple[int, int, int, int, Any]] = []  # time, ip_id, ttl, tos, fields

    def enter(self, packet: Packet) -> None:
        """Notes the packet and lets it pass."""
        self.seen.append((self._world.now + self.offset_ns, packet.ip_id, packet.ttl, packet.tos, packet.fields))
        self._world.forward(packet)
