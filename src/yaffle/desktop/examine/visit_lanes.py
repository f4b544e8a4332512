"""The lanes of a visit: each connection's exchanges as ledger bars on one time axis, the chain that decided it
marked.
"""

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QMenu, QToolTip, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.ledger_bar import bar_words, paint_bar
from yaffle.desktop.shared.picture_file import save_picture
from yaffle.session.visit import Step, Visit
from yaffle.units import duration

_ROW, _HEAD, _AXIS = 20, 22, 24
_NAMES = 250  # width of the labels
_AFTER = 170  # room behind the last bar for its words
_TICKS = [k * 10**e for e in range(3, 12) for k in (1, 2, 5)]  # ns


@dataclass(frozen=True)
class _Row:
    """A line of the picture: the head of a lane, or a step."""

    top: int
    height: int
    lane: int
    step: int = -1


class VisitLanes(QAbstractScrollArea):
    """Paints only the rows that are seen."""

    chosen = Signal(int)
    wanted = Signal(int)  # a step, to be examined

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._visit: Visit | None = None
        self._rows: list[_Row] = []
        self.selected = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Lanes of the visit: exchanges of each connection over time")
        self.viewport().setMouseTracking(True)

    def show_visit(self, visit: Visit | None) -> None:
        """Shows another visit."""
        self._visit, self._rows, self.selected = visit, [], -1
        top = _AXIS
        lane = -1
        for k, step in enumerate(visit.steps if visit is not None else ()):
            if step.lane != lane:
                lane = step.lane
                self._rows.append(_Row(top, _HEAD, lane))
                top += _HEAD
            self._rows.append(_Row(top, _ROW, lane, k))
            top += _ROW
        self._fit()
        self.verticalScrollBar().setValue(0)
        if visit is not None and visit.to_mend:
            self.select(visit.to_mend[0])
        self.viewport().update()

    def select(self, step: int) -> None:
        """Selects a step, and brings it into view."""
        row = next((r for r in self._rows if r.step == step), None)
        if row is None or step == self.selected:
            return
        self.selected = step
        bar, height = self.verticalScrollBar(), self.viewport().height()
        if row.top < bar.value() + _AXIS or row.top + row.height > bar.value() + height:
            bar.setValue(max(0, row.top - height // 2))
        self.viewport().update()
        self.chosen.emit(step)

    def _fit(self) -> None:
        whole = self._rows[-1].top + _ROW + 6 if self._rows else 0
        self.verticalScrollBar().setPageStep(self.viewport().height())
        self.verticalScrollBar().setSingleStep(_ROW)
        self.verticalScrollBar().setRange(0, max(0, whole - self.viewport().height()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def scrollContentsBy(self, _dx: int, _dy: int) -> None:
        self.viewport().update()

    # --- painting ---
    def _x(self, time_ns: int) -> float:
        assert self._visit is not None
        wide = max(40.0, self.viewport().width() - _NAMES - _AFTER)
        return _NAMES + wide * min(1.0, (time_ns - self._visit.first_ns) / max(1, self._visit.span_ns))

    def paintEvent(self, _event: object) -> None:
        painter, look = QPainter(self.viewport()), theme.current()
        painter.fillRect(self.viewport().rect(), QColor(look.panel))
        if self._visit is None:
            return
        painter.setFont(theme.figures_font())
        above, height = self.verticalScrollBar().value(), self.viewport().height()
        self._ticks(painter, height)
        for row in self._rows:
            top = row.top - above
            if top + row.height < _AXIS or top > height:
                continue
            if row.step < 0:
                painter.setPen(QColor(look.faint))
                painter.drawText(
                    QRectF(6, top + 2, self.viewport().width() - 12, row.height - 2),
                    Qt.AlignmentFlag.AlignVCenter,
                    self._visit.lanes[row.lane],
                )
            else:
                self._step(painter, row, top)
        painter.setClipRect(QRectF(0, _AXIS, self.viewport().width(), height - _AXIS))
        self._links(painter, above)

    def _ticks(self, painter: QPainter, height: int) -> None:
        assert self._visit is not None
        look = theme.current()
        room = max(40.0, self.viewport().width() - _NAMES - _AFTER)
        step = next((t for t in _TICKS if t * room / max(1, self._visit.span_ns) >= 80), _TICKS[-1])
        for k in range(self._visit.span_ns // step + 1):
            x = self._x(self._visit.first_ns + k * step)
            painter.setPen(QPen(QColor(look.line), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, _AXIS), QPointF(x, height))
            painter.setPen(QColor(look.faint))
            painter.drawText(
                QRectF(x - 40, 2, 80, _AXIS - 4), Qt.AlignmentFlag.AlignCenter, duration(k * step) if k else "0"
            )

    def _step(self, painter: QPainter, row: _Row, top: int) -> None:
        assert self._visit is not None
        look, step = theme.current(), self._visit.steps[row.step]
        if row.step == self.selected:
            painter.fillRect(QRectF(0, top, self.viewport().width(), _ROW), QColor(look.moss_soft))
        if row.step in self._visit.chain:
            painter.fillRect(QRectF(0, top + 2, 4, _ROW - 4), QColor(look.moss))
        painter.setPen(QColor(look.ink))
        text = painter.fontMetrics().elidedText(step.label, Qt.TextElideMode.ElideMiddle, _NAMES - 26)
        painter.drawText(QRectF(16, top, _NAMES - 22, _ROW), Qt.AlignmentFlag.AlignVCenter, text)
        left, right = self._x(step.first_ns), self._x(step.last_ns)
        if step.charges.any():
            paint_bar(
                painter,
                QRectF(left, top + 4, max(2.0, right - left), _ROW - 8),
                step.charges,
                float(step.charges.sum()),
            )
        words = duration(step.span_ns) + (f"  {step.outcome}" if step.outcome not in ("", "answered") else "")
        painter.setPen(QColor(look.ink))
        at = max(right, left + 2) + 6
        painter.drawText(QPointF(at, top + _ROW - 6), words)
        if row.step in self._visit.to_mend:
            painter.setPen(QColor(look.red))
            saving, measure = f"potential saving {duration(step.saved_ns)}", painter.fontMetrics().horizontalAdvance
            place = at + measure(words) + 10
            if place + measure(saving) > self.viewport().width() - 4:  # Else before the bar.
                place = max(_NAMES + 4.0, left - measure(saving) - 8)
                painter.fillRect(QRectF(place - 3, top + 3, measure(saving) + 6, _ROW - 6), QColor(look.panel))
            painter.drawText(QPointF(place, top + _ROW - 6), saving)

    def _links(self, painter: QPainter, above: int) -> None:
        """What let each step of the chain begin, as a line from the one to the other."""
        assert self._visit is not None
        middle = {r.step: r.top - above + _ROW / 2 for r in self._rows if r.step >= 0}
        painter.setPen(QPen(QColor(theme.current().moss), 1.6))
        for one, two in zip(self._visit.chain, self._visit.chain[1:], strict=False):
            x = self._x(self._visit.steps[two].first_ns)
            painter.drawLine(QPointF(x, middle[one]), QPointF(x, middle[two]))

    # --- hand and keys ---
    def _step_at(self, y: float) -> int:
        place = y + self.verticalScrollBar().value()
        return next((r.step for r in self._rows if r.top <= place < r.top + r.height), -1) if y >= _AXIS else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.select(self._step_at(event.position().y()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if (step := self._step_at(event.position().y())) >= 0:
            self.wanted.emit(step)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = [r.step for r in self._rows if r.step >= 0]
        moves = {
            Qt.Key.Key_Down: 1,
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_PageDown: 15,
            Qt.Key.Key_PageUp: -15,
            Qt.Key.Key_Home: -len(steps),
            Qt.Key.Key_End: len(steps),
        }
        if event.key() in moves and steps:
            place = steps.index(self.selected) if self.selected in steps else 0
            self.select(steps[min(len(steps) - 1, max(0, place + moves[Qt.Key(event.key())]))])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.selected >= 0:
            self.wanted.emit(self.selected)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Save the picture…", lambda: save_picture(self.viewport()))
        menu.exec(event.globalPos())

    def viewportEvent(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._visit is not None:
            step = self._step_at(event.pos().y())
            QToolTip.showText(event.globalPos(), step_words(self._visit.steps[step]) if step >= 0 else "", self)
            return True
        return super().viewportEvent(event)  # type: ignore[arg-type]


def step_words(step: Step) -> str:
    """A step in words."""
    lines = [f"{step.label}  {step.outcome}".strip(), bar_words(step.charges)]
    if step.saved_ns > 0:
        lines.append(f"fixing this alone saves {duration(step.saved_ns)}")
    return "\n".join(lines)
