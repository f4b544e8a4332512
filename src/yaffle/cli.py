"""The command line: `yaffle [FILE|CASE]`, `yaffle analyse`, `yaffle demo`. Imports late: short commands stay short."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle import cli_probing, cli_reporting, cli_serving, cli_watches, cli_watching
from yaffle.errors import Cancelled, YaffleError
from yaffle.garbage_collection import collector_resting, leave_the_rest
from yaffle.given_evidence import given_in_terminal
from yaffle.terminal import progress_bar

app = typer.Typer(
    add_completion=True,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Whose delay is it? Network performance analysis.",
)

for _command in (
    cli_watches.acknowledge,
    cli_watches.health,
    cli_watching.capture,
    cli_watching.collect,
    cli_watching.keep,
    cli_watching.listen,
    cli_watches.notify,
    cli_probing.probe,
    cli_reporting.report,
    cli_probing.respond,
    cli_serving.serve,
    cli_watching.status,
):
    app.command()(_command)
_BAD_INPUT = 2


_NO_SCREEN = (
    "there is no screen here (neither DISPLAY nor WAYLAND_DISPLAY is set). Without one:\n"
    "  yaffle analyse FILE...              who is slow, whose fault it is, and how sure that is\n"
    "  yaffle analyse FILE... --report OUT.html   the same as a page\n"
    "  yaffle demo --run                   the whole example, with pictures\n"
    "  yaffle --help                       everything else"
)


def _show_version(wanted: bool) -> None:
    if wanted:
        from yaffle import __version__

        typer.echo(f"yaffle {__version__}")
        raise typer.Exit


@app.command()
def analyse(
    files: Annotated[
        list[str],
        typer.Argument(
            help=(
                "Captures (pcap, pcapng; also gzip, zstd, lz4), or the folder of a ring; with --cluster also addresses"
                " of a store."
            )
        ),
    ],
    json_out: Annotated[
        str, typer.Option("--json", metavar="OUT", help="Write the analysis document here; - for standard output.")
    ] = "",
    report: Annotated[
        Path | None, typer.Option("--report", metavar="OUT.html|OUT.pdf", help="Write the report here.")
    ] = None,
    bundle: Annotated[
        Path | None,
        typer.Option(
            "--bundle",
            metavar="OUT.zip",
            help="Write the report with everything it rests on here: document, tables, packets of the findings.",
        ),
    ] = None,
    mask: Annotated[
        bool, typer.Option("--mask", help="Mask addresses in report and bundle, and leave names out.")
    ] = False,
    literals: Annotated[
        bool, typer.Option("--literals", help="Show the literals of statements in the document, otherwise masked.")
    ] = False,
    include: Annotated[
        str,
        typer.Option(
            "--include", metavar="TABLES", help="Large tables that go into the document, too: flows, lost_packets."
        ),
    ] = "",
    line_mbps: Annotated[
        float,
        typer.Option(
            "--line-mbps",
            metavar="RATE",
            help="Rate of the link in Mbit/s: how much of it was used at most, for how short a time.",
        ),
    ] = 0.0,
    expect: Annotated[
        list[str] | None,
        typer.Option(
            "--expect",
            metavar="APPLICATION=MARKING",
            help="Which marking an application should bear; what violates it is a finding. Without any: voice=EF.",
        ),
    ] = None,
    telemetry_port: Annotated[
        list[int] | None,
        typer.Option(
            "--telemetry-port",
            metavar="PORT",
            min=1,
            max=65_535,
            help="UDP port to which switches report on single packets; may be given again. Without any: 32766.",
        ),
    ] = None,
    int_dscp: Annotated[
        int,
        typer.Option(
            "--int-dscp",
            metavar="DSCP",
            min=0,
            max=63,
            help="By which DSCP packets are marked that carry what switches wrote (INT).",
        ),
    ] = 23,
    memory: Annotated[
        str,
        typer.Option(
            "--memory",
            metavar="AMOUNT",
            help="Memory that may be taken, like 4GiB; without it half of what is free. Columns that do not fit are"
            " put into files in TMPDIR (else /var/tmp).",
        ),
    ] = "",
    case: Annotated[
        str,
        typer.Option(
            "--case",
            metavar="OUT.yaffle",
            help="Save the case here, to be opened by the window; a folder or an address of a store.",
        ),
    ] = "",
    cluster: Annotated[
        str,
        typer.Option(
            "--cluster", metavar="SCHEDULER", help="Let the workers of this Dask scheduler do it, like tcp://host:8786."
        ),
    ] = "",
    store: Annotated[
        str,
        typer.Option(
            "--store",
            metavar="FOLDER|ADDRESS",
            help="With --cluster: where files are exchanged, a folder or an object store that all workers see; without"
            " it TMPDIR (else /var/tmp), for workers on this machine.",
        ),
    ] = "",
) -> None:
    """Say who is slow, whose fault it is and how sure that is."""
    from yaffle.case.stored import save_case_at
    from yaffle.cluster.crew import workforce_of
    from yaffle.hops.reports import PORT, ReportForm
    from yaffle.inventory.expected_markings import USUAL
    from yaffle.memory_plan import bytes_of
    from yaffle.programs.analysing import analysed
    from yaffle.report import answer
    from yaffle.report.document import INCLUDED, document

    wanted = [name.strip() for name in include.split(",") if name.strip()]
    if unknown := [name for name in wanted if name not in INCLUDED]:
        raise YaffleError(f"--include: {', '.join(unknown)} is not known; these are: {', '.join(INCLUDED)}")
    rules = tuple(_expected(text) for text in expect or ()) or USUAL
    bar, step = progress_bar()
    with bar, collector_resting(), workforce_of(cluster, store) as crew:
        form = ReportForm(tuple(telemetry_port or (PORT,)), int_dscp)
        analysis = analysed(crew.fetch(files), step, bytes_of(memory) if memory else 0, rules, form, crew)
        crew.as_given(analysis.capture)
        if case:
            save_case_at(case, analysis, step)
    content = document(analysis, line_mbps * 1e6 or None, literals=literals, include=wanted)
    if json_out == "-":
        json.dump(content, sys.stdout)
        sys.stdout.write("\n")
    elif json_out:
        answer.write_whole(Path(json_out), json.dumps(content))
    if report is not None or bundle is not None:
        from yaffle.session.investigation import Opened
        from yaffle.session.kept import Kept

        kept = Kept(expected=rules)
        cli_reporting.write_reports(Opened(analysis, memory=kept.as_json()), kept, report, bundle, mask)
    if json_out != "-":
        typer.echo(answer.answer(analysis))


def _expected(text: str) -> Any:
    """A rule of `--expect`. Raises YaffleError."""
    from yaffle.inventory.expected_markings import Expected, code_point

    name, sign, told = text.rpartition("=")
    if not sign or not name.strip():
        raise YaffleError(f"--expect: “{text}” is not APPLICATION=MARKING, as voice=EF")
    try:
        return Expected(name.strip(), code_point(told))
    except ValueError as error:
        raise YaffleError(f"--expect: {error}") from None


@app.command()
def export(
    evidence: Annotated[list[Path], typer.Argument(parser=given_in_terminal, help="A case, a history, or captures.")],
    filter_: Annotated[
        str,
        typer.Option(
            "--filter", metavar="SQL", help="Only exchanges for which this holds; docs/columns.md lists the columns."
        ),
    ] = "",
    period: Annotated[
        str,
        typer.Option(
            "--period", metavar="WORDS", help='Only this period, for example "06:38 to 06:44" or "last 5 min".'
        ),
    ] = "",
    exchanges: Annotated[
        Path | None, typer.Option("--exchanges", metavar="OUT.csv|OUT.parquet", help="Write the exchanges here.")
    ] = None,
    connections: Annotated[
        Path | None, typer.Option("--connections", metavar="OUT.csv|OUT.parquet", help="Write the connections here.")
    ] = None,
    packets: Annotated[
        Path | None, typer.Option("--packets", metavar="OUT.pcapng", help="Write the packets of the connections here.")
    ] = None,
    flows: Annotated[
        Path | None,
        typer.Option(
            "--flows", metavar="OUT.ipfix|OUT.csv|OUT.parquet", help="Write the flow records of the period here."
        ),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="OUT.html|OUT.pdf", help="Write the report (of everything) here.")
    ] = None,
    bundle: Annotated[
        Path | None,
        typer.Option("--bundle", metavar="OUT.zip", help="Write the report with everything it rests on here."),
    ] = None,
    mask: Annotated[
        bool, typer.Option("--mask", help="Mask addresses consistently, and leave names and payload out.")
    ] = False,
    table: Annotated[
        list[str] | None,
        typer.Option(
            "--table",
            metavar="NAME=OUT.csv|OUT.parquet",
            help="Write a table of a history here: records, counters, readings, addresses; several are allowed.",
        ),
    ] = None,
    cluster: cli_reporting.Scheduler = "",
    store: cli_reporting.Exchange = "",
) -> None:
    """Get evidence out: tables, packets, the report; of everything or of a filter and a period."""
    if cluster and not table:
        raise YaffleError("--cluster reads tables of a history: it goes with --table")
    if table:
        _export_tables(evidence, table, period, cluster, store)
        if not any((exchanges, connections, packets, flows, report, bundle)):
            return
    from yaffle.capture.masking import Masker
    from yaffle.programs import case as programs
    from yaffle.session.exports import connections_table, waits_table, write_flows, write_packets, write_table
    from yaffle.session.investigation import Investigation
    from yaffle.session.period_words import period_ns

    bar, step = progress_bar()
    with bar:
        case = (
            programs.open(evidence[0], progress=step)
            if len(evidence) == 1
            else programs.analyse(evidence, progress=step)
        )
    opened = case.opened
    model = Investigation()
    model.open(opened)
    held = opened.evidence
    names = {p.name: (p.first_ns, p.last_ns) for p in model.kept.periods}
    chosen = period_ns(period, held.first_ns, held.last_ns, names=names) if period else None
    model.look(model.focus.with_trail(()).with_period(chosen).with_filter(filter_))
    if model.filter_error is not None:
        raise model.filter_error
    scene, masker = model.scene, Masker() if mask else None
    assert scene is not None
    for path, made in ((exchanges, waits_table), (connections, connections_table)):
        if path is not None:
            typer.echo(f"{path}: {write_table(made(scene, masker), path)} rows")
    if packets is not None:
        typer.echo(f"{packets}: {write_packets(held, scene.packets, packets, masker)} packets, {scene.words}")
    if flows is not None:
        if mask:
            raise YaffleError("--flows cannot be masked yet: leave --mask out, or the flow records")
        typer.echo(f"{flows}: {write_flows(scene, flows)} flow records")
    for written in cli_reporting.write_reports(opened, model.kept, report, bundle, mask, masker):
        typer.echo(str(written))


def _export_tables(evidence: list[Path], tables: list[str], period: str, cluster: str, store: str) -> None:
    """Tables of a history, whole or of a period."""
    from yaffle.history.store import History
    from yaffle.session.period_words import period_ns
    from yaffle.session.table_export import write_rows

    if len(evidence) != 1:
        raise YaffleError("--table: tables are of one history; give it alone")
    history = History(evidence[0])
    chosen = period_ns(period, history.first_ns, history.last_ns) if period else None
    bar, step = progress_bar()
    with bar, cli_reporting.questions(cluster, store, evidence[0], step) as crew:
        parts = crew.parts if crew is not None else None
        for told in tables:
            name, _, out = told.partition("=")
            if not out:
                raise YaffleError(f"--table {told}: write NAME=OUT.csv or NAME=OUT.parquet")
            count = write_rows(evidence[0], name, Path(out), *(chosen or (0, 1 << 62)), parts)
            typer.echo(f"{out}: {count:,} rows")


def _weeks_beside(to: Path) -> "subprocess.Popen[bytes]":
    """Compiles the engine and writes the demo's four weeks in a process of its own, which may outlive this one."""
    code = (
        "import sys; from pathlib import Path; from yaffle.warm_up import compile_once; compile_once();"
        "from yaffle.session.four_weeks import make_four_weeks; make_four_weeks(Path(sys.argv[1]))"
    )
    return subprocess.Popen([sys.executable, "-c", code, str(to)], stdin=subprocess.DEVNULL, start_new_session=True)


