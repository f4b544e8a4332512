"""Tests on purpose of the configuration, and the responder for those of others, as tasks for the supervisor."""

import asyncio
import json
import random
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, model_validator

from yaffle.collector.configuration_parts import Duration, Every, Octets, Part, Port
from yaffle.collector.supervisor import BEHIND, RUNNING, Job, State
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.probing.for_others import asked_of
from yaffle.probing.kinds import KINDS, asked
from yaffle.probing.result import Result
from yaffle.probing.streams import CODECS, MOST_STREAMS
from yaffle.probing.sweep import KIND as SWEEP
from yaffle.probing.sweep import changed
from yaffle.probing.wanted import RESPONDER_PORT, Wanted
from yaffle.units import duration

_APART_S = 0.05  # So much for each test, the first ones are spread over.
_LOOK_S = 1.0
_TIMEOUT_NS = 2 * 10**9
_SCHEDULED = tuple(kind for kind in KINDS if kind != "storm")  # Nobody is disturbed without being asked.


class Probe(Part):
    """One test, again and again."""

    kind: str
    target: Annotated[str, Field(min_length=1)]
    name: str = ""
    every: Every = 60 * 10**9
    timeout: Duration = 0  # 0: 2 s, or somewhat less than `every`
    server: str = ""
    type: str = "A"
    over: str = "udp"
    packets: Annotated[int, Field(ge=1, le=10_000, strict=True)] = 20
    interval: Duration = 20_000_000
    seconds: Annotated[float, Field(gt=0, le=120)] = 5.0
    dscp: Annotated[int, Field(ge=0, le=63, strict=True)] = 0
    codec: str = ""
    status: int = 0
    text: str = ""
    proxy: str = ""
    against: str = ""
    elements: Annotated[bool, Field(strict=True)] = False
    ways: Annotated[int, Field(ge=1, le=32, strict=True)] = 1
    connections: Annotated[int, Field(ge=1, le=16, strict=True)] = 1
    both: Annotated[bool, Field(strict=True)] = False
    put: Octets = 0
    streams: Annotated[int, Field(ge=1, le=MOST_STREAMS, strict=True)] = 1
    poisson: Annotated[bool, Field(strict=True)] = False  # pauses by chance, `every` in the mean (RFC 2330)
    key_file: str = ""

    @model_validator(mode="after")
    def _known(self) -> "Probe":
        if self.kind not in _SCHEDULED:
            raise ValueError(f"kind: one of {', '.join(_SCHEDULED)} (not {self.kind})")
        if self.codec and self.codec not in CODECS:
            raise ValueError(f"codec: one of {', '.join(CODECS)} (not {self.codec})")
        return self

    @property
    def called(self) -> str:
        """By which name its results are known."""
        return self.name or f"{self.kind} {self.target}"

    def wanted(self) -> Wanted:
        """As it is asked. Raises YaffleError where its key cannot be had."""
        codec = self.codec or ("h264" if self.kind == "video" else "g711")
        timeout_ns = self.timeout or min(_TIMEOUT_NS, self.every * 9 // 10)
        return Wanted(
            self.kind, self.target, timeout_ns / 1e9, self.server, self.packets, self.interval / 1e9, self.seconds,
            self.dscp, codec, self.type, self.over, key_of(self.key_file), status=self.status, text=self.text,
            ways=self.ways, connections=self.connections, both=self.both, put_bytes=self.put, streams=self.streams,
            proxy=self.proxy, elements=self.elements, against=self.against,
        )  # fmt: skip

    def within(self, folder: Path) -> "Probe":
        """The same, with its file named from a folder on."""
        return self.model_copy(update={"key_file": str(folder / self.key_file)}) if self.key_file else self


class Responding(Part):
    """Answers tests of others."""

    bind: str = "127.0.0.1"
    port: Port = RESPONDER_PORT
    allow: tuple[str, ...] = ()
    key_file: str = ""

    def within(self, folder: Path) -> "Responding":
        """The same, with its file named from a folder on."""
        return self.model_copy(update={"key_file": str(folder / self.key_file)}) if self.key_file else self


def key_of(path: str) -> bytes:
    """The key in a file; empty without one. Raises YaffleError."""
    if not path:
        return b""
    try:
        return Path(path).read_bytes().strip()
    except OSError as error:
        raise YaffleError(f"{path}: the key cannot be read ({error.strerror or error})") from error


def probe_jobs(told: Sequence[Probe], keeper: Keeper | None) -> list[Job]:
    """What is to be done."""
    return [probe_job(one, len(told), keeper) for one in told]


def probe_job(one: Probe, many: int, keeper: Keeper | None, source: str = "") -> Job:
    """One of so many tests; source: the responder that does it, where it is not this host."""
    by = f" by {source}" if source else ""
    return Job(
        "probe",
        one.called,
        f"probe {source} {one.model_dump_json()}",
        f"tests {one.kind} of {one.target}{by} every {duration(one.every)}{' by chance' if one.poisson else ''}",
        lambda state: _probe(one, many, keeper, state, source),
    )


async def _probe(told: Probe, many: int, keeper: Keeper | None, state: State, source: str) -> None:
    """Tests at multiples of the pause, or at moments of a Poisson process, until it is cancelled."""
    assert keeper is not None
    wanted, every_s = told.wanted(), told.every / 1e9
    await asyncio.sleep(random.uniform(0, min(every_s, _APART_S * many)))
    due, sent, well, missed = time.monotonic(), 0, 0, 0
    former = await asyncio.to_thread(_former, told, keeper)
    while True:
        results = await (asked_of(source, wanted) if source else asked(wanted))
        if told.kind == SWEEP:
            results, former = [changed(results[0], former)], results[0].more["found"]
        sent, well = sent + len(results), well + sum(one.ok for one in results)
        kept = keeper.put((PROBES, rows_of(told.called, [one.as_json() for one in results])))
        state.turn(RUNNING, keeper.trouble or ("" if kept else BEHIND) or _why(results, missed))
        state.rates = f"{well:,} of {sent:,} well"
        due += random.expovariate(1 / every_s) if told.poisson else every_s
        now = time.monotonic()
        if due < now:  # It took longer than the pause: what was missed is missed, and told.
            late = int((now - due) // every_s) + 1
            missed += late
            due += late * every_s
        await asyncio.sleep(due - now)


def _former(told: Probe, keeper: Keeper) -> list[dict[str, Any]] | None:
    """Who was found by the last sweep that the history holds."""
    if told.kind != SWEEP:
        return None
    last = History(keeper.writer.folder).latest_probe(told.called)
    return json.loads(last) if last else None


def _why(results: list[Result], missed: int) -> str:
    words = [one.why for one in results if one.why]
    return "; ".join(
        [*dict.fromkeys(words), *([f"{missed:,} were skipped: a test took longer than every"] if missed else [])]
    )


def responder_job(told: Responding) -> Job:
    """What is to be done."""
    whom = f"this host and {', '.join(told.allow)}" if told.allow else "this host only"
    return Job(
        "responder",
        f"{told.bind} port {told.port}",
        f"responder {told.model_dump_json()}",
        f"answers tests of {whom} on {told.bind} port {told.port}",
        lambda state: _respond(told, state),
    )


async def _respond(told: Responding, state: State) -> None:
    """Answers until it is cancelled. Raises YaffleError where it cannot."""
    from yaffle.probing.respond import Responder

    responder = Responder(told.bind, told.port, told.allow, key_of(told.key_file))
    responder.start()
    try:
        while True:
            own: Any = responder.counts
            state.turn(RUNNING, "")
            state.rates = f"{own.answered:,} packets answered, {own.served:,} connections served"
            await asyncio.sleep(_LOOK_S)
    finally:
        await asyncio.to_thread(responder.stop)
