"""What a collector can be told to do, as tasks for its supervisor."""

import asyncio
import socket
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from yaffle.collector.capture_task import capture_jobs
from yaffle.collector.configuration import Configuration, Host, Listen
from yaffle.collector.device_tasks import device_jobs
from yaffle.collector.devices.watch import texts_table
from yaffle.collector.flow_sender import FlowSender
from yaffle.collector.held_addresses import held_now, routes_now
from yaffle.collector.host_reader import HostReader
from yaffle.collector.intervals import GAP_NS, HeldIntervals
from yaffle.collector.mesh_task import mesh_jobs
from yaffle.collector.own_radio import RadioWatch
from yaffle.collector.probe_task import probe_jobs, responder_job
from yaffle.collector.report_task import report_jobs
from yaffle.collector.sock_diag import SocketWatch
from yaffle.collector.socket_flows import SocketFlows
from yaffle.collector.socket_owners import owners
from yaffle.collector.socket_snapshot import (
    INTERFACES_FILE,
    SOCKETS_FILE,
    Snapshots,
    interfaces_now,
    is_wanted,
    write_snapshot,
)
from yaffle.collector.supervisor import BEHIND, Job, State
from yaffle.collector.telemetry_task import telemetry_job
from yaffle.collector.watch_task import watch_jobs
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import ADDRESSES, READINGS, TABLE, TEXTS
from yaffle.history.reception import Reception
from yaffle.history.reception_words import line
from yaffle.history.store import History
from yaffle.records.flow_table import FlowRecords
from yaffle.units import duration

_LOOK_S = 0.5
_ROUTES = "routes"
_SHOWN_EVERY_S, _OWNERS_EVERY_S = 1.0, 5.0
_ALL_TRANSPORTS = (socket.IPPROTO_TCP, socket.IPPROTO_UDP)
_LOOK_AT_ADDRESSES_S = 10.0


def jobs(told: Configuration, keeper: Keeper | None) -> Iterator[Job]:
    """All that a configuration asks for; without a keeper only to be told."""
    if told.listen is not None:
        own = told.listen
        if own.telemetry:
            yield telemetry_job(own, keeper)
        ports = ", ".join([*(f"UDP {port}" for port in own.udp), *(f"TCP {port}" for port in own.tcp)])
        if ports:
            yield Job(
                "listen",
                own.bind,
                f"listen {own.model_dump_json()}",
                f"listens on {own.bind}: {ports}",
                lambda state: _listen(own, keeper, state),
            )
    if told.host is not None:
        host = told.host
        name = host.name or socket.gethostname()
        yield Job(
            "host",
            name,
            f"host {host.model_dump_json()}",
            f"reads this host's counters every {duration(host.every)}, as {name}",
            lambda state: _read_host(name, host, keeper, state),
        )
        yield Job(
            "addresses",
            name,
            f"addresses {host.model_dump_json()}",
            f"keeps which hardware address has which IP address at {name}, and since when",
            lambda state: _watch_addresses(name, host, keeper, state),
        )
        if host.sockets:
            there = f", and sends them on to {host.export}" if host.export else ""
            yield Job(
                "sockets",
                name,
                f"sockets {host.model_dump_json()}",
                f"keeps what this host's TCP connections carried every {duration(host.every)}, as flow records{there}",
                lambda state: _watch_sockets(name, host, keeper, state),
            )
    for capture in told.capture:
        yield from capture_jobs(capture, keeper)
    yield from probe_jobs(told.probe, keeper)
    yield from mesh_jobs(told.mesh, keeper)
    if told.responder is not None:
        yield responder_job(told.responder)
    yield from watch_jobs(told.watch, told.notify, told.response, told.maintenance, keeper)
    yield from report_jobs(told.report, told.notify, keeper)
    for device in told.device:
        yield from device_jobs(device, keeper, len(told.device))


async def _listen(told: Listen, keeper: Keeper | None, state: State) -> None:
    """Receives until it is cancelled."""
    assert keeper is not None
    reception = Reception(keeper, told.bind, told.udp, told.tcp, path_delay=told.path_delay)
    reception.start()
    try:
        while True:
            await asyncio.sleep(_LOOK_S)
            state.turn(state.state, reception.status.trouble)
            state.rates = line(reception.status)
    finally:
        await asyncio.to_thread(reception.stop)


