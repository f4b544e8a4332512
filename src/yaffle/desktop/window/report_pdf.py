"""The report as PDF: the same page, laid out for paper, with the ledger bars as pictures."""

import os
import re
from pathlib import Path

import numpy as np
from markupsafe import Markup
from PySide6.QtCore import QMarginsF, QRectF, QSizeF, Qt, QUrl
from PySide6.QtGui import QFont, QGuiApplication, QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument

from yaffle.arrays import Array
from yaffle.capture.masking import Masker
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.ledger_bar import paint_bar
from yaffle.errors import YaffleError
from yaffle.ledger import causes
from yaffle.report.html import render
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.reporting import said

_FINE = 2  # pixels of a picture to one on the page; more would make the marks too fine to be seen
_PAGE, _CELL, _TALL = 640, 150, 9  # a bar across the page, one in a table, and their height
# In the subset of CSS that the text engine knows. Tables begin on a page of their own, so that their rows stay whole.
_STYLE = """
 body { color: #2a2922; } h1 { font-size: 18pt; } h2 { font-size: 12pt; margin-top: 14px;
     } .tables { page-break-before: always; }
 th { text-align: right; font-weight: 600; white-space: nowrap; } td { text-align: right; white-space: nowrap;
     } .words { text-align: left; }
 .faint { color: #6a6557; } p { margin-top: 3px; margin-bottom: 5px; }
 .finding { background-color: #f3eddd; margin-top: 8px; }
"""


def write_pdf(opened: Opened, kept: Kept, path: Path, masker: Masker | None = None) -> Path:
    """Writes the report. Needs a QGuiApplication. The file appears whole. Raises YaffleError."""
    document = QTextDocument()
    pictures = 0

    def drawn(charges: Array, full_ns: float, points: int) -> Markup:
        nonlocal pictures
        image = QImage(points * _FINE, _TALL * _FINE, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        painter.scale(_FINE, _FINE)
        paint_bar(painter, QRectF(0, 0, points - 0.5, _TALL), charges, max(full_ns, 1.0))
        painter.end()
        name = f"picture-{pictures}"
        pictures += 1
        document.addResource(QTextDocument.ResourceType.ImageResource, QUrl(name), image)
        return Markup('<img src="{}" width="{}" height="{}">').format(name, points, _TALL)

    def bar(charges: Array, full_ns: float) -> Markup:
        return drawn(charges, full_ns, _PAGE if pictures == 0 else _CELL)

    def swatch(party: str) -> Markup:
        charges = np.zeros(causes.COUNT, np.int64)
        charges[causes.party_columns(party)] = 1
        return drawn(charges, float(charges.sum()), 2 * _TALL)

    former = theme.current()
    try:
        theme.use(theme.LIGHT)
        page = render(opened.analysis, said=said(kept), masker=masker, bar=bar, swatch=swatch)
    finally:
        theme.use(former)
    page = re.sub(r"<svg.*?</svg>", "", page, flags=re.DOTALL)  # Patterns of the page on the screen.
    page = re.sub(r"<style>.*?</style>", f"<style>{_STYLE}</style>", page, flags=re.DOTALL)
    page = page.replace("<table>", '<table width="100%" cellspacing="0" cellpadding="3">')
    document.setDefaultFont(QFont("sans-serif", 8))
    document.setHtml(page)
    part = path.with_name(path.name + ".part")
    writer = QPdfWriter(str(part))
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4),
            QPageLayout.Orientation.Portrait,
            QMarginsF(14, 14, 14, 14),
            QPageLayout.Unit.Millimeter,
        )
    )
    writer.setTitle("Whose delay was it?")
    writer.setResolution(96)
    document.setPageSize(QSizeF(writer.width(), writer.height()))
    document.print_(writer)
    del writer
    if not part.exists() or not part.stat().st_size:
        raise YaffleError(f"{path}: cannot be written")
    part.replace(path)
    return path


def without_window(opened: Opened, kept: Kept, path: Path, masker: Masker | None = None) -> Path:
    """The same where no window is open, nor a screen needed."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    application = QGuiApplication.instance() or QGuiApplication(["yaffle"])
    try:
        return write_pdf(opened, kept, path, masker)
    finally:
        del application
