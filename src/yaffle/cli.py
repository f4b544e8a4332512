"""The command line: `yaffle [FILE|CASE]`, `yaffle analyse`, `yaffle demo`. Imports late: short commands stay short."""

import json
import sys
from contextlib import nullcontext
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle.errors import Cancelled, YaffleError

app = typer.Typer(add_completion=False, no_args_is_help=False, pretty_exceptions_enable=False, help="Whose delay is it? Network performance analysis.")

_BAD_INPUT = 2


def _bar() -> Any:
    """A progress callback: a bar on a terminal, nothing elsewhere."""
    if not sys.stderr.isatty():
        return nullcontext(), lambda share, words: True
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    bar = Progress(TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn(), console=Console(stderr=True), transient=True)
    task = bar.add_task("starting", total=1.0)

    def step(share: float, words: str) -> bool:
        bar.update(task, completed=share, description=words)
        return True

    return bar, step


@app.command()
def analyse(
    files: Annotated[list[Path], typer.Argument(help="Captures (pcap, pcapng; also gzip, zstd, lz4).")],
    json_out: Annotated[str, typer.Option("--json", metavar="OUT", help="Write the analysis document here; - for standard output.")] = "",
    report: Annotated[Path | None, typer.Option("--report", metavar="OUT.html", help="Write the report here.")] = None,
    line_mbps: Annotated[float, typer.Option("--line-mbps", metavar="RATE", help="Rate of the line in Mbit/s: how much of it was used at most, for how short a time.")] = 0.0,
) -> None:
    """Say who is slow, whose fault it is and how sure that is."""
    from yaffle.analysis import analyse as run
    from yaffle.report import answer
    from yaffle.report.document import document
    from yaffle.warm_up import compile_first

    bar, step = _bar()
    with bar:
        compile_first(step)
        analysis = run(files, step)
    content = document(analysis, line_mbps * 1e6 or None)
    if json_out == "-":
        json.dump(content, sys.stdout)
        sys.stdout.write("\n")
    elif json_out:
        answer.write_whole(Path(json_out), json.dumps(content))
    if report is not None:
        from yaffle.report.html import write_report

        write_report(analysis, report)
    if json_out != "-":
        typer.echo(answer.answer(analysis))


@app.command()
def demo(
    to: Annotated[Path, typer.Option("--to", metavar="DIR", help="Where the evidence goes.")] = Path("demo"),
    run: Annotated[bool, typer.Option("--run", help="Also analyse it without a screen: report, document, a picture of each station.")] = False,
) -> None:
    """Make the demo evidence: three captures of a morning at Harbourline Ferries, and the truth."""
    from yaffle.demo.morning import make_morning

    sys.stderr.write("simulating the morning\n")
    captures = make_morning(to)
    for path in captures:
        typer.echo(path)
    if not run:
        return
    from yaffle.desktop.pictures import take_pictures

    pictures = take_pictures(captures, to)
    analyse(captures, str(to / "analysis.json"), to / "report.html")
    typer.echo("")
    for path in [to / "report.html", to / "analysis.json", *pictures]:
        typer.echo(path)


@app.command(name="open")
def open_window(files: Annotated[list[Path] | None, typer.Argument(help="A case, or captures.")] = None) -> None:
    """Open the window (the same as `yaffle FILE`)."""
    from yaffle.desktop.application import run

    raise typer.Exit(run([Path(f) for f in files or []]))


def main() -> None:
    """Entry point. Errors that a user can act upon are one line; the exit code is 2 for them."""
    arguments = sys.argv[1:]
    commands = {"analyse", "demo", "open", "--help"}
    if not arguments or (arguments[0] not in commands and not arguments[0].startswith("-")):
        sys.argv[1:] = ["open", *arguments]
    try:
        app(standalone_mode=True)
    except Cancelled as stop:
        sys.stderr.write(f"yaffle: {stop}\n")
        sys.exit(130)
    except YaffleError as error:
        sys.stderr.write(f"yaffle: {error}\n")
        sys.exit(_BAD_INPUT)
    except BrokenPipeError:
        sys.exit(0)
