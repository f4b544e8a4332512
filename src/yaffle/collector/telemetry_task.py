"""Reports of per-hop telemetry as they come: received, read a stretch at a time, kept as rows of the table `hops`.

A stretch is ten seconds by the clock, or what memory allows. A queue that stands longer, or across the border of two
stretches, is told in each of them.
"""

import asyncio
import time
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from yaffle.collector.configuration import Listen
from yaffle.collector.supervisor import BEHIND, Job, State
from yaffle.errors import YaffleError
from yaffle.history.datagram_socket import next_datagram, open_datagrams
from yaffle.history.keeper import Keeper
from yaffle.history.layout import HOPS
from yaffle.hops.hop_rows import moved_row, rows_of
from yaffle.hops.paths import Way
from yaffle.hops.reports import Datagrams, visits_of_reports
from yaffle.hops.telemetry import Telemetry
from yaffle.hops.visits import FlowKey

_EVERY_NS = 10 * 10**9
_MOST_BYTES = 32 << 20  # of one stretch
_AT_ONCE = 512
_MOST_WAYS = 1 << 16
_TOO_MANY = "more reports come than can be read: {} were given up"


@dataclass
class _Stretch:
    """Datagrams since a moment."""

    data: bytearray = field(default_factory=bytearray)
    sizes: list[int] = field(default_factory=list)
    heard_ns: list[int] = field(default_factory=list)

    def datagrams(self) -> Datagrams:
        size = np.array(self.sizes, np.int64)
        return Datagrams(np.frombuffer(bytes(self.data), np.uint8), np.cumsum(size) - size, size,
                         np.array(self.heard_ns, np.int64))  # fmt: skip


class _Receiver:
    """Holds what comes until it is taken; what finds no room is counted."""

    def __init__(self, told: Listen) -> None:
        self._loop, self._held = asyncio.get_running_loop(), _Stretch()
        self._drops: dict[int, int] = {}
        self.full = asyncio.Event()
        self.datagrams = self.given_up = 0
        self._sockets = []
        try:
            for port in told.telemetry:
                self._sockets.append(open_datagrams(told.bind, port))
        except OSError as error:
            self.close()
            why = f"{error.strerror or error}; another port, or another address, may be free"
            raise YaffleError(f"cannot listen on {told.bind}: {why}") from error
        for own in self._sockets:
            self._loop.add_reader(own, self._read, own)

    def _read(self, own) -> None:  # type: ignore[no-untyped-def]
        held = self._held
        for _ in range(_AT_ONCE):
            if (one := next_datagram(own)) is None:
                break
            data, _, arrived_ns, dropped = one
            if dropped >= 0:
                self._drops[own.fileno()] = dropped
            self.datagrams += 1
            if len(held.data) + len(data) > _MOST_BYTES:
                self.given_up += 1
                continue
            held.data += data
            held.sizes.append(len(data))
            held.heard_ns.append(arrived_ns or time.time_ns())
        if len(held.data) > _MOST_BYTES // 2:
            self.full.set()

    def take(self) -> _Stretch:
        """What came since it was last taken."""
        held, self._held = self._held, _Stretch()
        self.full.clear()
        return held

    @property
    def lost(self) -> int:
        """What the kernel dropped, and what was given up here."""
        return sum(self._drops.values()) + self.given_up

    def close(self) -> None:
        """Listens no more."""
        for own in self._sockets:
            self._loop.remove_reader(own)
            own.close()


class _Reader:
    """Reads stretch after stretch, and knows which way each flow went last."""

    def __init__(self, int_dscp: int) -> None:
        self._int_dscp = int_dscp
        self._ways: dict[FlowKey, Way] = {}

    def rows(self, held: _Stretch, from_ns: int, to_ns: int) -> tuple[pa.Table, int]:
        """(rows of a stretch, visits that they were made from)."""
        told = Telemetry(visits_of_reports([held.datagrams()], self._int_dscp))
        rows = [rows_of(told, from_ns, to_ns)]
        for flow in told.flows:
            if not flow.paths:
                continue
            first, last = flow.paths[0], max(flow.paths, key=lambda one: one.last_ns)
            former = self._ways.pop(flow.key, first.nodes)
            if former != first.nodes and len(rows) < _AT_ONCE:
                rows.append(moved_row(first.first_ns, flow.key, former, first.nodes))
            self._ways[flow.key] = last.nodes
        while len(self._ways) > _MOST_WAYS:  # Those that were silent longest.
            del self._ways[next(iter(self._ways))]
        return pa.concat_tables(rows), int(told.visits.rows.size)


def telemetry_job(told: Listen, keeper: Keeper | None) -> Job:
    """Listens for reports of per-hop telemetry."""
    ports = ", ".join(f"UDP {port}" for port in told.telemetry)
    return Job(
        "telemetry",
        told.bind,
        f"telemetry {told.bind} {told.telemetry} {told.int_dscp}",
        f"listens on {told.bind} for reports of per-hop telemetry: {ports}",
        lambda state: _receive(told, keeper, state),
    )


async def _receive(told: Listen, keeper: Keeper | None, state: State) -> None:
    """Receives until it is cancelled; what was held then is read and kept."""
    assert keeper is not None
    reader, receiver = _Reader(told.int_dscp), _Receiver(told)
    began_ns, visits, given_up = time.time_ns(), 0, 0
    try:
        while True:
            await _until(receiver.full, (_EVERY_NS - time.time_ns() % _EVERY_NS) / 1e9)
            to_ns = max(began_ns + 1, time.time_ns())
            held = receiver.take()
            if held.sizes:
                # On a thread: what comes meanwhile is received.
                rows, count = await asyncio.to_thread(reader.rows, held, began_ns, to_ns)
                visits += count
                kept = not rows.num_rows or keeper.put((HOPS, rows))
                lost = receiver.lost
                trouble = _TOO_MANY.format(f"{lost - given_up:,}") if lost > given_up else ""
                given_up = lost
                state.turn(state.state, keeper.trouble or ("" if kept else BEHIND) or trouble)
            state.rates = f"{receiver.datagrams:,} datagrams, {visits:,} visits of packets at nodes"
            state.more = {"datagrams": receiver.datagrams, "visits": visits, "lost_here": receiver.lost}
            began_ns = to_ns
    finally:
        receiver.close()
        held = receiver.take()
        if held.sizes:
            keeper.put((HOPS, reader.rows(held, began_ns, max(began_ns + 1, time.time_ns()))[0]))


async def _until(event: asyncio.Event, wait_s: float) -> None:
    try:
        await asyncio.wait_for(event.wait(), max(0.0, wait_s))
    except TimeoutError:
        return
