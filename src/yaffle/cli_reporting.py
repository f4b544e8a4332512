"""The command that tells a period, `yaffle report`; and reports and bundles as other commands write them."""

import sys
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from yaffle.errors import YaffleError
from yaffle.given_evidence import given_in_terminal
from yaffle.progress import Progress
from yaffle.terminal import progress_bar

if TYPE_CHECKING:
    from yaffle.cluster.questions import Questions

Scheduler = Annotated[
    str,
    typer.Option(
        "--cluster", metavar="tcp://SCHEDULER:8786", help="Have what is asked of a history answered by its workers."
    ),
]
Exchange = Annotated[
    str,
    typer.Option(
        "--store", metavar="ADDRESS", help="With --cluster: where workers and this machine exchange files; all see it."
    ),
]


def questions(
    scheduler: str, store: str, history: Path, progress: Progress
) -> "AbstractContextManager[Questions | None]":
    """Who answers what is asked of a history: the workers of a scheduler where one is named."""
    if not scheduler:
        return nullcontext()
    from yaffle.cluster.questions import Questions
    from yaffle.room import spill_folder

    return Questions(scheduler, store or str(spill_folder()), history, progress)


def report(
    history: Annotated[
        Path, typer.Argument(parser=given_in_terminal, metavar="HISTORY|CASE", help="A history, or a case with one.")
    ],
    period: Annotated[
        str,
        typer.Option("--period", metavar="WORDS", help='"last week", "yesterday", "last month", "2026-03-10", ….'),
    ] = "last week",
    out: Annotated[Path, typer.Option("--out", metavar="OUT.html|OUT.pdf", help="Where it is written.")] = Path(
        "report.html"
    ),
    title: Annotated[str, typer.Option("--title", metavar="WORDS", help="What stands above it.")] = "",
    as_of: Annotated[
        str,
        typer.Option(
            "--as-of", metavar="MOMENT", help='"Last" counts from here, as "2026-03-16 06:00"; else the history\'s end.'
        ),
    ] = "",
    zone: Annotated[
        str, typer.Option("--zone", metavar="ZONE", help="Whose days and hours, as Europe/Berlin.")
    ] = "UTC",
    cluster: Scheduler = "",
    store: Exchange = "",
) -> None:
    """Report a period: waits, service levels, worst hours, traffic, events and responses, against previous weeks."""
    from yaffle.periods.pages import period_page
    from yaffle.periods.period import period_of
    from yaffle.programs.case import open as open_evidence
    from yaffle.session.letterhead import load_letterhead
    from yaffle.session.period_words import moment_ns
    from yaffle.session.reporting import write_page
    from yaffle.units import show_in

    if out.suffix.lower() not in (".html", ".htm", ".pdf"):
        raise YaffleError(f"{out}: the name of a report ends in .html or .pdf")
    where = _zone(zone)
    show_in(where)
    bar, step = progress_bar()
    with bar:
        opened = open_evidence(history, progress=step).opened
        kept = opened.evidence.analysis.history
        if cluster and kept is None:
            raise YaffleError(f"{history}: --cluster answers questions about a history, and there is none in it")
        with questions(cluster, store, kept.folder if kept else history, step) as crew:
            if kept is not None:
                kept.asker = crew
            moment = moment_ns(as_of, opened.evidence.last_ns, where) if as_of else None
            found = period_of(opened, period, where, step, moment)
            page = period_page(found, _period_figures(found, step), load_letterhead(), title)
        step(0.95, "laying out pages")
        write_page(page, out)
    typer.echo(str(out))


def _zone(name: str) -> Any:
    import zoneinfo
    from datetime import UTC

    try:
        return UTC if name == "UTC" else zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        raise YaffleError(f"--zone {name}: no such zone; write for example Europe/Berlin") from None


def _period_figures(found: Any, step: Any) -> Any:
    """Figures where they can be drawn."""
    from yaffle.desktop.report.without_window import with_application

    try:
        with_application()
    except ImportError as error:
        sys.stderr.write(f"the report has no figures: {error}\n")
        return {}
    from yaffle.desktop.report.period_figures import period_figures

    return period_figures(found, step)


def write_reports(
    opened: Any, kept: Any, report: Path | None, bundle: Path | None, mask: bool, masker: Any = None
) -> list[Path]:
    """Writes the report, and the bundle, of what was opened; gives what was written. masker: of what else goes out."""
    from yaffle.capture.masking import Masker
    from yaffle.session.bundle import write_bundle
    from yaffle.session.reporting import write_page

    written: list[Path] = []
    if report is None and bundle is None:
        return written
    masker = (masker or Masker()) if mask else None
    bar, step = progress_bar()
    with bar:
        page = _page(opened, kept, masker, step)
        if report is not None:
            step(0.9, "laying out pages")
            written.append(write_page(page, report))
        if bundle is not None:
            written.append(write_bundle(opened, kept, page, bundle, masker, step))
    return written


def _page(opened: Any, kept: Any, masker: Any, step: Any) -> str:
    """The report's page, with figures where they can be drawn."""
    from yaffle.desktop.report.without_window import drawing
    from yaffle.session.letterhead import load_letterhead
    from yaffle.session.reporting import report_page

    try:
        draw = drawing(step)
    except ImportError as error:
        sys.stderr.write(f"the report has no figures: {error}\n")
        draw = None
    return report_page(opened, kept, masker, draw, load_letterhead())