@app.command()
def demo(
    to: Annotated[Path, typer.Option("--to", metavar="DIR", help="Where the evidence goes.")] = Path("demo"),
    run: Annotated[
        bool,
        typer.Option("--run", help="Also analyse it without a screen: report, document, a picture of each station."),
    ] = False,
) -> None:
    """Make the demo evidence: three captures of a morning at Harbourline Ferries and its truth, four weeks of flow
    records around it, what switches and a radio told of it.
    """
    from yaffle.demo.inside import make_inside
    from yaffle.demo.morning import make_morning
    from yaffle.engine_start import make_ready

    # Beside each other: the engine is compiled, if it is not yet, four weeks are written, the morning is simulated.
    weeks = _weeks_beside(to)
    sys.stderr.write("simulating the morning; four weeks of flow records are written meanwhile\n")
    captures = make_morning(to)
    inside = make_inside(to / "inside")
    for path in [*captures, *inside, to / "four-weeks.yaffle"]:
        typer.echo(path)
    if not run:
        return
    bar, step = progress_bar()
    with bar:
        step(0.0, "writing four weeks of flow records")
        if weeks.wait():
            raise YaffleError(f"{to}: the four weeks could not be written")
        make_ready(captures, step)
    from yaffle.desktop.pictures import take_pictures

    pictures = take_pictures(captures, to / "four-weeks.yaffle", inside, to)
    analyse([str(path) for path in captures], str(to / "analysis.json"), to / "report.html")
    typer.echo("")
    for path in [to / "report.html", to / "analysis.json", *pictures]:
        typer.echo(path)


@app.command(name="install-desktop")
def install_desktop() -> None:
    """Put the desktop entry, the icon and the file types where this user's desktop finds them."""
    from yaffle import desktop_entry

    for path in desktop_entry.install_desktop():
        typer.echo(path)


@app.command(name="open")
def open_window(
    files: Annotated[
        list[str] | None,
        typer.Argument(help="A case, a history, or captures; the former two may be addresses of a store."),
    ] = None,
) -> None:
    """Open the window (the same as `yaffle FILE`)."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        raise YaffleError(_NO_SCREEN)
    from yaffle.desktop.application import run

    raise typer.Exit(run([given_in_terminal(file) for file in files or []]))


@app.callback()
def _every(
    version: Annotated[
        bool, typer.Option("--version", help="Show the version and exit.", is_eager=True, callback=_show_version)
    ] = False,
) -> None:
    """Whose delay is it? Network performance analysis."""


def main() -> None:
    """Entry point. Errors that a user can act upon are one line; the exit code is 2 for them."""
    arguments = sys.argv[1:]
    commands = {one.name or getattr(one.callback, "__name__", "") for one in app.registered_commands}
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
    finally:
        leave_the_rest()
