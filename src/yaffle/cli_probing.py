"""Commands that test on purpose: `yaffle probe`, `yaffle respond`."""

import contextlib
import json
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle.errors import YaffleError


def _seconds(text: str, name: str) -> float:
    from yaffle.collector.configuration_parts import duration_ns

    try:
        return duration_ns(text) / 1e9
    except ValueError as error:
        raise YaffleError(f"{name} {text}: expected {error}") from error


def _key(path: str) -> bytes:
    if not path:
        return b""
    try:
        return Path(path).read_bytes().strip()
    except OSError as error:
        raise YaffleError(f"--key-file {path}: {error.strerror or error}") from error


def probe(
    kind: Annotated[
        str,
        typer.Argument(
            metavar="KIND", help="reach, connect, page, name, route, delay, speed, voice, video, sweep, storm."
        ),
    ],
    target: Annotated[
        str, typer.Argument(metavar="TARGET", help="A host, HOST:PORT, an address of a page, or a name.")
    ],
    every: Annotated[str, typer.Option("--every", metavar="3s", help="Again and again, until --count or Ctrl+C.")] = "",
    count: Annotated[int, typer.Option("--count", metavar="N", min=0, help="So many times.")] = 0,
    timeout: Annotated[str, typer.Option("--timeout", metavar="2s", help="How long an answer is waited for.")] = "2s",
    server: Annotated[str, typer.Option("--server", metavar="A", help="name: the server that is asked.")] = "",
    against: Annotated[
        str, typer.Option("--against", metavar="A", help="name: a second server, whose answer is to be the same.")
    ] = "",
    record: Annotated[str, typer.Option("--type", metavar="A", help="name: the type of record.")] = "A",
    over: Annotated[
        str, typer.Option("--over", metavar="udp", help="name: udp, tcp or tls; route: udp, icmp or tcp.")
    ] = "udp",
    ways: Annotated[
        int, typer.Option("--ways", metavar="N", min=1, max=32, help="route: so many flows, for ways of equal cost.")
    ] = 1,
    connections: Annotated[
        int, typer.Option("--connections", metavar="N", min=1, max=16, help="speed: so many at once.")
    ] = 1,
    both: Annotated[bool, typer.Option("--both", help="speed: both ways at once, too.")] = False,
    put: Annotated[
        str, typer.Option("--put", metavar="10MiB", help="speed: what a web server is sent (PUT) beside GET.")
    ] = "",
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, max=100, help="voice, video: so many at once.")
    ] = 1,
    poisson: Annotated[
        bool, typer.Option("--poisson", help="Pauses by chance, --every in the mean (RFC 2330).")
    ] = False,
    packets: Annotated[int, typer.Option("--packets", metavar="N", min=1, help="delay: how many.")] = 20,
    interval: Annotated[str, typer.Option("--interval", metavar="20ms", help="delay: between packets.")] = "20ms",
    seconds: Annotated[
        float, typer.Option("--seconds", metavar="N", min=0.1, help="speed, voice, video: how long.")
    ] = 5,
    dscp: Annotated[int, typer.Option("--dscp", metavar="N", min=0, max=63, help="Marking of what is sent.")] = 0,
    codec: Annotated[
        str, typer.Option("--codec", metavar="g711", help="voice: g711, g729, opus; video: h264, conference, camera.")
    ] = "",
    status: Annotated[int, typer.Option("--status", metavar="N", help="page: the status that is expected.")] = 0,
    text: Annotated[str, typer.Option("--text", metavar="T", help="page: a text that is expected in it.")] = "",
    proxy: Annotated[str, typer.Option("--proxy", metavar="URL", help="page: the proxy that is asked for it.")] = "",
    elements: Annotated[
        bool, typer.Option("--elements", help="page: pictures, style sheets and scripts of it, too.")
    ] = False,
    size: Annotated[int, typer.Option("--size", metavar="N", help="storm: bytes of a frame.")] = 60,
    rate: Annotated[int, typer.Option("--rate", metavar="N", help="storm: frames a second.")] = 1000,
    yes: Annotated[bool, typer.Option("--yes", help="storm: that others on the link may be disturbed.")] = False,
    beside: Annotated[
        str,
        typer.Option(
            "--beside", metavar="HOST", help="storm: a responder; its speed with and without the storm, --count times."
        ),
    ] = "",
    key_file: Annotated[
        str, typer.Option("--key-file", metavar="FILE", help="The key that the responder shares.")
    ] = "",
    json_out: Annotated[
        str, typer.Option("--json", metavar="OUT", help="Write a document here in the end; - for standard output.")
    ] = "",
) -> None:
    """Test on purpose: whether something is there, how far, by which way, how fast, how a call would sound."""
    import asyncio

    from yaffle.memory_plan import bytes_of
    from yaffle.probing.kinds import test_of
    from yaffle.probing.result import document
    from yaffle.probing.wanted import Wanted
    from yaffle.report.answer import write_whole

    test_of(kind)
    wanted = Wanted(
        kind, target, _seconds(timeout, "--timeout"), server, packets, _seconds(interval, "--interval"), seconds, dscp,
        codec or ("h264" if kind == "video" else "g711"), record, over, _key(key_file), status=status, text=text,
        proxy=proxy, elements=elements, against=against,
        size=size,
        rate=rate, agreed=yes, ways=ways, connections=connections, both=both, streams=streams,
        put_bytes=bytes_of(put, "--put", 1) if put else 0,
    )  # fmt: skip
    if beside:
        told = _beside(wanted, beside, count, quiet=json_out == "-")
    else:
        pause_s = _seconds(every, "--every") if every else 0.0
        many = count or (0 if every else 1)
        told = document(asyncio.run(_repeated(wanted, pause_s, many, quiet=json_out == "-", by_chance=poisson)))
    if json_out and json_out != "-":
        write_whole(Path(json_out), json.dumps(told))
    elif json_out:
        typer.echo(json.dumps(told))
    else:
        typer.echo(_summed(told["summary"]))
    if told["summary"]["ok"] < max(1, told["summary"]["sent"]):
        raise typer.Exit(1)


