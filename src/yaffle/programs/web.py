"""The interface over HTTP: what a case holds, asked and answered; two calls that do something; all within limits."""

import asyncio
import json
import tempfile
import time
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from pathlib import Path as FilePath
from typing import Annotated, Any, TypeVar

import anyio
import numpy as np
from fastapi import FastAPI, HTTPException, Path, Query, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, StreamingResponse
from fastapi_offline import FastAPIOffline

from yaffle import __version__
from yaffle.collector.asking import ask_collector
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.probing.kinds import asked as ask
from yaffle.probing.result import document as probe_document
from yaffle.probing.wanted import Wanted
from yaffle.programs import answers, metrics_text
from yaffle.programs.case import Case, UnknownError
from yaffle.programs.event_stream import FreshEvents, as_they_come
from yaffle.programs.guard import Guard, Limits
from yaffle.programs.health_told import health_told
from yaffle.programs.table_formats import MEDIA, Format, pieces
from yaffle.records.catalogue import CATALOGUE
from yaffle.session.exports import write_packets
from yaffle.session.watching import events_of

_PROBES = ("reach", "connect", "page", "name", "route", "delay", "speed", "voice", "video")
_MOST_EVENTS = 10_000
_PIECE = 1 << 18
_WRONG: dict[int | str, dict[str, Any]] = {
    code: {"model": answers.Wrong, "description": words}
    for code, words in ((400, "what was asked cannot be answered"), (404, "there is nothing of that name"),
                        (503, "too much is asked at once"))
}  # fmt: skip
T = TypeVar("T")

Named = Annotated[str, Path(max_length=200, description="the name of a case, as /v1/cases lists them")]
Where = Annotated[str, Query(max_length=4000, description="a boolean SQL expression over the table's columns")]
PeriodWords = Annotated[
    str, Query(max_length=200, description='a period in words: "06:38 to 06:44", "last 5 min", "2026-03-10"')
]


class Interface:
    """What the calls share: cases, limits, and the room for what is worked on."""

    def __init__(self, cases: Mapping[str, Case], limits: Limits) -> None:
        self.cases, self.limits = cases, limits
        self.room = anyio.CapacityLimiter(limits.at_once)
        self.streams = 0

    def case(self, name: str) -> Case:
        """A case by its name."""
        if name not in self.cases:
            raise HTTPException(404, f"there is no case {name}; these are: {', '.join(self.cases)}")
        return self.cases[name]

    async def work(self, do: Callable[[], T]) -> T:
        """Does something on another thread, when there is room."""
        try:
            with anyio.fail_after(self.limits.waiting_s):
                await self.room.acquire_on_behalf_of(token := object())
        except TimeoutError:
            raise HTTPException(503, "too much is asked at once: try again") from None
        try:
            return await anyio.to_thread.run_sync(do)
        except UnknownError as error:
            raise HTTPException(404, str(error)) from None
        except YaffleError as error:
            raise HTTPException(400, str(error)) from None
        finally:
            self.room.release_on_behalf_of(token)

    async def flow(self, parts: Iterator[bytes]) -> AsyncIterator[bytes]:
        """The pieces of an answer, each worked on when there is room."""
        while (piece := await self.work(lambda: next(parts, None))) is not None:
            if piece:
                yield piece


def application(cases: Mapping[str, Case], token: str = "", limits: Limits = Limits()) -> Guard:
    """The ASGI application. token: what everybody has to bear who asks; empty: whoever is on this machine."""
    return Guard(described(cases, limits), token, limits)


def described(cases: Mapping[str, Case], limits: Limits = Limits()) -> FastAPI:
    """The same without its guard."""
    own = Interface(cases, limits)
    app: FastAPI = FastAPIOffline(
        title="Yaffle", version=__version__, redoc_url=None,
        description="Who waits on whom, and why. Times are ns since 1970 UTC unless a key says otherwise.",
    )  # fmt: skip

    @app.exception_handler(RequestValidationError)
    async def wrong(_request: Request, error: RequestValidationError) -> JSONResponse:
        told = [{"place": [str(p) for p in one["loc"]], "words": one["msg"]} for one in error.errors()]
        return JSONResponse({"detail": told}, 422)

    _add_cases(app, own)
    _add_tables(app, own)
    _add_measures(app, own)
    _add_events(app, own)
    _add_calls(app, own)
    return app


