"""One device, asked again and again: what it counts each time, what seldom changes every fifth time."""

import time
from collections.abc import Awaitable, Callable

import pyarrow as pa

from yaffle.collector.device_configuration import ADDRESSES, ETHERNET, HEALTH, INTERFACES, NEIGHBOURS
from yaffle.collector.devices.agent import Agent, AgentError, SilentError
from yaffle.collector.devices.health import processors_and_memory, sensors, uptime, words_of
from yaffle.collector.devices.interfaces import Interfaces
from yaffle.collector.devices.tables import addresses, forwarding, lldp
from yaffle.collector.intervals import GAP_NS, Held, HeldIntervals
from yaffle.collector.readings import Reading, readings_table
from yaffle.collector.supervisor import BEHIND
from yaffle.history import layout
from yaffle.history.keeper import Keeper
from yaffle.history.store import History
from yaffle.records.flow_table import FlowRecords

SELDOM = 5  # Each so manieth time what seldom changes is read.


class DeviceWatch:
    """One device by its configured address. tables: which of them are read."""

    def __init__(self, device: str, agent: Agent, keeper: Keeper, tables: tuple[str, ...], every_ns: int) -> None:
        self._device, self._agent, self._keeper, self._tables = device, agent, keeper, tables
        self._interfaces = Interfaces(device)
        self._uptime_s = -1.0
        self._count = 0
        self._trouble: list[str] = []
        self._kept = True
        self.readings = 0
        history, now = History(keeper.writer.folder), time.time_ns()
        self._words = {name: text for name, text, _ in history.latest_texts(device)}
        self._held = {}
        for name in (layout.ADDRESSES, layout.NEIGHBOURS):
            # What is read seldom is missed seldom: only after some readings without it, it is gone.
            held = self._held[name] = HeldIntervals(layout.TABLE[name], device, max(GAP_NS, 3 * SELDOM * every_ns))
            held.go_on(history.intervals(name, now - held.gap_ns), now)

    async def look(self) -> str:
        """Asks for all that is due, and hands it over; what could not be had, in words. Raises AgentError where the
        device does not answer.
        """
        self._trouble, self._kept = [], True
        if self._count == 0 or self._agent.needs_beginning:
            await self._agent.begin()
        found = await uptime(self._agent)
        began = found[0].value if found else 0.0
        seldom = self._count % SELDOM == 0 or began < self._uptime_s
        self._uptime_s, self._count = began, self._count + 1
        try:
            await self._parts(found, seldom)
        finally:  # What it told before it fell silent counts.
            self._put((layout.READINGS, readings_table(self._device, found, time.time_ns())))
            self.readings += len(found)
        return "; ".join([*([] if self._kept else [BEHIND]), *self._trouble])

    async def _parts(self, found: list[Reading], seldom: bool) -> None:
        """All tables that are due. Raises SilentError where the device does not answer any more."""
        if seldom:
            await self._part("what it is", self._learn_words)
        if INTERFACES in self._tables:
            if seldom:
                await self._part("interfaces", lambda: self._interfaces.learn(self._agent))
            await self._part("counters", lambda: self._counters(found))
        if HEALTH in self._tables:
            await self._part("processors and memory", lambda: self._add(found, processors_and_memory(self._agent)))
            if seldom:
                await self._part("sensors", lambda: self._add(found, sensors(self._agent)))
        if ETHERNET in self._tables and seldom:
            await self._part("errors of the wire", lambda: self._add(found, self._interfaces.ethernet(self._agent)))
        if ADDRESSES in self._tables and seldom:
            await self._part("addresses", self._addresses)
        if NEIGHBOURS in self._tables and seldom:
            await self._part("neighbors", self._neighbours)

    async def _part(self, words: str, work: Callable[[], Awaitable[None]]) -> None:
        """One table: what is wrong with it stops no other."""
        try:
            await work()
        except SilentError:
            raise
        except AgentError as error:
            self._trouble.append(f"{words} cannot be read: {error}")

    async def _add(self, found: list[Reading], more: Awaitable[list[Reading]]) -> None:
        found += await more

    async def _counters(self, found: list[Reading]) -> None:
        counters, status = await self._interfaces.read(self._agent)
        found += status
        self.readings += counters.rows.size
        self._put(FlowRecords(counters=counters))

    async def _learn_words(self) -> None:
        told = await words_of(self._agent)
        self.keep_texts({name: text for name, text in told.items() if self._words.get(name) != text})

    def keep_texts(self, told: dict[str, str]) -> None:
        """Keeps texts that changed."""
        self._words |= told
        if told:
            self._put((layout.TEXTS, texts_table(self._device, told, time.time_ns())))

    async def _addresses(self) -> None:
        self._hold(layout.ADDRESSES, await addresses(self._agent, self._interfaces))

    async def _neighbours(self) -> None:
        bridge = await forwarding(self._agent, self._interfaces)
        self._hold(layout.NEIGHBOURS, bridge | await lldp(self._agent, self._interfaces))

    def _hold(self, table: str, now: set[Held]) -> None:
        self._put((table, self._held[table].seen(now, time.time_ns())))

    def _put(self, found: "FlowRecords | tuple[str, pa.Table]") -> None:
        if isinstance(found, tuple) and not found[1].num_rows:
            return
        self._kept = self._keeper.put(found) and self._kept

    def close(self) -> None:
        """Writes what is open."""
        for table, held in self._held.items():
            self._put((table, held.last()))


def texts_table(device: str, told: dict[str, str], time_ns: int) -> pa.Table:
    """Rows of the table `texts`."""
    return pa.table(
        {
            "time_ns": pa.array([time_ns] * len(told), pa.int64()),
            "device": pa.array([device] * len(told), pa.string()),
            "name": pa.array(list(told), pa.string()),
            "text": pa.array(list(told.values()), pa.string()),
        }
    )
