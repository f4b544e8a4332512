"""Pages below each other, as they will look on paper."""

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QWidget

from yaffle.desktop.report.page_images import PageImage
from yaffle.desktop.shared import theme

_GAP = 14
_PAPER_PX = 595.0  # width of A4 in points
_LEAST, _MOST = 0.7, 2.5


class PageView(QAbstractScrollArea):
    """As wide as the room it has."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._pages: Sequence[PageImage] = ()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Pages of the report")

    @property
    def scale(self) -> float:
        """Pixels a point at which a page fills the width."""
        wide = (self.viewport().width() - 2 * _GAP) * self.devicePixelRatioF() / _PAPER_PX
        return max(_LEAST, min(_MOST, wide))

    def show_pages(self, pages: Sequence[PageImage]) -> None:
        """Shows other pages; the place stays where that is possible."""
        self._pages = pages
        self._fit()
        self.viewport().update()

    def go_to(self, page: int, top: float) -> None:
        """Brings a place into view: a page, and points from its top."""
        if page < len(self._pages):
            tops = self._tops()
            self.verticalScrollBar().setValue(int(tops[page] + top * self._shown_scale(page)) - _GAP)

    def _shown_scale(self, page: int) -> float:
        return self._wide() / self._pages[page].wide

    def _wide(self) -> int:
        return max(100, self.viewport().width() - 2 * _GAP)

    def _tops(self) -> list[float]:
        tops, at = [], float(_GAP)
        for k, page in enumerate(self._pages):
            tops.append(at)
            at += page.high * self._shown_scale(k) + _GAP
        return [*tops, at]

    def _fit(self) -> None:
        bar, high = self.verticalScrollBar(), self.viewport().height()
        bar.setRange(0, max(0, int(self._tops()[-1]) - high))
        bar.setPageStep(high)
        bar.setSingleStep(48)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()
        super().resizeEvent(event)

    def scrollContentsBy(self, _dx: int, _dy: int) -> None:
        self.viewport().update()

    def paintEvent(self, _event: object) -> None:
        painter, look = QPainter(self.viewport()), theme.current()
        painter.fillRect(self.viewport().rect(), QColor(look.surface))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        offset, tops = self.verticalScrollBar().value(), self._tops()
        for k, page in enumerate(self._pages):
            top, high = tops[k] - offset, page.high * self._shown_scale(k)
            if top + high < 0 or top > self.viewport().height():
                continue
            place = QRectF(_GAP, top, self._wide(), high)
            painter.drawImage(place, page.image)
            painter.setPen(QColor(look.line))
            painter.drawRect(place)