async def _read_host(name: str, told: Host, keeper: Keeper | None, state: State) -> None:
    """Reads at whole multiples of the pause, whatever the clock does meanwhile."""
    assert keeper is not None
    reader = HostReader(name)
    every_s, count = told.every / 1e9, 0
    due = time.monotonic()
    radio = RadioWatch(name)
    while True:
        readings, counters = reader.readings(), reader.counters()
        # On a thread: the library has an event loop of its own.
        on_air = await asyncio.to_thread(radio.look, time.time_ns())
        if not readings.num_rows:
            raise YaffleError("this kernel tells nothing under /proc")
        kept = keeper.put((READINGS, readings)) and keeper.put(FlowRecords(counters=counters))
        kept = all([keeper.put(told) for told in on_air.items()]) and kept
        count += readings.num_rows + counters.rows.size
        lacking = f"this kernel does not tell {', '.join(reader.lacking)}" if reader.lacking else radio.trouble
        state.turn(state.state, keeper.trouble or ("" if kept else BEHIND) or lacking)
        state.rates = f"{count:,} readings"
        due += every_s
        if due < time.monotonic():  # The machine slept: what was missed is missed.
            due = time.monotonic() + every_s
        await asyncio.sleep(due - time.monotonic())


async def _watch_addresses(name: str, told: Host, keeper: Keeper | None, state: State) -> None:
    """Looks until it is cancelled; what is open then is written."""
    assert keeper is not None
    held = HeldIntervals(TABLE[ADDRESSES], name)
    history = History(keeper.writer.folder)
    known = next((text for own, text, _ in history.latest_texts(name) if own == _ROUTES), "")
    held.go_on(history.intervals(ADDRESSES, time.time_ns() - GAP_NS), time.time_ns())
    try:
        while True:
            # On a thread: the library has an event loop of its own.
            now = await asyncio.to_thread(held_now)
            kept = True
            if (moved := held.seen(now, time.time_ns())).num_rows:
                kept = keeper.put((ADDRESSES, moved))
            state.turn(state.state, keeper.trouble or ("" if kept else BEHIND))
            if (routes := await asyncio.to_thread(routes_now)) != known:
                known = routes
                keeper.put((TEXTS, texts_table(name, {_ROUTES: routes}, time.time_ns())))
            state.rates = f"{len(now):,} addresses, {routes.count(chr(10)) + 1:,} routes"
            await asyncio.sleep(max(_LOOK_AT_ADDRESSES_S, told.every / 1e9))
    finally:
        if (last := held.last()).num_rows:
            keeper.put((ADDRESSES, last))


async def _watch_sockets(name: str, told: Host, keeper: Keeper | None, state: State) -> None:
    """Looks at whole multiples of the pause; ends of connections are heard as they come."""
    assert keeper is not None
    flows = SocketFlows(name)
    loop, sender = asyncio.get_running_loop(), await asyncio.to_thread(FlowSender, told.export) if told.export else None
    with SocketWatch() as watch:
        looked_at = asyncio.create_task(_show_sockets(name, watch, keeper.writer.folder))
        loop.add_reader(watch.handle, watch.hear)
        try:
            due = time.monotonic()
            while True:
                found = flows.seen(watch.sockets(), watch.ended(), time.time_ns())
                kept = not found.rows.size or keeper.put(found)
                if sender is not None:
                    sender.send(found)
                if looked_at.done():  # It never ends by itself: what went wrong is this task's.
                    looked_at.result()
                state.turn(state.state, keeper.trouble or ("" if kept else BEHIND) or _lost(watch, flows, sender))
                state.rates = f"{flows.exporter.records:,} flow records"
                due = max(due + told.every / 1e9, time.monotonic())
                await asyncio.sleep(due - time.monotonic())
        finally:
            loop.remove_reader(watch.handle)
            looked_at.cancel()
            await asyncio.gather(looked_at, return_exceptions=True)
            keeper.put(flows.seen(watch.sockets(), watch.ended(), time.time_ns()))
            if sender is not None:
                sender.close()


async def _show_sockets(name: str, watch: SocketWatch, folder: Path) -> None:
    """While somebody looks, what all sockets are doing, once a second. A disk without room shows nothing new."""
    snapshots, owned, asked = Snapshots(name), {}, 0.0
    reader = HostReader(name)
    while True:
        await asyncio.sleep(_SHOWN_EVERY_S)
        if is_wanted(folder):
            if time.monotonic() - asked >= _OWNERS_EVERY_S:
                owned, asked = await asyncio.to_thread(owners), time.monotonic()
            table = snapshots.table(watch.sockets(_ALL_TRANSPORTS), owned, time.time_ns())
            with suppress(OSError):
                await asyncio.to_thread(write_snapshot, folder, SOCKETS_FILE, table)
                await asyncio.to_thread(write_snapshot, folder, INTERFACES_FILE, interfaces_now(reader))


def _lost(watch: SocketWatch, flows: SocketFlows, sender: FlowSender | None) -> str:
    """What of sockets could not be had or sent."""
    words = []
    if watch.overflows:
        words.append(f"too many connections ended at once ({watch.overflows} times): what they carried last is missing")
    elif flows.vanished:
        words.append(f"{flows.vanished:,} connections went without a word: what they carried last is missing")
    if sender is not None and sender.refused:
        words.append(f"{sender.refused:,} datagrams of flow records were not taken")
    return "; ".join(words)
