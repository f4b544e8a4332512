"""A capture of the configuration: a child that captures into a ring, supervised like everything else."""

import asyncio
import json
import signal
import sys
from collections.abc import Iterator
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, field_validator

from yaffle.collector.configuration_parts import Part, Port, duration_ns
from yaffle.collector.supervisor import RUNNING, Job, State
from yaffle.collector.waits_task import CaptureMinutes, waits_job
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.live.packet_filter import WHOLE, program
from yaffle.memory_plan import bytes_of

_LEAST_RING = 1 << 20
_LONGEST_LINE = 1 << 20
_PATIENCE_S = 10.0


def _bytes(value: Any) -> int:
    if not isinstance(value, str):
        raise ValueError('an amount with its unit: "2GiB", "512MiB"')
    try:
        return bytes_of(value, "an amount", _LEAST_RING)
    except YaffleError as error:
        raise ValueError(str(error)) from error


class Capture(Part):
    """Packets of an interface (any: all of them) into a bounded ring of files."""

    interface: Annotated[str, Field(min_length=1)]
    ring: Annotated[str, Field(min_length=1)]
    limit_bytes: Annotated[int, BeforeValidator(_bytes)] = 2 << 30
    limit_time: Annotated[int, BeforeValidator(duration_ns)] = 0
    slice: Annotated[int, Field(ge=16, le=WHOLE, strict=True)] = WHOLE
    hosts: tuple[str, ...] = ()
    ports: tuple[Port, ...] = ()
    payload: Annotated[bool, Field(strict=True)] = True
    mask: Annotated[bool, Field(strict=True)] = False  # addresses masked, no payload
    waits: Annotated[bool, Field(strict=True)] = False  # who waited on whom, into the history

    @field_validator("hosts")
    @classmethod
    def _addresses(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        try:
            program(value)
        except YaffleError as error:
            raise ValueError(f"addresses ({error})") from error
        return value


def capture_jobs(told: Capture, keeper: Keeper | None) -> Iterator[Job]:
    """What is to be done."""
    only = [f"hosts {', '.join(told.hosts)}"] if told.hosts else []
    only += [f"ports {', '.join(map(str, told.ports))}"] if told.ports else []
    words = f"captures from {told.interface} into {told.ring}, at most {told.limit_bytes >> 20:,} MiB"
    if told.limit_time:
        words += f" and {told.limit_time / 1e9:,.0f} s"
    if only:
        words += f", only {' and '.join(only)}"
    wanted = {
        "interfaces": [told.interface], "ring": told.ring, "limit_bytes": told.limit_bytes,
        "limit_time_ns": told.limit_time, "slice_bytes": told.slice, "hosts": told.hosts, "ports": told.ports,
        "payload": told.payload, "mask": told.mask,
    }  # fmt: skip
    key = told.model_dump_json()
    minutes = CaptureMinutes(told.interface, keeper) if told.waits and keeper is not None else None
    yield Job("capture", told.interface, f"capture {key}", words, lambda s: _capture(wanted, minutes, s))
    if told.waits:
        yield waits_job(told.ring, told.interface, key, keeper)


async def _capture(wanted: dict[str, Any], minutes: CaptureMinutes | None, state: State) -> None:
    """Has a child capture until it is cancelled. Raises YaffleError where it cannot."""
    child = await asyncio.create_subprocess_exec(
        sys.executable, "-m", "yaffle.live.child", json.dumps(wanted),
        stdout=asyncio.subprocess.PIPE, limit=_LONGEST_LINE, start_new_session=True,
    )  # fmt: skip
    assert child.stdout is not None
    try:
        async for line in child.stdout:
            told = json.loads(line)
            if "error" in told:
                raise YaffleError(told["error"])
            if minutes is not None:
                minutes.take(told)
            lost = f"{told['dropped']:,} packets were dropped" if told["dropped"] else ""
            state.turn(RUNNING, told["trouble"] or lost)
            state.rates = f"{told['captured']:,} captured, {told['dropped']:,} dropped, {len(told['files'])} files"
        raise YaffleError("the process that captures ended")
    finally:
        if minutes is not None:
            minutes.end()
        if child.returncode is None:
            child.send_signal(signal.SIGTERM)
            try:
                await asyncio.wait_for(child.wait(), _PATIENCE_S)
            except TimeoutError:
                child.kill()
                await child.wait()
