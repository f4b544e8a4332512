"""The period strip: the whole case in one glance, volume above, troubles below; drag to select the period."""

from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QToolTip, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.time_axis import round_times
from yaffle.session.investigation import Investigation
from yaffle.session.survey import Series
from yaffle.units import date_and_moment, day, duration, moment, rate, three_digits, zone_name

_LEFT, _RIGHT, _TOP, _BOTTOM = 10, 10, 20, 16
_TROUBLE_HEIGHT = 10
_HANDLE = 5  # pixels around an edge of the period that take hold of it
_DAY_NS = 86_400 * 10**9
_SHADES = 8  # of red, by how many TCP issues there are
MEASURES = ("volume", "packets", "concurrent waits")


def _rects(left: Array, top: Array, wide: Array, high: Array) -> list[QRectF]:
    return [QRectF(*place) for place in zip(left.tolist(), top.tolist(), wide.tolist(), high.tolist(), strict=True)]


class PeriodStrip(QWidget):
    """Keeps only what it draws; the period itself lives in the focus."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._series: Series | None = None
        self._drag: tuple[int, int] | None = None
        self._waiting = np.empty(0)
        self.measure = MEASURES[0]
        self.setFixedHeight(88)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Period strip")
        self.setToolTip(
            "Drag to select a period, or one of its edges; wheel to zoom, double click for all. Left and right move it,"
            " plus and minus size it; M draws something else."
        )
        self._undo = [
            investigation.opened_changed.connect(self._reload),
            investigation.grown_changed.connect(self._reload),
            investigation.focus_changed.connect(self._refresh),
            investigation.kept_changed.connect(self._refresh),
        ]
        self._reload()

    def _reload(self) -> None:
        evidence = self._model.evidence
        self._series = None
        if evidence is not None and self._model.opened is not None and self.width() > 40:
            self._series = self._model.opened.overview.coarser(max(20, (self.width() - _LEFT - _RIGHT) // 3))
            waiting = self._model.opened.waiting_ns
            starts = np.searchsorted(self._model.opened.overview.edges_ns[:-1], self._series.edges_ns[:-1])
            self._waiting = np.add.reduceat(waiting, starts) / np.maximum(1, np.diff(self._series.edges_ns))
        self.update()

    def _refresh(self) -> None:
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._reload()
        super().resizeEvent(event)

    # --- places ---
    def _x(self, time_ns: int) -> float:
        evidence = self._model.evidence
        assert evidence is not None
        share = (time_ns - evidence.first_ns) / max(1, evidence.last_ns - evidence.first_ns)
        return _LEFT + share * (self.width() - _LEFT - _RIGHT)

    def _time(self, x: float) -> int:
        evidence = self._model.evidence
        assert evidence is not None
        share = min(1.0, max(0.0, (x - _LEFT) / max(1, self.width() - _LEFT - _RIGHT)))
        return int(evidence.first_ns + share * (evidence.last_ns - evidence.first_ns))

    def _edge_at(self, x: float) -> int:
        """Which edge of the period is taken hold of at a place: 0 the first, 1 the last, -1 none."""
        period = self._model.focus.period
        if period is None:
            return -1
        distances = [abs(self._x(edge) - x) for edge in period]
        nearest = int(np.argmin(distances))
        return nearest if distances[nearest] <= _HANDLE else -1

    def _heights(self) -> tuple[np.ndarray, str]:
        """What is drawn: values, and the greatest in words."""
        data = self._series
        assert data is not None
        if self.measure == "packets":
            width_s = max(1e-9, (data.edges_ns[1] - data.edges_ns[0]) / 1e9)
            return data.packets.astype(float), f"max {three_digits(float(data.packets.max() / width_s))} packets/s"
        if self.measure == "concurrent waits":
            return self._waiting, f"peak concurrent waits {three_digits(float(self._waiting.max()))}"
        where = (
            "" if data.packets.any() else " at any one exporter"
        )  # Sums of exporters along a path would count twice.
        return data.bits_per_s, f"max{where} {rate(float(data.bits_per_s.max()))}"

    # --- hand ---
    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._model.evidence is not None and event.button() == Qt.MouseButton.LeftButton:
            at, edge, period = (
                self._time(event.position().x()),
                self._edge_at(event.position().x()),
                self._model.focus.period,
            )
            self._drag = (period[1 - edge], at) if edge >= 0 and period is not None else (at, at)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._model.evidence is None:
            return
        at = self._time(event.position().x())
        if self._drag is not None:
            self._drag = (self._drag[0], at)
            self.update()
        elif self._series is not None:
            self.setCursor(
                Qt.CursorShape.SplitHCursor if self._edge_at(event.position().x()) >= 0 else Qt.CursorShape.ArrowCursor
            )
            flag = self._flag_at(event.position().x(), event.position().y())
            k = int(np.clip(np.searchsorted(self._series.edges_ns, at, "right") - 1, 0, self._series.octets.size - 1))
            text = f"{moment(at)}\n{rate(self._series.bits_per_s[k])}, {int(self._series.troubles[k])} TCP issues"
            if flag:
                text = flag
            QToolTip.showText(event.globalPosition().toPoint() + QPoint(8, 12), text, self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        first, last = sorted(self._drag)
        self._drag = None
        if abs(self._x(last) - self._x(first)) >= 4:
            self._model.look(self._model.focus.with_period((first, last)))
        self.update()

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self._drag = None
        self._model.look(self._model.focus.with_period(None))

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._model.evidence is not None and event.angleDelta().y():
            self._zoom(0.8 if event.angleDelta().y() > 0 else 1.25, self._time(event.position().x()))

    def _zoom(self, factor: float, around: int) -> None:
        evidence = self._model.evidence
        assert evidence is not None
        first, last = self._model.focus.period or (evidence.first_ns, evidence.last_ns)
        first, last = int(around - (around - first) * factor), int(around + (last - around) * factor)
        first, last = max(first, evidence.first_ns), min(last, evidence.last_ns)
        if last - first < 1_000_000:
            return
        whole = first <= evidence.first_ns and last >= evidence.last_ns
        self._model.look(self._model.focus.with_period(None if whole else (first, last)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        evidence, period = self._model.evidence, self._model.focus.period
        if evidence is None:
            return super().keyPressEvent(event)
        first, last = period or (evidence.first_ns, evidence.last_ns)
        step = max(1_000_000, (last - first) // 10)
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            move = -step if key == Qt.Key.Key_Left else step
            move = max(evidence.first_ns - first, min(evidence.last_ns - last, move))
            if move:
                self._model.look(self._model.focus.with_period((first + move, last + move)))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(0.8, (first + last) // 2)
        elif key == Qt.Key.Key_Minus:
            self._zoom(1.25, (first + last) // 2)
        elif key == Qt.Key.Key_M:
            self.measure = MEASURES[(MEASURES.index(self.measure) + 1) % len(MEASURES)]
            self.update()
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_Escape):
            self._model.look(self._model.focus.with_period(None))
        else:
            super().keyPressEvent(event)
        return None

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        for name in MEASURES:
            action = menu.addAction(f"Draw {name}", partial(self.draw, name))
            action.setCheckable(True)
            action.setChecked(name == self.measure)
        menu.exec(event.globalPos())

    def draw(self, measure: str) -> None:
        """Draws another measure."""
        self.measure = measure
        self.update()

    def _flag_at(self, x: float, y: float) -> str:
        """The complaint whose flag stands at a place."""
        if y > _TOP + 12 or self._model.evidence is None:
            return ""
        for complaint in self._model.kept.complaints:
            if abs(self._x(complaint.first_ns) - x) < 8:
                return f"{complaint.who or 'somebody'} complained: {complaint.what}\n{complaint.words}".strip()
        return ""

    @staticmethod
    def _tick(at: int, span_ns: int) -> str:
        if span_ns > 4 * _DAY_NS:
            return date_and_moment(at)[5:10]
        if span_ns > _DAY_NS:
            return date_and_moment(at)[5:16]
        return moment(at, digits=0 if span_ns > 20_000_000_000 else 3)

    def _paint_flags(self, painter: QPainter, base: float) -> None:
        look = theme.current()
        for complaint in self._model.kept.complaints:
            x = self._x(complaint.first_ns)
            painter.setPen(QPen(QColor(look.red), 1.4))
            painter.drawLine(QPointF(x, _TOP - 2), QPointF(x, base + _TROUBLE_HEIGHT))
            painter.setBrush(QColor(look.red))
            painter.drawPolygon(QPolygonF([QPointF(x, _TOP - 3), QPointF(x + 9, _TOP + 1), QPointF(x, _TOP + 5)]))

    def _paint_bars(
        self, painter: QPainter, xs: Array, heights: Array, base: float, chosen: tuple[int, ...] | None
    ) -> None:
        """The measure's bars: those in the chosen period in moss, others faint."""
        look, data = theme.current(), self._series
        assert data is not None
        begins = data.edges_ns[:-1]
        within = np.ones(begins.size, bool) if chosen is None else (begins >= chosen[0]) & (begins <= chosen[1])
        outside = QColor(look.faint)
        outside.setAlpha(120)
        wide, high = np.maximum(1.0, np.diff(xs) - 0.5), np.maximum(1.0, heights)
        painter.setPen(Qt.PenStyle.NoPen)
        for color, chosen_bars in ((QColor(look.moss), within), (outside, ~within)):
            rows = np.flatnonzero(chosen_bars & (heights > 0))
            painter.setBrush(color)
            painter.drawRects(_rects(xs[rows], base - high[rows], wide[rows], high[rows]))

    def _paint_troubles(self, painter: QPainter, xs: Array, base: float) -> None:
        """TCP issues below the bars, the more the darker."""
        data, red = self._series, QColor(theme.current().red)
        assert data is not None
        shades = np.ceil(_SHADES * np.sqrt(data.troubles / max(1.0, float(data.troubles.max())))).astype(int)
        wide = np.maximum(1.5, np.diff(xs) - 0.5)
        painter.setPen(Qt.PenStyle.NoPen)
        for shade in np.unique(shades[shades > 0]).tolist():
            rows = np.flatnonzero(shades == shade)
            red.setAlphaF(0.35 + 0.65 * shade / _SHADES)
            painter.setBrush(red)
            top, height = np.full(rows.size, base + 3), np.full(rows.size, _TROUBLE_HEIGHT - 2.0)
            painter.drawRects(_rects(xs[rows], top, wide[rows], height))

    # --- eye ---
    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(look.panel))
        painter.setPen(QColor(look.line))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        evidence, data = self._model.evidence, self._series
        if evidence is None or data is None:
            painter.setPen(QColor(look.faint))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "The period of the evidence appears here; Ctrl+O opens a capture",
            )
            return
        base = self.height() - _BOTTOM - _TROUBLE_HEIGHT - 2
        values, highest = self._heights()
        peak = max(1e-12, float(values.max()))
        period = self._model.focus.period
        chosen = tuple(sorted(self._drag)) if self._drag else period
        xs = np.linspace(_LEFT, self.width() - _RIGHT, data.octets.size + 1)
        if chosen:
            left, right = self._x(chosen[0]), self._x(chosen[1])
            painter.fillRect(
                QRectF(left, _TOP - 2, max(1.0, right - left), base - _TOP + _TROUBLE_HEIGHT + 6),
                QColor(look.moss_soft),
            )
        heights = values / peak * (base - _TOP)
        self._paint_bars(painter, xs, heights, base, chosen)
        self._paint_troubles(painter, xs, base)
        self._paint_flags(painter, base)
        if chosen:
            painter.setPen(QPen(QColor(look.moss), 2))
            for x in (self._x(chosen[0]), self._x(chosen[1])):
                painter.drawLine(int(x), _TOP - 2, int(x), base + _TROUBLE_HEIGHT + 2)
        painter.setPen(QColor(look.faint))
        span_ns = evidence.last_ns - evidence.first_ns
        for at in round_times(evidence.first_ns, evidence.last_ns, max(2, self.width() // 150)):
            x, words = self._x(at), self._tick(at, span_ns)
            wide = painter.fontMetrics().horizontalAdvance(words) + 4
            left = min(max(x - wide / 2, _LEFT), self.width() - _RIGHT - wide)
            painter.drawLine(QPointF(x, base + _TROUBLE_HEIGHT + 2), QPointF(x, base + _TROUBLE_HEIGHT + 5))
            painter.drawText(QRectF(left, self.height() - _BOTTOM, wide, 14), Qt.AlignmentFlag.AlignHCenter, words)
        painter.drawText(
            QRectF(_LEFT, 2, self.width() // 2 - _LEFT, 16),
            Qt.AlignmentFlag.AlignLeft,
            f"{day(evidence.first_ns)}, {zone_name()}; {self.measure}, {highest}",
        )
        span = evidence.last_ns - evidence.first_ns
        words = (
            f"{self._tick(chosen[0], span)} to {self._tick(chosen[1], span)}: {duration(chosen[1] - chosen[0])}"
            if chosen
            else f"whole period: {duration(span)}"
        )
        painter.setPen(QColor(look.ink))
        painter.drawText(QRectF(self.width() - _RIGHT - 500, 2, 500, 16), Qt.AlignmentFlag.AlignRight, words)
        if self.hasFocus():
            painter.setPen(QPen(QColor(look.moss), 1))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
