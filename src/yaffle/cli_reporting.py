"""The command that tells a period: `yaffle report`."""

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle.errors import YaffleError


def report(
    history: Annotated[Path, typer.Argument(metavar="HISTORY|CASE", help="A history, or a case with one.")],
    period: Annotated[
        str,
        typer.Option("--period", metavar="WORDS", help='"last week", "yesterday", "last month", "2026-03-10", ….'),
    ] = "last week",
    out: Annotated[Path, typer.Option("--out", metavar="OUT.html|OUT.pdf", help="Where it is written.")] = Path(
        "report.html"
    ),
    title: Annotated[str, typer.Option("--title", metavar="WORDS", help="What stands above it.")] = "",
    now: Annotated[bool, typer.Option("--now", help="“Last” counts from now, not from the history's end.")] = False,
) -> None:
    """Tell a period: applications, service levels, worst hours, traffic, what was noticed, against the weeks before."""
    import time

    from yaffle.periods.pages import period_page
    from yaffle.periods.period import period_of
    from yaffle.programs.case import open as open_evidence
    from yaffle.session.letterhead import load_letterhead
    from yaffle.session.reporting import write_page

    if out.suffix.lower() not in (".html", ".htm", ".pdf"):
        raise YaffleError(f"{out}: the name of a report ends in .html or .pdf")
    opened = open_evidence(history).opened
    found = period_of(opened, period, now_ns=time.time_ns() if now else None)
    page = period_page(found, _figures(found), load_letterhead(), title)
    write_page(page, out)
    typer.echo(str(out))


def _figures(found: Any) -> Any:
    """Figures where they can be drawn."""
    from yaffle.desktop.report.without_window import with_application

    try:
        with_application()
    except ImportError as error:
        sys.stderr.write(f"the report has no figures: {error}\n")
        return {}
    from yaffle.desktop.report.period_figures import period_figures

    return period_figures(found, lambda share, words: True)
