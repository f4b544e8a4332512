"""What a painted part shows, as vectors for paper."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.picture_file import vectors
from yaffle.report.flat_svg import flat_svg

WIDE = 760


@contextmanager
def on_paper() -> Iterator[None]:
    """Inside, parts are drawn in colors for paper."""
    former = theme.current()
    theme.use(theme.PAPER)
    try:
        yield
    finally:
        theme.use(former)


def vectors_of(made: Callable[[], QWidget], show: Callable[[QWidget], object], high: int) -> str:
    """A part is made, laid out unseen, filled, and painted as SVG; `show` may give another part inside to be painted.

    On the interface thread only.
    """
    with on_paper():
        part = made()
        part.setAttribute(Qt.WidgetAttribute.WA_DontShowOnScreen)
        part.setStyleSheet(f"* {{ background: {theme.PAPER.panel}; }}")
        part.resize(WIDE, high)
        part.show()
        QApplication.sendPostedEvents(part)
        inner = show(part)
        shown = inner if isinstance(inner, QWidget) else part
        QApplication.sendPostedEvents(part)
        _without_images(shown)
        svg = flat_svg(vectors(shown).decode("utf-8", "replace"))
        part.hide()
        part.deleteLater()
    return svg


def _without_images(part: QWidget) -> None:
    """Marks of plots are drawn, not stamped."""
    for view in [part, *part.findChildren(pg.GraphicsView)]:
        if isinstance(view, pg.GraphicsView):
            for item in view.scene().items():
                if isinstance(item, pg.ScatterPlotItem):
                    item.opts["useCache"] = False
