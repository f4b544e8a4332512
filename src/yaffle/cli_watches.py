"""Commands about what is watched: `yaffle notify`, `yaffle acknowledge`."""

import time
from pathlib import Path
from typing import Annotated

import typer

from yaffle.errors import YaffleError
from yaffle.given_evidence import given_in_terminal
from yaffle.terminal import progress_bar


def notify(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The [[notify]] of the configuration.")],
    config: Annotated[Path, typer.Option("--config", metavar="FILE", help="The collector's configuration.")],
    test: Annotated[bool, typer.Option("--test", help="Send a test notice now.")] = False,
) -> None:
    """Send a test notice by one of the ways of a configuration, and say what became of it."""
    from yaffle.collector.configuration import read_configuration
    from yaffle.watching.channels import NotSentError
    from yaffle.watching.event_rows import Event

    told = read_configuration(config)
    own = next((one for one in told.notify if one.name == name), None)
    if own is None:
        known = ", ".join(one.name for one in told.notify) or "none"
        raise YaffleError(f"{config}: no [[notify]] is called {name}; these are: {known}")
    if not test:
        raise YaffleError("what shall be sent? Write --test for a test notice")
    words = "this is a test notice: the way works"
    event = Event(time.time_ns(), "test", name, "raised", "notice", words=words)
    try:
        typer.echo(f"{name}: {own.channel(told.history).send([event])}")
    except NotSentError as error:
        typer.echo(f"{name}: not sent: {error}", err=True)
        raise typer.Exit(1) from error


def acknowledge(
    history: Annotated[Path, typer.Argument(metavar="HISTORY", help="The folder that a collector writes.")],
    watch: Annotated[str, typer.Argument(metavar="WATCH", help="The name of the watch.")],
    subject: Annotated[str, typer.Argument(metavar="SUBJECT", help="Of it only this one; else all.")] = "",
    words: Annotated[str, typer.Option("--words", metavar="TEXT", help="Who takes care of it, and how.")] = "",
) -> None:
    """Acknowledge what is raised: nothing more is sent about it, and it stays in view until it is over."""
    from yaffle.collector.asking import ask_collector

    ask_collector(history, watch, subject, words)
    typer.echo("the collector is asked to acknowledge it")


def health(
    history: Annotated[
        Path, typer.Argument(parser=given_in_terminal, metavar="HISTORY|CASE", help="A history, or a case with one.")
    ],
    period: Annotated[
        str, typer.Option("--period", metavar="WORDS", help="Of this period; without it the last hour.")
    ] = "",
    json_out: Annotated[
        str, typer.Option("--json", metavar="OUT", help="Write a document here; - for standard output.")
    ] = "",
) -> None:
    """Say how chosen sets of flows fare in both directions, and whether the network is at fault: yes, no, unknown."""
    from yaffle.programs.case import open as open_evidence
    from yaffle.programs.health_told import health_told
    from yaffle.report.answer import write_whole

    bar, step = progress_bar()
    with bar:
        told = health_told(open_evidence(history, progress=step), period or None)
    if json_out and json_out != "-":
        write_whole(Path(json_out), told.model_dump_json())
    elif json_out:
        typer.echo(told.model_dump_json())
    else:
        typer.echo(f"network at fault: {told.network_at_fault} ({told.words})")
        for one in told.sets:
            for way in one.ways:
                state = {True: "degraded", False: "ok", None: "unknown"}[way.degraded_now]
                typer.echo(f"  {one.name}, {way.direction}: {state}{f'; {way.words}' if way.words else ''}")
    if told.network_at_fault == "yes":
        raise typer.Exit(1)