def _add_cases(app: FastAPI, own: Interface) -> None:
    @app.get("/v1/status", tags=["status"])
    async def status() -> answers.StatusTold:
        """How the interface and the collectors of its histories are."""

        def work() -> answers.StatusTold:
            collectors = {
                name: status_of(case.opened.analysis.history.folder)
                for name, case in own.cases.items()
                if case.opened.analysis.history is not None
            }
            cases = [_case_told(name, case) for name, case in own.cases.items()]
            return answers.StatusTold(version=__version__, cases=cases, collectors=collectors)

        return await own.work(work)

    @app.get("/v1/cases", tags=["cases"])
    async def cases() -> list[answers.CaseTold]:
        """What is served."""
        return await own.work(lambda: [_case_told(name, case) for name, case in own.cases.items()])

    @app.get("/v1/cases/{case}/document", tags=["cases"], responses=_WRONG)
    async def document(case: Named, part: Annotated[str, Query(max_length=100)] = "") -> dict[str, Any]:
        """The analysis document, or one part of it."""
        found = own.case(case)

        def work() -> dict[str, Any]:
            if found.opened.evidence.waits.first_ns.size > own.limits.exchanges:
                raise YaffleError("the document of so many exchanges is too long: ask for its tables")
            whole = found.document
            if part and part not in whole:
                raise UnknownError(f"the document has no part {part}; these are: {', '.join(whole)}")
            return {part: whole[part]} if part else whole

        return await own.work(work)

    @app.get("/v1/cases/{case}/findings", tags=["cases"], responses=_WRONG)
    async def findings(case: Named) -> list[answers.FindingTold]:
        """What is slow and why, worst first."""
        found = own.case(case)

        def work() -> list[answers.FindingTold]:
            grounds = [json.loads(json.dumps(f.grounds, default=_plainly)) for f in found.opened.findings]
            return [
                answers.FindingTold(**row, grounds=own_grounds)
                for row, own_grounds in zip(found.findings.to_pylist(), grounds, strict=True)
            ]

        return await own.work(work)


def _case_told(name: str, case: Case) -> answers.CaseTold:
    first, last = case.period
    findings = len(case.opened.findings)
    words = f"{len(case.opened.analysis.capture.sources)} sources, {findings} findings"
    return answers.CaseTold(
        case=name, words=words, first_ns=first, last_ns=last, findings=findings,
        is_history=case.opened.analysis.history is not None,
    )  # fmt: skip


def _plainly(value: Any) -> Any:
    """Numbers and columns of NumPy as JSON has them; anything else by its words."""
    return value.tolist() if isinstance(value, np.generic | np.ndarray) else str(value)


