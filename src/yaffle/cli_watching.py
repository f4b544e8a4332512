"""Commands that watch for long: `yaffle listen`, `yaffle collect`, `yaffle status`, `yaffle capture`."""

import json
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle.errors import YaffleError
from yaffle.given_evidence import given_in_terminal

_LEAST_RING = 1 << 20
_TELL_S = 10.0


def listen(
    history: Annotated[
        str,
        typer.Option(
            "--history",
            metavar="DIR|ADDRESS",
            help="Where records and counters are kept, a folder or an address of a store; made if it is not there.",
        ),
    ] = "yaffle-history",
    udp: Annotated[
        list[int] | None,
        typer.Option(
            "--udp",
            metavar="PORT",
            help="UDP port, NetFlow v5 or v9, IPFIX or sFlow v5; several are allowed. Default: 2055, 4739 and 6343.",
        ),
    ] = None,
    tcp: Annotated[
        list[int] | None, typer.Option("--tcp", metavar="PORT", help="TCP port for IPFIX; several are allowed.")
    ] = None,
    bind: Annotated[
        str,
        typer.Option(
            "--bind",
            metavar="ADDRESS",
            help="Address to listen on; only this host is listened to unless another is given.",
        ),
    ] = "127.0.0.1",
    keep: Annotated[
        list[str] | None,
        typer.Option(
            "--keep",
            metavar="LEVEL=DAYS",
            help="For how long: records=30, 1min=90, 15min=400, 1h=1200, 1day=3650, counters=400;"
            " 1min=0: sums of a minute are not made.",
        ),
    ] = None,
) -> None:
    """Receive flow records and counters and keep them for months, until stopped with Ctrl+C."""
    import signal
    import threading

    from yaffle.history.keeper import keeper_at
    from yaffle.history.reception import Reception
    from yaffle.history.reception_words import kept_days, line

    ended = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ended.set())
    ports = tuple(udp or ()) if udp or tcp else (2055, 4739, 6343)
    keeper = keeper_at(history, kept_days(keep or []))
    reception = Reception(keeper, bind, ports, tuple(tcp or ()))
    typer.echo(
        f"listening on {bind}: {', '.join(f'{kind} {port}' for kind, port in reception.ports)}; keeping in {history}"
    )
    keeper.start()
    reception.start()
    while not ended.wait(10.0):
        typer.echo(line(reception.status))
    reception.stop()
    keeper.stop()
    typer.echo(line(reception.status))


def collect(
    configuration: Annotated[
        Path | None, typer.Argument(metavar="CONFIG.toml", help="What to collect, and where to keep it.")
    ] = None,
    check: Annotated[
        bool, typer.Option("--check", help="Say what would be done, or what is wrong and at which line; make nothing.")
    ] = False,
    unit: Annotated[bool, typer.Option("--unit", help="Write a systemd unit to standard output, and end.")] = False,
) -> None:
    """Collect for months, until stopped: what devices send, and what this host counts."""
    import asyncio
    import logging

    from yaffle.collector.collect import Collector, words_of

    if unit:
        typer.echo((Path(__file__).parent / "share" / "yaffle-collect@.service").read_text(), nl=False)
        return
    if configuration is None:
        raise YaffleError("which configuration? Write yaffle collect CONFIG.toml; docs/collector.md shows one")
    if check:
        for words in words_of(configuration):
            typer.echo(words)
        return
    logging.basicConfig(level=logging.INFO, format="%(message)s", stream=sys.stderr)
    logging.getLogger("httpx").setLevel(logging.WARNING)  # It tells whole addresses, in which secrets may stand.

    async def run() -> None:
        await Collector(configuration).run()

    asyncio.run(run())


def status(
    history: Annotated[
        Path, typer.Argument(parser=given_in_terminal, metavar="HISTORY", help="The folder that a collector writes.")
    ],
    json_out: Annotated[
        str, typer.Option("--json", metavar="OUT", help="Write it as a document here; - for standard output.")
    ] = "",
) -> None:
    """Say how the tasks of a collector are doing."""
    from yaffle.collector.status import status_of
    from yaffle.report.answer import write_whole
    from yaffle.units import date_and_moment

    told = status_of(history)
    if json_out and json_out != "-":
        write_whole(Path(json_out), json.dumps(told))
    elif json_out:
        typer.echo(json.dumps(told))
    else:
        for words in [told["trouble"]] if told["trouble"] else []:
            typer.echo(words)
        for task in told["tasks"]:
            why = f": {task['why']}" if task["why"] else ""
            since = date_and_moment(task["since_ns"])
            typer.echo(f"{task['task']} {task['address']}: {task['state']} since {since}{why}")


