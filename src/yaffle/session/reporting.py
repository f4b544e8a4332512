"""The report of a case: what was found, with what the user said of it."""

from pathlib import Path

from yaffle.capture.masking import Masker
from yaffle.report.html import Said, write_report
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


def write_html(opened: Opened, kept: Kept, path: Path, masker: Masker | None = None) -> Path:
    """Writes one self-contained page."""
    write_report(opened.analysis, path, said(kept), masker)
    return path