def _add_tables(app: FastAPI, own: Interface) -> None:
    @app.get("/v1/cases/{case}/tables", tags=["tables"], responses=_WRONG)
    async def tables(case: Named) -> list[answers.TableTold]:
        """The tables of a case."""
        found = own.case(case)
        return [answers.TableTold(table=name, words=words) for name, words in found.tables.items()]

    content: dict[str, Any] = {media: {} for form, media in MEDIA.items() if form != Format.JSON}

    @app.get(
        "/v1/cases/{case}/tables/{table}",
        tags=["tables"],
        response_model=answers.RowsTold,
        responses={**_WRONG, 200: {"content": content}},
    )
    async def rows(
        case: Named,
        table: Annotated[str, Path(max_length=100)],
        filter: Where = "",
        period: PeriodWords = "",
        columns: Annotated[str, Query(max_length=2000, description="names, apart by commas; empty: all")] = "",
        limit: Annotated[int, Query(ge=1, le=own.limits.rows)] = 1000,
        offset: Annotated[int, Query(ge=0, le=1 << 40)] = 0,
        format: Format = Format.JSON,
    ) -> Response:
        """Rows of a table that a filter and a period select."""
        found = own.case(case)
        named = [name.strip() for name in columns.split(",") if name.strip()]

        def work() -> Iterator[bytes]:
            return pieces(found.batches(table, filter, period, named or None, limit, offset), format)

        return StreamingResponse(own.flow(await own.work(work)), media_type=MEDIA[format])

    @app.get(
        "/v1/cases/{case}/packets",
        tags=["tables"],
        response_class=Response,
        responses={**_WRONG, 200: {"content": {"application/x-pcapng": {}}, "description": "packets with comments"}},
    )
    async def packets(case: Named, filter: Where = "", period: PeriodWords = "") -> Response:
        """The packets of the connections whose exchanges a filter selects, as pcapng."""
        found = own.case(case)
        data = await own.work(lambda: _packets(found, filter, period, own.limits.packets_bytes))
        return StreamingResponse(own.flow(data), media_type="application/x-pcapng")


def _packets(case: Case, expression: str, period: str, most: int) -> Iterator[bytes]:
    scene = case.packets_scene(expression, period)
    wanted = int(case.opened.analysis.capture.packets.captured_bytes[scene.packets].sum())
    if wanted > most:
        raise YaffleError(f"these are {wanted:,} bytes of packets: narrow filter or period to at most {most:,}")
    with tempfile.TemporaryDirectory(prefix="yaffle-packets-") as folder:
        path = FilePath(folder) / "packets.pcapng"
        write_packets(case.opened.evidence, scene.packets, path)
        file = path.open("rb")  # It is gone from the folder when the last piece is read.
    return _pieces_of(file)


def _pieces_of(file: Any) -> Iterator[bytes]:
    with file:
        while piece := file.read(_PIECE):
            yield piece


def _add_measures(app: FastAPI, own: Interface) -> None:
    @app.get("/v1/measures", tags=["measures"])
    async def measures() -> list[answers.MeasureTold]:
        """Every measure of the catalogue."""
        return [
            answers.MeasureTold(measure=e.name, unit=e.unit, words=e.words, table=e.table, groups=list(e.groups))
            for e in CATALOGUE.values()
        ]

    @app.get("/v1/cases/{case}/series/{measure}", tags=["measures"], responses=_WRONG)
    async def series(
        case: Named,
        measure: Annotated[str, Path(max_length=100)],
        by: Annotated[str, Query(max_length=100, description="the group; empty: all together")] = "",
        where: Annotated[str, Query(max_length=4000, description="which rows count, as SQL")] = "",
        period: PeriodWords = "",
        width_s: Annotated[int, Query(ge=1, le=86_400 * 366)] = 3600,
    ) -> answers.SeriesTold:
        """A measure of each member of a group, in equal intervals of a history."""
        found = own.case(case)

        def work() -> answers.SeriesTold:
            first, last = found.period_ns(period)
            if (last - first) // (width_s * 10**9) > own.limits.intervals:
                raise YaffleError(f"a series has at most {own.limits.intervals:,} intervals: ask for wider ones")
            told = found.series(measure, by, where, period, width_s * 10**9)
            members: dict[str, list[float | None]] = {}
            for member, value in zip(told["member"].to_pylist(), told["value"].to_pylist(), strict=True):
                members.setdefault(member, []).append(value)
            times = told["time_ns"].to_pylist()
            count = len(times) // max(1, len(members))
            return answers.SeriesTold(
                measure=measure, unit=CATALOGUE[measure].unit, times_ns=times[:count], members=members
            )

        return await own.work(work)

    @app.get("/v1/cases/{case}/health", tags=["measures"], responses=_WRONG)
    async def health(case: Named, period: PeriodWords = "") -> answers.HealthTold:
        """How chosen sets of flows fare in both directions, and whether the network is at fault."""
        found = own.case(case)
        return await own.work(lambda: health_told(found, period))

    @app.get(
        "/metrics",
        tags=["status"],
        response_class=Response,
        responses={200: {"content": {metrics_text.MEDIA: {}}, "description": "the OpenMetrics text format"}},
    )
    async def metrics() -> Response:
        """Figures for whoever gathers them."""
        return Response(await own.work(lambda: metrics_text.metrics_text(own.cases)), media_type=metrics_text.MEDIA)


