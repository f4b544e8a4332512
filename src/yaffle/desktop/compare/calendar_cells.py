"""A measure of weeks as a calendar: a row a day, a column a stretch of the day, darker where more was measured.

Anomalies are framed: above the baseline in red with a mark at the upper edge, below it in straw at the lower one.
"""

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.survey.measure_plots import value_text
from yaffle.session.baselines import NormalPicture
from yaffle.units import date_and_moment, day, moment

DAY_NS = 86_400 * 10**9
_LEFT, _TOP, _BOTTOM, _RIGHT = 92, 24, 20, 10
_MOST_CELLS = 96  # of a day
_SHADES = 6
_SEPARATE_PX = 5  # Rows at least so tall have a line between them.


class CalendarCells(QWidget):
    """`day_chosen` carries the first and last ns of a day that is wanted as a curve."""

    day_chosen = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture: NormalPicture | None = None
        self._values = np.empty((0, 0))
        self._sides = np.empty((0, 0), np.int64)
        self._first_day_ns = 0
        self._row = -1
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Calendar of the measure")
        self.setToolTip("Click, or Up, Down and Enter: the day as a curve")

    def show_picture(self, picture: NormalPicture | None) -> None:
        """Shows another measure."""
        self._picture = picture
        self._values, self._sides = np.empty((0, 0)), np.empty((0, 0), np.int64)
        if picture is not None and picture.starts_ns.size:
            self._first_day_ns = int(picture.starts_ns[0]) // DAY_NS * DAY_NS
            self._fold(picture)
        self._row = min(self._row, self._values.shape[0] - 1)
        self.update()

    def _fold(self, picture: NormalPicture) -> None:
        """Means and worst sides of the cells."""
        cells = max(1, min(_MOST_CELLS, DAY_NS // max(1, picture.settings.width_ns)))
        offset = picture.starts_ns - self._first_day_ns
        known = ~np.isnan(picture.values)
        days = int(offset[known].max(initial=0) // DAY_NS) + 1
        place = np.minimum(days * cells - 1, offset // DAY_NS * cells + offset % DAY_NS * cells // DAY_NS)
        sums = np.bincount(place[known], picture.values[known], days * cells)
        counts = np.bincount(place[known], minlength=days * cells)
        means = np.where(counts > 0, sums / np.maximum(1, counts), np.nan)
        self._values = means.reshape(days, cells)
        sides = np.zeros(days * cells, np.int64)
        out = picture.baseline.side != 0
        sides[place[out]] = picture.baseline.side[out]
        self._sides = sides.reshape(days, cells)

    @property
    def words(self) -> str:
        """What the shades mean."""
        top = float(np.nanmax(self._values)) if self._values.size and (~np.isnan(self._values)).any() else 0.0
        unit = self._picture.settings.subject.unit if self._picture is not None else ""
        return f"each row a day, UTC; the darkest cell is {value_text(top, unit)}"

    def _cell(self, row: int, column: int) -> QRectF:
        rows, columns = self._values.shape
        wide = (self.width() - _LEFT - _RIGHT) / max(1, columns)
        tall = (self.height() - _TOP - _BOTTOM) / max(1, rows)
        return QRectF(_LEFT + column * wide, _TOP + row * tall, wide, tall)

    def _at(self, place: QPoint) -> tuple[int, int]:
        rows, columns = self._values.shape
        if not rows or place.x() < _LEFT or place.y() < _TOP:
            return -1, -1
        wide, tall = self._cell(0, 0).width(), self._cell(0, 0).height()
        row, column = int((place.y() - _TOP) / max(1e-9, tall)), int((place.x() - _LEFT) / max(1e-9, wide))
        return (row, column) if row < rows and column < columns else (-1, -1)

    def _time_of(self, row: int, column: int) -> int:
        return self._first_day_ns + row * DAY_NS + column * DAY_NS // max(1, self._values.shape[1])

    def choose(self, row: int) -> None:
        """Asks for a day as a curve."""
        if 0 <= row < self._values.shape[0]:
            self._row = row
            self.update()
            self.day_chosen.emit((self._time_of(row, 0), self._time_of(row + 1, 0)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.choose(self._at(event.position().toPoint())[0])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        row, column = self._at(event.position().toPoint())
        if row < 0 or self._picture is None:
            return
        value, side = float(self._values[row, column]), int(self._sides[row, column])
        how = ", above the baseline" if side > 0 else ", below the baseline" if side < 0 else ""
        words = value_text(value, self._picture.settings.subject.unit)
        QToolTip.showText(
            event.globalPosition().toPoint(), f"{date_and_moment(self._time_of(row, column))}\n{words}{how}", self
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self._row = max(0, min(self._values.shape[0] - 1, self._row + step))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.choose(self._row)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: object) -> None:
        look, painter = theme.current(), QPainter(self)
        painter.fillRect(self.rect(), QColor(look.panel))
        rows, columns = self._values.shape
        if not rows:
            return
        top = float(np.nanmax(self._values)) if (~np.isnan(self._values)).any() else 1.0
        self._paint_shades(painter, max(1e-12, top))
        self._paint_sides(painter)
        self._paint_words(painter)
        if self._row >= 0:
            painter.setPen(QPen(QColor(look.moss), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self._cell(self._row, 0).united(self._cell(self._row, columns - 1)))

    def _paint_shades(self, painter: QPainter, top: float) -> None:
        """All cells as one image of a pixel each, stretched: years of days cost no more than one."""
        look, (rows, columns) = theme.current(), self._values.shape
        colors = [QColor(look.network) for _ in range(_SHADES + 1)] + [QColor(look.surface)]
        for level in range(_SHADES + 1):
            colors[level].setAlphaF(level / _SHADES)
        shares = np.maximum(0.0, np.nan_to_num(self._values)) / top
        levels = np.where(np.isnan(self._values), _SHADES + 1, np.round(_SHADES * np.sqrt(shares))).astype(np.intp)
        pixels = np.array([color.rgba() for color in colors], np.uint32)[levels].tobytes()
        image = QImage(pixels, columns, rows, columns * 4, QImage.Format.Format_ARGB32)
        painter.drawImage(self._cell(0, 0).united(self._cell(rows - 1, columns - 1)), image)
        if self._cell(0, 0).height() >= _SEPARATE_PX:
            painter.setPen(QPen(QColor(look.panel), 1))
            for row in range(1, rows):
                y = self._cell(row, 0).top()
                painter.drawLine(QPointF(_LEFT, y), QPointF(self.width() - _RIGHT, y))

    def _paint_sides(self, painter: QPainter) -> None:
        look = theme.current()
        for row, column in np.argwhere(self._sides != 0).tolist():
            box, above = self._cell(row, column), self._sides[row, column] > 0
            edge = box.top() if above else box.bottom() - 3
            painter.fillRect(QRectF(box.left(), edge, box.width(), 3), QColor(look.red if above else look.straw))

    def _paint_words(self, painter: QPainter) -> None:
        look, rows = theme.current(), self._values.shape[0]
        metrics = painter.fontMetrics()
        painter.setPen(QColor(look.faint))
        tall = self._cell(0, 0).height()
        every = max(1, -(-metrics.height() // max(1, int(tall))))
        for row in range(0, rows, every):
            at = self._time_of(row, 0)
            words = f"{day(at)[:3]} {date_and_moment(at)[5:10]}"
            box = QRectF(4, self._cell(row, 0).center().y() - metrics.height() / 2, _LEFT - 10, metrics.height())
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
        for hour in range(0, 25, 3):
            x = _LEFT + hour / 24 * (self.width() - _LEFT - _RIGHT)
            words = moment(self._first_day_ns + hour * 3600 * 10**9, digits=0)[:5] if hour < 24 else "24:00"
            wide = metrics.horizontalAdvance(words)
            left = min(max(x - wide / 2, _LEFT), self.width() - wide - 2)
            painter.drawText(
                QRectF(left, self.height() - _BOTTOM + 2, wide + 2, _BOTTOM - 2), Qt.AlignmentFlag.AlignLeft, words
            )
        painter.setPen(QColor(look.ink))
        subject = self._picture.settings.subject.words if self._picture is not None else ""
        painter.drawText(
            QRectF(4, 2, self.width() - 8, _TOP - 4),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            metrics.elidedText(f"{subject}: {self.words}", Qt.TextElideMode.ElideRight, self.width() - 8),
        )