def _beside(wanted: Any, responder: str, rounds: int, *, quiet: bool) -> dict[str, Any]:
    """A document of runs with and without a storm, and what it did."""
    import asyncio

    from yaffle.probing.result import Result, document
    from yaffle.probing.result_words import line
    from yaffle.probing.storm import KIND as STORM
    from yaffle.probing.storm_beside import ROUNDS, compared, storm_beside

    if wanted.kind != STORM:
        raise YaffleError(f"--beside: it is a storm that speed is measured beside, not {wanted.kind}")

    results: list[Result] = []

    def tell(one: Result) -> None:
        results.append(one)
        if not quiet:
            typer.echo(line(one))

    with contextlib.suppress(KeyboardInterrupt):  # What was measured by then is told.
        asyncio.run(storm_beside(wanted, responder, rounds or ROUNDS, tell))
    found = compared(results)
    for one in found if not quiet else []:
        typer.echo(one.words)
    told = document(results)
    told["summary"]["beside"] = [one.as_json() for one in found]
    return told


async def _repeated(wanted: Any, pause_s: float, count: int, *, quiet: bool, by_chance: bool) -> list[Any]:
    """Results of tests that begin at even pauses, or by a Poisson process, until there are enough or Ctrl+C."""
    import asyncio
    import random
    import signal
    from dataclasses import replace

    from yaffle.probing.kinds import asked
    from yaffle.probing.result_words import line
    from yaffle.probing.sweep import KIND as SWEEP
    from yaffle.probing.sweep import changed

    loop, ended, results = asyncio.get_running_loop(), asyncio.Event(), []
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, ended.set)
    due, done, former = loop.time(), 0, None
    while not ended.is_set() and (not count or done < count):
        test = asyncio.ensure_future(asked(replace(wanted, sequence=done)))
        stopped = asyncio.ensure_future(ended.wait())
        await asyncio.wait({test, stopped}, return_when=asyncio.FIRST_COMPLETED)
        stopped.cancel()
        if not test.done():
            test.cancel()
            break
        found = test.result()
        if wanted.kind == SWEEP:
            found, former = [changed(found[0], former)], found[0].more["found"]
        for one in found:
            results.append(one)
            if not quiet:
                typer.echo(line(one))
        done += 1
        if not count or done < count:
            due += random.expovariate(1 / pause_s) if by_chance and pause_s else pause_s
            left = due - loop.time()
            if left > 0:
                await asyncio.wait({asyncio.ensure_future(ended.wait())}, timeout=left)
    return results


def _summed(summary: dict[str, Any]) -> str:
    trip = summary["round_trip_ms"]
    times = (
        f"; min {trip['min']:.3f}, median {trip['median']:.3f}, p95 {trip['p95']:.3f}, max {trip['max']:.3f} ms"
        if trip
        else ""
    )
    return f"{summary['ok']} of {summary['sent']} well, {summary['loss_percent']:.1f} % not{times}"


def respond(
    bind: Annotated[
        str,
        typer.Option("--bind", metavar="ADDRESS", help="Address to answer on; only this host unless another is given."),
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option("--port", metavar="P", min=0, max=65_535, help="UDP and TCP port.")] = 8620,
    allow: Annotated[
        list[str] | None,
        typer.Option("--allow", metavar="NET", help="A network that is answered; several are allowed."),
    ] = None,
    key_file: Annotated[
        str, typer.Option("--key-file", metavar="FILE", help="A key that those who test must hold, too.")
    ] = "",
) -> None:
    """Answer tests of delay, speed, voice and video, until stopped with Ctrl+C."""
    import signal
    import threading

    from yaffle.probing.respond import Responder

    ended = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ended.set())
    responder = Responder(bind, port, tuple(allow or ()), _key(key_file))
    responder.start()
    whom = f"this host and {', '.join(allow)}" if allow else "this host only"
    sys.stdout.write(f"answering {whom} on {bind} port {responder.port}\n")
    sys.stdout.flush()
    ended.wait()
    responder.stop()
    told = responder.counts
    typer.echo(
        f"{told.answered:,} packets answered, {told.served:,} connections served; not answered: {told.forbidden:,} not"
        f" allowed, {told.malformed:,} malformed, {told.too_many:,} too many"
    )