def _add_events(app: FastAPI, own: Interface) -> None:
    @app.get("/v1/cases/{case}/events", tags=["events"], responses=_WRONG)
    async def events(
        case: Named, period: PeriodWords = "", limit: Annotated[int, Query(ge=1, le=_MOST_EVENTS)] = 1000
    ) -> list[answers.EventTold]:
        """What was noticed, told and done about it, the newest first."""
        found = own.case(case)

        def work() -> list[answers.EventTold]:
            history = found.opened.analysis.history
            if history is None:
                return []
            first, last = found.period_ns(period)
            told = events_of(history, last, first if period else 0)
            return [answers.EventTold(**one.as_json()) for one in reversed(told[-limit:])]

        return await own.work(work)

    @app.get(
        "/v1/cases/{case}/events/stream",
        tags=["events"],
        response_class=Response,
        responses={**_WRONG, 200: {"content": {"text/event-stream": {}}, "description": "server-sent events"}},
    )
    async def stream(case: Named, since_ns: Annotated[int, Query(ge=0, le=1 << 62)] = 0) -> Response:
        """Events as they come, as server-sent events; since_ns: also those after a moment."""
        found = own.case(case)
        history = found.opened.analysis.history
        if history is None:
            raise HTTPException(400, "events are of a history")
        if own.streams >= own.limits.streams:
            raise HTTPException(503, "too many listen already")
        fresh = FreshEvents(history, since_ns or time.time_ns())
        return StreamingResponse(_listening(own, fresh), media_type="text/event-stream")


async def _listening(own: Interface, fresh: FreshEvents) -> AsyncIterator[bytes]:
    own.streams += 1
    try:
        async for piece in as_they_come(lambda: own.work(fresh.take)):
            yield piece
    finally:
        own.streams -= 1


def _add_calls(app: FastAPI, own: Interface) -> None:
    @app.post("/v1/probes", tags=["calls"], responses={400: _WRONG[400], 503: _WRONG[503]})
    async def probe(asked: answers.ProbeAsked) -> dict[str, Any]:
        """Tests on purpose, now, from this machine."""
        if asked.kind not in _PROBES:
            raise HTTPException(400, f"{asked.kind} cannot be asked for here; these can: {', '.join(_PROBES)}")
        wanted = Wanted(
            asked.kind, asked.target, asked.timeout_s, packets=asked.packets, seconds=asked.seconds, dscp=asked.dscp,
            codec="h264" if asked.kind == "video" else "g711",
        )  # fmt: skip
        try:
            async with own.room:
                results = await asyncio.wait_for(ask(wanted), own.limits.waiting_s * 4)
        except TimeoutError:
            raise HTTPException(400, "the test took too long and was given up") from None
        except YaffleError as error:
            raise HTTPException(400, str(error)) from None
        return json.loads(json.dumps(probe_document(results), default=_plainly))  # type: ignore[no-any-return]

    @app.post("/v1/cases/{case}/acknowledge", tags=["calls"], responses=_WRONG)
    async def acknowledge(case: Named, asked: answers.AcknowledgeAsked) -> answers.Done:
        """Acknowledges what a watch raised: nothing more is sent about it until it is over."""
        history = own.case(case).opened.analysis.history
        if history is None:
            raise HTTPException(400, "what is watched belongs to a history")
        await own.work(lambda: ask_collector(history.folder, asked.watch, asked.subject, asked.words))
        return answers.Done(words="the collector is asked to acknowledge it")