def capture(
    interface: Annotated[
        list[str],
        typer.Option("--interface", metavar="IF", help="Capture from this interface; several are allowed; any: all."),
    ],
    ring: Annotated[
        Path, typer.Option("--ring", metavar="DIR", help="Folder of the capture files; made if it is not there.")
    ],
    limit_bytes: Annotated[
        str, typer.Option("--limit-bytes", metavar="SIZE", help="All files together hold no more; the oldest go.")
    ] = "2GiB",
    limit_time: Annotated[
        str, typer.Option("--limit-time", metavar="TIME", help="Files that ended longer ago go: 30min, 4s.")
    ] = "",
    slice_bytes: Annotated[
        int, typer.Option("--slice", metavar="N", min=16, help="Keep the first N bytes of each packet.")
    ] = 262_144,
    host: Annotated[
        list[str] | None,
        typer.Option("--host", metavar="A", help="Only packets from or to this address; several are alternatives."),
    ] = None,
    port: Annotated[
        list[int] | None,
        typer.Option("--port", metavar="P", help="Only packets from or to this port; several are alternatives."),
    ] = None,
    no_payload: Annotated[
        bool, typer.Option("--no-payload", help="Keep headers only: cut behind those of transport.")
    ] = False,
    mask: Annotated[
        bool,
        typer.Option(
            "--mask", help="Mask addresses (the same one always alike) and keep headers only, from the start."
        ),
    ] = False,
    seconds: Annotated[
        float, typer.Option("--seconds", metavar="N", min=0, help="Stop after so long, counted from the open socket.")
    ] = 0,
    json_out: Annotated[
        str, typer.Option("--json", metavar="OUT", help="Write a document here in the end; - for standard output.")
    ] = "",
) -> None:
    """Capture packets of this machine into a bounded ring of files, until stopped with Ctrl+C."""
    from yaffle.collector.configuration_parts import duration_ns
    from yaffle.memory_plan import bytes_of
    from yaffle.report.answer import write_whole
    from yaffle.units import count

    try:
        limit_time_ns = duration_ns(limit_time) if limit_time else 0
    except ValueError as error:
        raise YaffleError(f"--limit-time {limit_time}: expected {error}") from error
    wanted = {
        "interfaces": interface,
        "ring": str(ring),
        "limit_bytes": bytes_of(limit_bytes, "--limit-bytes", _LEAST_RING),
        "limit_time_ns": limit_time_ns,
        "slice_bytes": slice_bytes,
        "hosts": host or [],
        "ports": port or [],
        "seconds": seconds,
        "payload": not no_payload,
        "mask": mask,
    }
    told = _captured(wanted)
    document = {key: value for key, value in told.items() if key != "ended"}
    if json_out and json_out != "-":
        write_whole(Path(json_out), json.dumps(document))
    elif json_out:
        typer.echo(json.dumps(document))
    else:
        typer.echo(f"{count(told['captured'])} packets captured, {count(told['dropped'])} dropped; in {ring}")
        for one in told["interfaces"]:
            if one["segmentation_offload"]:
                typer.echo(
                    f"{one['name']}: {count(one['segmentation_offload'])} packets stand for several on the wire"
                    " (segmentation offload)"
                )


def _reach(ring: str) -> str:
    """How far back a ring reaches, in words."""
    from yaffle.capture.ring_folder import span_ns
    from yaffle.units import duration

    try:
        first_ns, last_ns = span_ns(Path(ring))
    except (YaffleError, OSError):  # Its files come and go while they are looked at.
        return "no file yet"
    return f"the ring reaches {duration(max(0, last_ns - first_ns))} back"


def _captured(wanted: dict[str, Any]) -> dict[str, Any]:
    """The last word of the child that captures. Raises YaffleError where it could not."""
    child = subprocess.Popen(
        [sys.executable, "-m", "yaffle.live.child", json.dumps(wanted)],
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,  # Ctrl+C is for us, who hand it on.
    )
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: child.terminate())
    last: dict[str, Any] = {}
    shown, told = sys.stderr.isatty(), time.monotonic()
    for line in child.stdout or ():
        last = json.loads(line)
        if "error" in last:
            child.wait()
            raise YaffleError(last["error"])
        trouble = f"; {last['trouble']}" if last["trouble"] else ""
        words = f"captured {last['captured']:,}, dropped {last['dropped']:,}, {_reach(wanted['ring'])}{trouble}"
        if shown:
            sys.stderr.write(f"\r\x1b[K{words}")
        elif time.monotonic() - told >= _TELL_S:
            told = time.monotonic()
            sys.stderr.write(f"{words}\n")
    if shown:
        sys.stderr.write("\n")
    if child.wait() or not last.get("ended"):
        raise YaffleError("the process that captures ended before it was told to; what it wrote is there")
    return last


def keep(
    ring: Annotated[Path, typer.Argument(metavar="RING", help="The folder into which a capture writes.")],
    name: Annotated[str, typer.Argument(metavar="NAME", help="Under which it is kept: RING/kept/NAME.")],
    period: Annotated[
        str, typer.Option("--period", metavar="WORDS", help='What is kept: "last 10 min", "2026-11-28 09:00 to 09:20".')
    ] = "last 10 min",
) -> None:
    """Keep a stretch of a capture's ring before it is overwritten."""
    from yaffle.capture.ring_folder import keep_stretch, span_ns
    from yaffle.session.period_words import period_ns

    span = span_ns(ring)
    typer.echo(str(keep_stretch(ring, name, *(period_ns(period, *span) or span))))
