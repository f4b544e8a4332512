"""Figures where no window is open, nor a screen needed."""

import logging
import os
from collections.abc import Sequence
from typing import Any

from yaffle.analysis import Analysis
from yaffle.findings.finding import Finding
from yaffle.progress import Progress
from yaffle.report.sections import Draw, Figures
from yaffle.session.evidence import Evidence

_LOG = logging.getLogger(__name__)
_kept: list[Any] = []  # The application of the process lives as long as it.


def with_application() -> Any:
    """What plots need to be drawn, on this thread, which must be the process's first. Raises ImportError where Qt's
    libraries lack.
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import qInstallMessageHandler
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.shared import theme

    application = QApplication.instance() or QApplication(["yaffle"])
    assert isinstance(application, QApplication)
    # What a platform without a screen cannot do is of no interest to whoever wants a page.
    qInstallMessageHandler(lambda _kind, _context, text: _LOG.debug("Qt: %s", text))
    if theme.current().name != theme.PAPER.name:
        theme.apply(application, theme.LIGHT)
    _kept.append(application)
    return application


def drawing(progress: Progress) -> Draw:
    """Draws figures. Raises ImportError where Qt's libraries lack."""
    application = with_application()
    from yaffle.desktop.report.figure_work import figures_at_once

    def draw(analysis: Analysis, found: Sequence[Finding]) -> Figures:
        assert application is not None
        return figures_at_once(Evidence(analysis), found, progress)

    return draw
