"""A device of the configuration as tasks for the supervisor: asked by SNMP, and its texts read by SSH."""

import asyncio
import random
import time
from collections.abc import Iterator

from yaffle.collector.device_configuration import Device, Ssh
from yaffle.collector.devices.agent import V3, Agent, AgentError
from yaffle.collector.devices.command_line import texts_of
from yaffle.collector.devices.watch import DeviceWatch, texts_table
from yaffle.collector.supervisor import BEHIND, RUNNING, WAITING, Job, State
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import TEXTS
from yaffle.history.store import History
from yaffle.units import duration

_APART_S = 0.06  # So much for each device, the first looks are spread over: not all are asked at once.
_ASK_AGAIN_S = 300.0  # after a device did not give its texts


def device_jobs(device: Device, keeper: Keeper | None, devices: int) -> Iterator[Job]:
    """What is to be done about one of so many devices; without a keeper only to be told."""
    called = f"{device.address} ({device.name})" if device.name else device.address
    how = f"SNMP version {device.version}" + (f" as {device.user}" if device.version == V3 else "")
    yield Job(
        "device",
        device.address,
        f"device {_key(device)}",
        f"asks {called} every {duration(device.every)} by {how} for {', '.join(device.tables)}",
        lambda state: _watch(device, keeper, devices, state),
    )
    if device.ssh is not None:
        ssh = device.ssh
        yield Job(
            "texts",
            device.address,
            f"texts {_key(device)}",
            f"reads {', '.join(ssh.texts)} of {called} every {duration(ssh.every)} by SSH as {ssh.user}",
            lambda state: _read_texts(device.address, ssh, keeper, state),
        )


def _key(device: Device) -> str:
    """All that it was told, secrets among it: never shown."""
    given = (device.community, device.auth, device.privacy, device.ssh and device.ssh.password)
    return f"{device.model_dump_json()} {hash(tuple(one.get_secret_value() if one else None for one in given))}"


async def _watch(device: Device, keeper: Keeper | None, devices: int, state: State) -> None:
    """Looks at multiples of the pause until it is cancelled."""
    assert keeper is not None
    credentials = await asyncio.to_thread(device.credentials)
    agent = Agent(device.address, device.port, credentials, device.timeout / 1e9)
    watch = DeviceWatch(device.address, agent, keeper, device.tables, device.every)
    every_s = device.every / 1e9
    await asyncio.sleep(random.uniform(0, min(every_s / 2, _APART_S * devices)))
    due, asked, answered = time.monotonic(), 0, 0
    try:
        while True:
            asked += 1
            began = time.monotonic()
            try:
                trouble = await watch.look()
                answered += 1
                if time.monotonic() - began > every_s:
                    trouble = f"{trouble}; " if trouble else ""
                    trouble += f"it took {time.monotonic() - began:.0f} s to answer: asked less often than told"
                state.turn(RUNNING, keeper.trouble or trouble)
            except AgentError as error:
                state.turn(WAITING, str(error))
            state.rates = f"{watch.readings:,} readings, {answered:,} of {asked:,} looks answered"
            due += every_s
            if due < time.monotonic():
                due = time.monotonic() + (every_s - (time.monotonic() - due) % every_s)
            await asyncio.sleep(due - time.monotonic())
    finally:
        watch.close()


async def _read_texts(device: str, ssh: Ssh, keeper: Keeper | None, state: State) -> None:
    """Reads them until it is cancelled; they are kept when they change."""
    assert keeper is not None
    password = await asyncio.to_thread(ssh.secret, device)
    known = {name: text for name, text, _ in History(keeper.writer.folder).latest_texts(device)}
    changes = 0
    while True:
        try:
            told = await texts_of(device, ssh.port, ssh.user, password, ssh.key_file, ssh.known_hosts, ssh.texts)
        except YaffleError as error:
            state.turn(WAITING, str(error))
            await asyncio.sleep(min(_ASK_AGAIN_S, ssh.every / 1e9))
            continue
        fresh = {name: text for name, text in told.items() if known.get(name) != text}
        kept = not fresh or keeper.put((TEXTS, texts_table(device, fresh, time.time_ns())))
        if kept:
            known |= fresh
            changes += len(fresh)
        state.turn(RUNNING, keeper.trouble or ("" if kept else BEHIND))
        state.rates = f"{changes:,} texts kept"
        await asyncio.sleep(ssh.every / 1e9)
