"""The report of a case: what was found, with what the user said of it and made of it."""

from pathlib import Path

from yaffle.capture.masking import Masker
from yaffle.errors import YaffleError
from yaffle.report.answer import write_whole
from yaffle.report.html import prepared
from yaffle.report.paper import write_pdf
from yaffle.report.plan import Letterhead
from yaffle.report.sections import Draw, Said
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.units import date_and_moment


def said(kept: Kept) -> Said:
    """The user's part."""
    complaints = tuple(
        (c.who, c.what, f"{date_and_moment(c.first_ns)} to {date_and_moment(c.last_ns)}", c.words)
        for c in kept.complaints
    )
    return Said(complaints, kept.pinned, kept.dismissed, kept.remarks, kept.notes)


def report_page(
    opened: Opened,
    kept: Kept,
    masker: Masker | None = None,
    draw: Draw | None = None,
    letterhead: Letterhead = Letterhead(),
) -> str:
    """One self-contained page. draw: gives findings their figures."""
    basis = prepared(opened.analysis, said(kept), masker, kept.report, letterhead, opened.findings)
    return basis.page(draw(basis.analysis, basis.pictured) if draw is not None else {})


def write_page(page: str, path: Path) -> Path:
    """Writes a page as HTML or as PDF, by the name's ending. Raises YaffleError."""
    if path.suffix.lower() == ".pdf":
        return write_pdf(page, path)
    if path.suffix.lower() not in (".html", ".htm"):
        raise YaffleError(f"{path}: the name of a report ends in .html or .pdf")
    try:
        write_whole(path, page)
    except OSError as error:
        raise YaffleError(f"{path}: cannot be written ({error.strerror or error})") from error
    return path
