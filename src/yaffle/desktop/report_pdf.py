"""The report as PDF: the same page, laid out for paper, with the ledger bars as pictures."""

import os
import re
from pathlib import Path

from markupsafe import Markup
from PySide6.QtCore import QMarginsF, QRectF, QSizeF, Qt, QUrl
from PySide6.QtGui import QFont, QGuiApplication, QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument

from yaffle.arrays import Array
from yaffle.capture.masking import Masker
from yaffle.desktop import theme
from yaffle.desktop.ledger_bar import paint_bar
from yaffle.errors import YaffleError
from yaffle.report.html import render
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.reporting import said

_WIDTH, _HEIGHT = 1200, 44  # pixels of a bar's picture
_POINTS = 150  # width of a bar in a table


def write_pdf(opened: Opened, kept: Kept, path: Path, masker: Masker | None = None) -> Path:
    """Writes the report. Needs a QGuiApplication. The file appears whole. Raises YaffleError."""
    document = QTextDocument()
    pictures = 0

    def bar(charges: Array, full_ns: float) -> Markup:
        nonlocal pictures
        image = QImage(_WIDTH, _HEIGHT, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        paint_bar(painter, QRectF(0, 4, _WIDTH - 2, _HEIGHT - 8), charges, max(full_ns, 1.0))
        painter.end()
        name = f"bar-{pictures}"
        pictures += 1
        document.addResource(QTextDocument.ResourceType.ImageResource, QUrl(name), image)
        wide = 480 if float(charges.sum()) >= full_ns * 0.999 and pictures == 1 else _POINTS
        return Markup('<img src="{}" width="{}" height="10">').format(name, wide)

    former = theme.current()
    try:
        theme.use(theme.LIGHT)
        page = render(opened.analysis, said=said(kept), masker=masker, bar=bar)
    finally:
        theme.use(former)
    page = re.sub(r"<svg.*?</svg>", "", page, flags=re.DOTALL)  # Keys and patterns of the page on the screen.
    document.setDefaultFont(QFont("sans-serif", 9))
    document.setHtml(page)
    part = path.with_name(path.name + ".part")
    writer = QPdfWriter(str(part))
    writer.setPageLayout(QPageLayout(QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Portrait, QMarginsF(14, 14, 14, 14), QPageLayout.Unit.Millimeter))
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
